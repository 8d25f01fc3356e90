"""A process beside the web server, for what must not hold it up: bounded in time and memory, replaced when it dies."""

import multiprocessing
import threading
from concurrent.futures import CancelledError, Future, ProcessPoolExecutor
from concurrent.futures import TimeoutError as FutureTimeoutError
from concurrent.futures.process import BrokenProcessPool
from typing import Any

from proteron.core.errors import LimitError
from proteron.runner import remote

_STARTS = 3
_LOADS_WITHIN = 300.0  # seconds; a slow machine takes long at its first start


class TooLongError(LimitError):
    """A call took longer than it may; its process was taken down."""


class Sidecar:
    """One process; calls wait for each other. A call that takes too long, or dies, costs only itself."""

    def __init__(self, url: str, memory: int, module: str) -> None:
        self._module = module
        self._arguments = (url, memory)
        self._lock = threading.Lock()
        self._turn = threading.Lock()
        self._executor: ProcessPoolExecutor | None = None
        self._ready: Future[Any] | None = None

    def _running(self) -> tuple[ProcessPoolExecutor, Future[Any]]:
        """The process, and when it has loaded; one found dead is replaced first."""
        with self._lock:
            if self._executor is None or self._ready is None:
                context = multiprocessing.get_context("spawn")
                self._executor = ProcessPoolExecutor(1, context, remote.prepare, self._arguments)
                self._ready = self._executor.submit(remote.call, self._module, "ready")
            return self._executor, self._ready

    def _submit(self, function: str, *arguments: Any) -> tuple[ProcessPoolExecutor, Future[Any]]:
        """Hand a call over once the process has loaded; one found dead, or just taken down, is replaced first."""
        for _ in range(_STARTS):
            executor, ready = self._running()
            try:
                ready.result(_LOADS_WITHIN)
                return executor, executor.submit(remote.call, self._module, function, *arguments)
            except (BrokenProcessPool, CancelledError, FutureTimeoutError, MemoryError, RuntimeError):
                self._drop(executor)
        raise LimitError("The process that does this cannot be started; see the log of the web server.")

    def warm(self) -> None:
        """Start the process, if it is not there, without waiting for it."""
        self._running()

    def call(self, function: str, *arguments: Any, seconds: float) -> Any:
        """Run a function of the process's module, once those before it are done; its seconds count from then on.

        Raises what it raises, `TooLongError` when it takes too long, `LimitError` when its process dies, or when its
        turn does not come within as many seconds.
        """
        if not self._turn.acquire(timeout=seconds):
            raise LimitError("Too much is being done at once; try again in a moment.")
        try:
            return self._call(function, *arguments, seconds=seconds)
        finally:
            self._turn.release()

    def _call(self, function: str, *arguments: Any, seconds: float) -> Any:
        executor, future = self._submit(function, *arguments)
        try:
            return future.result(seconds)
        except FutureTimeoutError as error:
            self._drop(executor)
            raise TooLongError(f"This took longer than {seconds:.0f} s and was stopped; nothing was stored.") from error
        except (BrokenProcessPool, CancelledError) as error:
            self._drop(executor)
            raise LimitError(
                "The process that did this was taken down, perhaps for lack of memory; nothing was stored."
            ) from error

    def _drop(self, executor: ProcessPoolExecutor) -> None:
        with self._lock:
            if executor is self._executor:
                self._executor = None
        for process in list((executor._processes or {}).values()):
            process.kill()
        executor.shutdown(wait=False, cancel_futures=True)

    def close(self) -> None:
        if self._executor is not None:
            self._drop(self._executor)
