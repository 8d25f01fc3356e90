"""The worker: takes jobs from the queue, has their steps done by its processes, survives crashes."""

import asyncio
import os
import signal
import threading
import time
from typing import Any

import procrastinate
import structlog
from procrastinate import PsycopgConnector

from proteron.records.configuration import Configuration
from proteron.records.database import Database
from proteron.records.kept import purge
from proteron.records.logs import configure_logs
from proteron.runner.queue import Queue, connection_options
from proteron.runner.slot import TOOK_TOO_LONG, DiedError, OverdueError, RefusedError, Slot, UnwantedError
from proteron.runner.work import KINDS, Job, LongWork

_HEARTBEAT = 2.0
_STALLED_AFTER = 8.0
_SWEEP_EVERY = 2.0
_ATTEMPTS = 2
_LEAVE_WITHIN = 8.0
_PURGE_EVERY = 3600.0

log = structlog.get_logger()


class Worker:
    """One worker process with its pool; start as many as there are machines."""

    def __init__(self, url: str, settings: Configuration) -> None:
        self.settings = settings
        self.database = Database(url, pool_size=2 + settings.workers)
        self.queue = Queue(url)
        self.slots = [Slot(url, settings.cell_bytes) for _ in range(settings.workers)]
        self.app = procrastinate.App(connector=PsycopgConnector(**connection_options(url)))
        self._free: asyncio.Queue[Slot] = asyncio.Queue()
        self._leaving = False
        self._purge_next = 0.0
        for kind in KINDS.values():
            self.app.task(name=kind.task, queue="work")(self._task_of(kind))

    def _task_of(self, kind: LongWork) -> Any:
        async def work(**job: Any) -> None:
            slot = await self._free.get()
            try:
                await asyncio.to_thread(self.work, slot, kind, job)
            finally:
                self._free.put_nowait(slot)

        return work

    def work(self, slot: Slot, kind: LongWork, job: Job) -> None:
        """Do a job in one process, step by step, each with a fate of its own."""
        for step in kind.steps(job):
            if self._leaving or self._step(slot, kind, step, job) == "stopped":
                return
        slot.call("end", kind.task, job)

    def _step(self, slot: Slot, kind: LongWork, step: Any, job: Job) -> str:
        """Have a step done; what kills its process, or takes too long, is done in parts, or given up with a reason."""
        parts = kind.parts(step)
        limit = min(self.settings.cell_seconds, kind.limit(job) or self.settings.cell_seconds)
        seconds = limit * max(len(parts), 1)
        reason = f"The process that computed this died {_ATTEMPTS} times, perhaps for lack of memory."
        for _ in range(_ATTEMPTS):
            try:
                wanted = self._wanted(kind, job)
                return str(slot.call("run", kind.task, job, step, seconds=seconds, wanted=wanted))
            except UnwantedError:
                return "stopped"
            except OverdueError:
                reason = f"{TOOK_TOO_LONG} of {limit:.3g} s and was stopped."
                break
            except RefusedError as error:
                reason = str(error)
                break
            except DiedError as error:
                if self._leaving:
                    return "stopped"
                log.warning("pool process died", task=kind.task, step=str(step)[:60], why=str(error))
        if len(parts) > 1:
            outcomes = {self._step(slot, kind, part, job) for part in parts}
            return "stopped" if "stopped" in outcomes else "failed"
        log.warning("given up", task=kind.task, step=str(step)[:60], reason=reason)
        slot.call("give_up", kind.task, job, step, reason)
        return "failed"

    def _wanted(self, kind: LongWork, job: Job) -> Any:
        def asked() -> bool:
            if self._leaving:
                return False
            with self.database.session() as session:
                return kind.wanted(session, job)

        return asked

    async def _sweep(self) -> None:
        """Give back jobs of dead workers, and queue again what no job stands for; it goes on whatever happens."""
        while True:
            await asyncio.sleep(_SWEEP_EVERY)
            try:
                for job in await self.app.job_manager.get_stalled_jobs(seconds_since_heartbeat=_STALLED_AFTER):
                    log.info("job taken up again", job=job.id)
                    await self.app.job_manager.retry_job(job)
            except Exception as error:  # without the sweep, lost work would stay lost
                log.warning("stalled jobs could not be given back", error=repr(error)[:300])
            try:
                await asyncio.to_thread(self._purge)
            except Exception as error:  # as above
                log.warning("deleted records could not be removed", error=repr(error)[:300])
            for kind in KINDS.values():
                try:
                    await asyncio.to_thread(self._find_lost, kind)
                except Exception as error:  # as above
                    log.warning("sweep failed", task=kind.task, error=repr(error)[:300])

    def _purge(self) -> None:
        if time.monotonic() < self._purge_next:
            return
        self._purge_next = time.monotonic() + _PURGE_EVERY
        with self.database.session() as session:
            gone = purge(session)
        if gone:
            log.info("deleted records removed for good", count=gone)

    def _find_lost(self, kind: LongWork) -> None:
        with self.database.session() as session:
            kind.lost(session, self.queue)

    async def run(self) -> None:
        """Work until SIGTERM or SIGINT; a running step is left to be taken up again."""
        stopped = asyncio.Event()
        loop = asyncio.get_running_loop()
        for signum in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
            loop.add_signal_handler(signum, stopped.set)
        for slot in self.slots:
            slot.start()
            self._free.put_nowait(slot)
        async with self.app.open_async():
            sweep = asyncio.create_task(self._sweep())
            work = asyncio.create_task(
                self.app.run_worker_async(
                    queues=["work"], concurrency=self.settings.workers, install_signal_handlers=False,
                    update_heartbeat_interval=_HEARTBEAT, stalled_worker_timeout=_STALLED_AFTER,
                    fetch_job_polling_interval=1.0, delete_jobs="successful", shutdown_graceful_timeout=1,
                )
            )  # fmt: skip
            log.info("worker ready", pid=os.getpid(), processes=self.settings.workers)
            await asyncio.wait({asyncio.create_task(stopped.wait()), work}, return_when=asyncio.FIRST_COMPLETED)
            self._leaving = True
            _leave_within(_LEAVE_WITHIN)
            for slot in self.slots:
                slot.stop()
            sweep.cancel()
            work.cancel()
            await asyncio.wait({sweep, work}, timeout=3)
        self.queue.close()
        self.database.close()


def _leave_within(seconds: float) -> None:
    """End this process by then, whatever still waits for a database that is gone; nothing is lost by it."""
    last = threading.Timer(seconds, os._exit, (0,))
    last.daemon = True
    last.start()


def run_worker(url: str, settings: Configuration) -> None:
    """Run a worker in this process until it is told to stop."""
    configure_logs()
    asyncio.run(Worker(url, settings).run())
