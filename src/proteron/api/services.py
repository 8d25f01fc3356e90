"""What every route can reach: database, queue, cached panels and chains, the event hub."""

import threading
from collections import OrderedDict
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from flask import current_app
from pydantic import BaseModel
from werkzeug.wrappers import Response

from proteron.api.events import Hub
from proteron.core.errors import ProteronError, SettingsError
from proteron.core.flatten import Chain, FittedChain
from proteron.core.panel import Panel
from proteron.records.configuration import Configuration
from proteron.records.database import Database
from proteron.runner.plans import PanelCache
from proteron.runner.queue import Queue
from proteron.runner.sidecar import Sidecar

_INTERACTIVE = 3
_WAIT_SECONDS = 30.0


class BusyError(ProteronError):
    """Too much is being computed at once."""

    code = "busy"


class Services:
    """Opened at first use, so that each process has its own connections after forking."""

    def __init__(self, settings: Configuration, url: str) -> None:
        self.settings = settings
        self.url = url
        self._lock = threading.RLock()
        self._panel_lock = threading.Lock()
        self._slots = threading.BoundedSemaphore(_INTERACTIVE)
        self._panels = PanelCache(4)
        self._chains: OrderedDict[tuple[int, str, int], FittedChain] = OrderedDict()
        self._opened: dict[str, Any] = {}

    def _open(self, name: str, make: Any) -> Any:
        with self._lock:
            if name not in self._opened:
                self._opened[name] = make()
            return self._opened[name]

    @property
    def database(self) -> Database:
        return self._open("database", lambda: Database(self.url))

    @property
    def queue(self) -> Queue:
        return self._open("queue", lambda: Queue(self.url))

    @property
    def sidecar(self) -> Sidecar:
        """The process that reads what users bring."""
        return self._open("sidecar", lambda: Sidecar(self.url, self.settings.intake_bytes))

    @property
    def hub(self) -> Hub:
        return self._open("hub", lambda: Hub(self.url, self.settings.streams))

    def panel(self, dataset_id: int) -> Panel:
        """The panel of a dataset, kept in memory."""
        with self._panel_lock, self.database.session() as session:
            return self._panels.get(session, dataset_id)

    def chain(self, dataset_id: int, chain: Chain, until: int) -> FittedChain:
        """A fitted chain, kept by what it depends on."""
        key = (dataset_id, chain.hash, until)
        with self._lock:
            found = self._chains.get(key)
        if found is None:
            found = chain.fit(self.panel(dataset_id), until)
            with self._lock:
                self._chains[key] = found
                while len(self._chains) > 64:
                    self._chains.popitem(last=False)
        return found

    @contextmanager
    def computing(self) -> Iterator[None]:
        """One of a few slots for work a hand is waiting for; raises `BusyError` when none gets free."""
        if not self._slots.acquire(timeout=_WAIT_SECONDS):
            raise BusyError("Too much is being computed at once; try again in a moment.")
        try:
            yield
        finally:
            self._slots.release()


def services() -> Services:
    found: Services = current_app.extensions["proteron"]
    return found


def answer(shape: BaseModel, status: int = 200) -> Response:
    """A typed answer as JSON; NaN becomes null."""
    return Response(shape.model_dump_json(), status, content_type="application/json")


def chain_of(stages: list[dict[str, Any]], name: str = "") -> Chain:
    """A chain from posted stages; raises `SettingsError` naming what is wrong with them."""
    return Chain.from_document({"stages": stages, "name": name})


def series_index(panel: Panel, series: int) -> int:
    """Raise `SettingsError` unless the panel has such a series."""
    if not 0 <= series < len(panel):
        raise SettingsError(f"There are {len(panel)} series; there is no number {series}.", field="series")
    return series
