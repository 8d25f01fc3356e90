"""Server-sent events: one listener per process, many streams."""

import json
import queue
import threading
import time
from collections.abc import Iterator

import psycopg
import structlog

from proteron.core.errors import ProteronError

_HEARTBEAT = 4.0
log = structlog.get_logger()


class StreamsError(ProteronError):
    """More event streams are open than the server keeps threads for."""

    code = "busy"


class Hub:
    """Listens to PostgreSQL and hands every notice to the streams of its project."""

    def __init__(self, url: str, limit: int) -> None:
        self._url = url
        self._limit = limit
        self._lock = threading.Lock()
        self._streams: dict[queue.SimpleQueue[str], int] = {}
        threading.Thread(target=self._listen, name="listen", daemon=True).start()

    def _listen(self) -> None:
        while True:
            try:
                with psycopg.connect(self._url, autocommit=True) as connection:
                    connection.execute("LISTEN proteron")
                    self._hand_out(None, '{"resync": true}')
                    for notice in connection.notifies():
                        self._hand_out(json.loads(notice.payload).get("project"), notice.payload)
            except psycopg.Error as error:
                log.warning("event listener reconnects", error=str(error).strip())
                time.sleep(1.0)

    def _hand_out(self, project: int | None, payload: str) -> None:
        with self._lock:
            for stream, wanted in self._streams.items():
                if project is None or project == wanted:
                    stream.put(payload)

    def stream(self, project: int) -> Iterator[str]:
        """Events of a project as text/event-stream lines, with heartbeats; raises `StreamsError` at the limit."""
        mine: queue.SimpleQueue[str] = queue.SimpleQueue()
        with self._lock:
            if len(self._streams) >= self._limit:
                raise StreamsError(f"{self._limit} event streams are open, which is the limit; close a tab.")
            self._streams[mine] = project
        return self._lines(mine)

    def _lines(self, mine: "queue.SimpleQueue[str]") -> Iterator[str]:
        try:
            yield 'retry: 1000\ndata: {"resync": true}\n\n'
            while True:
                try:
                    yield f"data: {mine.get(timeout=_HEARTBEAT)}\n\n"
                except queue.Empty:
                    yield ": still here\n\n"
        finally:
            with self._lock:
                self._streams.pop(mine, None)
