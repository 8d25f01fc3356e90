"""Processes that compute cells for a search: what takes too long, needs too much or dies costs itself alone."""

import multiprocessing
import os
import resource
import signal
import sys
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from multiprocessing.connection import Connection, wait
from multiprocessing.context import BaseContext
from pathlib import Path
from typing import Any

from numba.core import event

from proteron.core.judge import Cell, CellResult, compute_cell, process_context, reason_of, without_main
from proteron.core.panel import Panel

_COMPILES_WITHIN = 300.0  # seconds that are not counted: a process begins, or compiles or loads kernels
_TICK = 0.05
_ENDS_WITHIN = 5.0


@dataclass(frozen=True)
class Found:
    """What became of a cell: its result, or a reason; `stalled` where its process was stopped over it."""

    cell: Cell
    result: CellResult | None
    reason: str
    seconds: float
    stalled: bool = False


@dataclass
class _Process:
    process: Any
    connection: Connection
    job: int = -1
    cells: list[Cell] = field(default_factory=list)
    since: float = 0.0
    paused: float | None = None  # since when it begins or compiles kernels, which does not count
    begun: bool = False  # whether it was heard of

    def counted(self, now: float) -> float:
        """Seconds of the present cell that count."""
        return (now if self.paused is None else self.paused) - self.since

    def overdue(self, now: float, limit: float) -> bool:
        return self.counted(now) > limit or (self.paused is not None and now - self.paused > _COMPILES_WITHIN)

    def hear(self, compiling: bool, now: float) -> None:
        """It, or its compiling of kernels, begins or has begun."""
        self.begun = True
        if compiling:
            self.paused = now if self.paused is None else self.paused
        elif self.paused is not None:
            self.since, self.paused = self.since + now - self.paused, None


class Pool:
    """Some processes that know one panel. Forked from this process where it has one thread, else from a server that is
    started once and has imported what they need."""

    def __init__(self, panel: Panel, workers: int, memory: int) -> None:
        self._panel, self._memory = panel, memory
        alone = threading.active_count() == 1 and sys.platform == "linux"
        self._context: BaseContext = multiprocessing.get_context("fork") if alone else process_context()
        self._idle = [self._started() for _ in range(workers)]

    def _started(self) -> _Process:
        ours, theirs = self._context.Pipe()
        process = self._context.Process(target=_serve, args=(theirs, self._panel, self._memory), daemon=True)  # type: ignore[attr-defined]
        with without_main():
            process.start()
        theirs.close()
        return _Process(process, ours)

    def run(
        self, jobs: Sequence[Sequence[Cell]], limit: float, until: float | None = None,
        stop_asked: Callable[[], bool] = bool,
    ) -> Iterator[tuple[int, Found]]:  # fmt: skip
        """Compute the cells of every job one after the other, jobs beside each other; tells of every cell as it ends.

        A cell that takes longer than `limit` seconds is stopped, and the rest of its job is not done. Nothing goes on
        after the moment `until` (monotonic) or when a stop is asked for; what is at work then is told nothing of.
        """
        waiting = [(number, list(cells)) for number, cells in enumerate(jobs) if cells]
        busy: list[_Process] = []
        try:
            while waiting or busy:
                while waiting and self._idle:
                    busy.append(self._given(*waiting.pop(0)))
                ready = wait([each.connection for each in busy], _TICK)
                for each in [each for each in busy if each.connection in ready]:
                    yield from self._heard(each, busy)
                now = time.monotonic()
                for each in [each for each in busy if each.overdue(now, limit)]:
                    seconds = each.counted(now)
                    reason = f"A fit took longer than {limit:.3g} s and was stopped."
                    yield each.job, Found(each.cells[0], None, reason, seconds, stalled=True)
                    self._lost(each, busy)
                if stop_asked() or (until is not None and now > until):
                    return
        finally:
            for each in busy:
                self._lost(each, busy)

    def _given(self, job: int, cells: list[Cell]) -> _Process:
        each, now = self._idle.pop(), time.monotonic()
        each.job, each.cells, each.since, each.paused = job, cells, now, None if each.begun else now
        each.connection.send(cells)
        return each

    def _heard(self, each: _Process, busy: list[_Process]) -> Iterator[tuple[int, Found]]:
        now = time.monotonic()
        try:
            told = each.connection.recv()
        except (EOFError, OSError):
            seconds = each.counted(now)
            reason = "The process that computed this died, perhaps for lack of memory."
            yield each.job, Found(each.cells[0], None, reason, seconds)
            self._lost(each, busy)
            return
        if isinstance(told, bool):
            each.hear(told, now)
            return
        cell, (result, reason) = each.cells.pop(0), told
        yield each.job, Found(cell, result, reason, each.counted(now))
        each.since, each.paused = now, None
        if not each.cells or result is None:  # what fails on one fold is not tried on the next
            busy.remove(each)
            self._idle.append(each)

    def _lost(self, each: _Process, busy: list[_Process]) -> None:
        """End a process and begin another in its place."""
        busy.remove(each)
        each.process.kill()
        each.process.join(_ENDS_WITHIN)
        each.connection.close()
        self._idle.append(self._started())

    def wait_until_begun(self) -> None:
        """Return once one of the processes is at work, or after as long as a process may take to begin."""
        wait([each.connection for each in self._idle], _COMPILES_WITHIN)

    def close(self) -> None:
        """End all of them."""
        for each in self._idle:
            each.process.kill()
            each.process.join(_ENDS_WITHIN)
            each.connection.close()
        self._idle.clear()


def _serve(connection: Connection, panel: Panel, memory: int) -> None:
    """Compute lists of cells until nobody asks any more."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    with suppress(OSError, ValueError):
        most = _in_use() + memory
        resource.setrlimit(resource.RLIMIT_DATA, (most, most))
    parent = os.getppid()
    connection.send(False)  # it has begun
    event.register("numba:compiler_lock", _Compiling(connection))  # type: ignore[no-untyped-call]
    while os.getppid() == parent:
        try:
            cells = connection.recv()
        except (EOFError, OSError):
            return
        for cell in cells:
            found: tuple[CellResult | None, str]
            try:
                found = compute_cell(panel, cell), ""
            except Exception as error:  # whatever a candidate raises is its own fate
                found = None, reason_of(error)
            connection.send(found)
            if found[0] is None:
                break


class _Compiling(event.Listener):
    """Tells when kernels begin to be compiled or loaded, and when they are."""

    def __init__(self, connection: Connection) -> None:
        self._connection, self._depth = connection, 0

    def on_start(self, event: Any) -> None:
        self._depth += 1
        if self._depth == 1:
            self._connection.send(True)

    def on_end(self, event: Any) -> None:
        self._depth -= 1
        if self._depth == 0:
            self._connection.send(False)


def _in_use() -> int:
    """Bytes of data that this process has taken."""
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith("VmData"):
            return int(line.split()[1]) * 1024
    return 0
