"""What every service can reach: database, queue, reading process, cached panels and chains, slots for quick work."""

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable, Iterator
from contextlib import contextmanager
from typing import Any, Generic, TypeVar

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


Key = TypeVar("Key", bound=Hashable)
Kept = TypeVar("Kept")


class Shelf(Generic[Key, Kept]):
    """The latest that were made, kept in memory by what they depend on."""

    def __init__(self, room: int) -> None:
        self._room = room
        self._lock = threading.Lock()
        self._kept: OrderedDict[Key, Kept] = OrderedDict()

    def get(self, key: Key, make: Callable[[], Kept]) -> Kept:
        """What stands for a key, made where it is not there; two that ask at once may both make it."""
        with self._lock:
            if key in self._kept:
                self._kept.move_to_end(key)
                return self._kept[key]
        made = make()
        with self._lock:
            self._kept[key] = made
            while len(self._kept) > self._room:
                self._kept.popitem(last=False)
        return made


class Resources:
    """Opened at first use, so that each process has its own connections after forking."""

    def __init__(self, settings: Configuration, url: str) -> None:
        self.settings = settings
        self.url = url
        self._lock = threading.RLock()
        self._panel_lock = threading.Lock()
        self._slots = threading.BoundedSemaphore(_INTERACTIVE)
        self._panels = PanelCache(4)
        self._chains: Shelf[tuple[int, str, int], FittedChain] = Shelf(64)
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
        return self._chains.get(key, lambda: chain.fit(self.panel(dataset_id), until))

    @contextmanager
    def computing(self) -> Iterator[None]:
        """One of a few slots for work a hand is waiting for; raises `BusyError` when none gets free."""
        if not self._slots.acquire(timeout=_WAIT_SECONDS):
            raise BusyError("Too much is being computed at once; try again in a moment.")
        try:
            yield
        finally:
            self._slots.release()
