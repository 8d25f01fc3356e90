"""What a pool process keeps, and how it comes to be."""

import ctypes
import os
import resource
import signal
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

import pyarrow as pa
from sqlalchemy import Connection

from proteron.records.database import Database
from proteron.records.datasets import PanelCache
from proteron.runner.queue import Queue

_PR_SET_PDEATHSIG = 1


class Here:
    """What this process keeps between steps; `deadline` is when the present one runs out of time (monotonic)."""

    url: str
    database: Database
    panels: PanelCache
    deadline: float | None = None
    tell_clock: Callable[[bool], object] = bool  # whether the worker counts the seconds of the present step
    _seconds: float | None = None
    _locks: Connection | None = None

    @classmethod
    def locks(cls) -> Connection:
        """The connection that holds this process's advisory locks; one that was lost is made anew."""
        if cls._locks is None or cls._locks.closed or cls._locks.invalidated:
            cls._locks = cls.database.engine.connect().execution_options(isolation_level="AUTOCOMMIT")
        return cls._locks

    @classmethod
    @contextmanager
    def queue(cls) -> Iterator[Queue]:
        """The submitting side of the queue, for a moment."""
        with Queue(cls.url) as opened:
            yield opened

    @classmethod
    def allow(cls, seconds: float | None) -> None:
        """The present step may take so long."""
        cls._seconds = seconds
        cls.deadline = None if seconds is None else time.monotonic() + seconds

    @classmethod
    @contextmanager
    def loading(cls) -> Iterator[None]:
        """What is loaded in here is not counted: the present step's time begins anew afterwards."""
        cls.tell_clock(False)
        try:
            yield
        finally:
            cls.tell_clock(True)
            cls.allow(cls._seconds)


def prepare(url: str, memory: int) -> None:
    """Start of a pool process: die with the parent, keep to the memory limit, ignore Ctrl-C."""
    parent = os.getppid()
    ctypes.CDLL("libc.so.6").prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
    if os.getppid() != parent or parent == 1:
        os._exit(1)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    resource.setrlimit(resource.RLIMIT_DATA, (memory, memory))
    pa.set_memory_pool(pa.system_memory_pool())  # the one that gives memory back
    Here.url = url
    Here.database = Database(url, pool_size=2)
    Here.panels = PanelCache(2)


def here() -> type[Here]:
    """What this process keeps; set by `prepare`."""
    return Here
