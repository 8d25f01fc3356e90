"""A process that computes one step at a time; one that takes too long, or dies, costs itself and nothing else."""

import multiprocessing
import time
from collections.abc import Callable
from multiprocessing.connection import Connection
from multiprocessing.context import SpawnProcess
from typing import Any

from proteron.runner import remote

_LOOK_EVERY = 0.25
_ASK_EVERY = 1.0
_GRACE = 2.0
_ENDS_WITHIN = 10.0


TOOK_TOO_LONG = "This took longer than its limit"


class DiedError(Exception):
    """The process ended while it was at a step."""


class OverdueError(Exception):
    """The step took longer than its limit; its process was killed."""


class UnwantedError(Exception):
    """Nobody wants the step any more, and it did not stop by itself; its process was killed."""


class RefusedError(Exception):
    """The step raised something; what is said of it."""


class _Watch:
    """What is still allowed to a step: its seconds, or those of loading, and whether anybody wants it."""

    def __init__(self, seconds: float | None, loads_within: float, wanted: Callable[[], bool] | None) -> None:
        self._begun = self._asked = time.monotonic()
        self._seconds = self._limit = seconds
        self._loads_within = loads_within
        self._wanted = wanted
        self._unwanted_since: float | None = None

    def count(self, running: bool) -> None:
        """From now on the seconds of the step count, or those of loading."""
        self._begun = time.monotonic()
        self._limit = self._seconds if running or self._seconds is None else self._loads_within

    def look(self) -> None:
        """Raises `OverdueError` or `UnwantedError` where the step is to end."""
        now = time.monotonic()
        if self._limit is not None and now - self._begun > self._limit:
            raise OverdueError
        if self._wanted is not None and self._unwanted_since is None and now - self._asked > _ASK_EVERY:
            self._asked = now
            self._unwanted_since = None if self._wanted() else now
        if self._unwanted_since is not None and now - self._unwanted_since > _GRACE:
            raise UnwantedError


class Slot:
    """One pool process, started when it is first needed and again after it was lost."""

    loads_within = 300.0  # seconds; a slow machine compiles for minutes at its first start

    def __init__(self, url: str, memory: int, serve: Callable[..., None] = remote.serve) -> None:
        self._arguments = (url, memory)
        self._serve = serve
        self._process: SpawnProcess | None = None
        self._connection: Connection | None = None

    def start(self) -> None:
        """Start the process without waiting for it."""
        self._opened()

    def _opened(self) -> tuple[SpawnProcess, Connection]:
        if self._process is None or self._connection is None or not self._process.is_alive():
            self.kill()
            context = multiprocessing.get_context("spawn")
            ours, theirs = context.Pipe()
            process = context.Process(target=self._serve, args=(theirs, *self._arguments), daemon=True)
            process.start()
            theirs.close()
            self._process, self._connection = process, ours
        return self._process, self._connection

    def call(
        self,
        part: str,
        task: str,
        job: dict[str, Any],
        *extra: Any,
        seconds: float | None = None,
        wanted: Callable[[], bool] | None = None,
    ) -> Any:
        """Have `part` of a kind of work done in the process, and wait for the answer.

        `wanted` is asked every second; what is not wanted any more gets two seconds to stop by itself. Raises
        `OverdueError` after `seconds` (not counting those in which the process says that it loads, which have a limit
        of their own), `DiedError`, `UnwantedError`, or `RefusedError` with what the part raised.
        """
        process, connection = self._opened()
        try:
            connection.send((part, task, seconds, job, extra))
            return self._answer(process, connection, seconds, wanted)
        except (EOFError, OSError) as error:
            process.join(_ENDS_WITHIN)
            code = process.exitcode
            self.kill()
            raise DiedError(f"exit code {code}") from error

    def _answer(
        self, process: SpawnProcess, connection: Connection, seconds: float | None, wanted: Callable[[], bool] | None
    ) -> Any:
        watch = _Watch(seconds, self.loads_within, wanted)
        while True:
            if connection.poll(_LOOK_EVERY):
                fine, answer = connection.recv()
                if fine != remote.CLOCK:
                    break
                watch.count(answer)
            elif not process.is_alive() and not connection.poll(0):
                raise EOFError
            try:
                watch.look()
            except (OverdueError, UnwantedError):
                self.kill()
                raise
        if not fine:
            raise RefusedError(answer)
        return answer

    def stop(self) -> None:
        """End the process at once, from any thread; whoever waits for it gets `DiedError`, and tidies up."""
        process = self._process
        if process is not None:
            process.kill()

    def kill(self) -> None:
        """End the process at once and let go of it; only for whoever calls it."""
        if self._process is not None:
            self._process.kill()
            self._process.join(_ENDS_WITHIN)
        if self._connection is not None:
            self._connection.close()
        self._process = self._connection = None
