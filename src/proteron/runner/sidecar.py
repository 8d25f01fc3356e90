"""A process beside the web server, for what must not hold it up: bounded in time and memory, replaced when it dies."""

import multiprocessing
import threading
from concurrent.futures import CancelledError, Future, ProcessPoolExecutor
from concurrent.futures import TimeoutError as FutureTimeoutError
from concurrent.futures.process import BrokenProcessPool
from typing import Any

from proteron.core.errors import LimitError
from proteron.runner import remote


class Sidecar:
    """One process; calls wait for each other. A call that takes too long, or dies, costs only itself."""

    def __init__(self, url: str, memory: int, module: str) -> None:
        self._module = module
        self._arguments = (url, memory)
        self._lock = threading.Lock()
        self._executor: ProcessPoolExecutor | None = None

    def _running(self) -> ProcessPoolExecutor:
        with self._lock:
            if self._executor is None:
                context = multiprocessing.get_context("spawn")
                self._executor = ProcessPoolExecutor(1, context, remote.prepare, self._arguments)
            return self._executor

    def _submit(self, function: str, *arguments: Any) -> tuple[ProcessPoolExecutor, Future[Any]]:
        """Hand a call over; a process found dead, or just taken down by another call, is replaced first."""
        while True:
            executor = self._running()
            try:
                return executor, executor.submit(remote.call, self._module, function, *arguments)
            except (BrokenProcessPool, RuntimeError):
                self._drop(executor)

    def warm(self) -> None:
        """Start the process, if it is not there, without waiting for it."""
        self._submit("ready")

    def call(self, function: str, *arguments: Any, seconds: float) -> Any:
        """Run a function of the process's module; raises what it raises, or `LimitError` when it takes too much."""
        executor, future = self._submit(function, *arguments)
        try:
            return future.result(seconds)
        except FutureTimeoutError as error:
            self._drop(executor)
            raise LimitError(f"This took longer than {seconds:.0f} s and was stopped; nothing was stored.") from error
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
