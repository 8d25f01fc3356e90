"""What every service can reach: database, queue, reading process, cached panels and chains, slots for quick work."""

import threading
from collections import OrderedDict
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from proteron.core.errors import ProteronError
from proteron.core.flatten import Chain, FittedChain
from proteron.core.panel import Panel
from proteron.records.configuration import Configuration
from proteron.records.database import Database
from proteron.records.datasets import PanelCache
from proteron.runner.queue import Queue
from proteron.runner.sidecar import Sidecar

_INTERACTIVE = 3
_WAIT_SECONDS = 30.0


class BusyError(ProteronError):
    """Too much is being computed at once."""

    code = "busy"


class Resources:
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

    def open(self, name: str, make: Any) -> Any:
        """What `make` gives, made once in this process."""
        with self._lock:
            if name not in self._opened:
                self._opened[name] = make()
            return self._opened[name]

    @property
    def database(self) -> Database:
        return self.open("database", lambda: Database(self.url))

    @property
    def queue(self) -> Queue:
        return self.open("queue", lambda: Queue(self.url))

    @property
    def sidecar(self) -> Sidecar:
        """The process that reads what users bring."""
        return self.open("sidecar", lambda: Sidecar(self.url, self.settings.intake_bytes, "intake"))

    @property
    def trial(self) -> Sidecar:
        """The process in which contenders are tried, so that no request waits for a fit."""
        return self.open("trial", lambda: Sidecar(self.url, self.settings.cell_bytes, "trial"))

    def panel(self, dataset_id: int) -> Panel:
        """The panel of a dataset, kept in memory."""
        with self._panel_lock, self.database.session() as session:
            return self._panels.get(session, dataset_id)

    def chain(self, dataset_id: int, chain: Chain, until: int) -> FittedChain:
        """A chain fitted as of a cutoff, kept by what it depends on."""
        until = self.panel(dataset_id).known(until)
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
