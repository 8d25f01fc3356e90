"""The worker: takes jobs from the queue, computes their cells on a pool of processes, survives crashes."""

import asyncio
import multiprocessing
import os
import signal
import threading
from concurrent.futures import ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from typing import Any

import procrastinate
import structlog
from procrastinate import PsycopgConnector
from sqlalchemy import select

from proteron.records.configuration import Configuration
from proteron.records.database import Database
from proteron.records.models import Experiment, OutlookRecord, PanelProfile
from proteron.runner import remote
from proteron.runner.features import enqueue_features
from proteron.runner.queue import Queue, connection_options

_HEARTBEAT = 2.0
_STALLED_AFTER = 8.0
_SWEEP_EVERY = 2.0
_ATTEMPTS = 2
_LEAVE_WITHIN = 8.0

log = structlog.get_logger()


class Pool:
    """Processes that can be killed: a dead or overdue one costs its cell, never the worker."""

    def __init__(self, url: str, size: int, memory: int) -> None:
        self._arguments = (url, memory)
        self._size = size
        self._executor = self._make()

    def _make(self) -> ProcessPoolExecutor:
        context = multiprocessing.get_context("spawn")
        return ProcessPoolExecutor(self._size, context, remote.prepare, self._arguments)

    async def run(self, function: str, *arguments: Any, seconds: float | None = None) -> Any:
        """Await a function of `child` in a pool process; raises `TimeoutError` or `BrokenProcessPool`."""
        executor = self._executor
        try:
            future = asyncio.wrap_future(executor.submit(remote.call, function, *arguments))
            return await asyncio.wait_for(future, seconds)
        except (TimeoutError, BrokenProcessPool):
            if executor is self._executor:
                self.kill()
                self._executor = self._make()
            raise

    def kill(self) -> None:
        for process in list((self._executor._processes or {}).values()):
            process.kill()
        self._executor.shutdown(wait=False, cancel_futures=True)


class Worker:
    """One worker process with its pool; start as many as there are machines."""

    def __init__(self, url: str, settings: Configuration) -> None:
        self.settings = settings
        self.database = Database(url, pool_size=2)
        self.queue = Queue(url)
        self.pool = Pool(url, settings.workers, settings.cell_bytes)
        self.app = procrastinate.App(connector=PsycopgConnector(**connection_options(url)))
        self._outlooks: set[int] = set()
        self.app.task(name="run_cells", queue="work")(self.run_cells)
        self.app.task(name="make_outlook", queue="work")(self.make_outlook)
        self.app.task(name="profile_series", queue="work")(self.profile_series)

    async def run_cells(self, experiment_id: int, keys: list[str]) -> None:
        """Compute the cells of one job, each stored as it finishes."""
        for key in keys:
            if await self._run_cell(experiment_id, key) == "stopped":
                return
        await self.pool.run("complete", experiment_id)

    async def _run_cell(self, experiment_id: int, key: str) -> str:
        seconds = self.settings.cell_seconds
        reason = f"The process that ran this cell died {_ATTEMPTS} times (out of memory?)."
        for _ in range(_ATTEMPTS):
            try:
                return str(await self.pool.run("work_cell", experiment_id, key, seconds=seconds))
            except TimeoutError:
                reason = f"The cell took longer than its limit of {seconds:.0f} s and was stopped."
                break
            except BrokenProcessPool:
                log.warning("pool process died", experiment=experiment_id, cell=key[:12])
        await self.pool.run("give_up", experiment_id, key, reason)
        return "failed"

    async def make_outlook(self, outlook_id: int) -> None:
        """Refit for an outlook, unless this worker is at it already."""
        if outlook_id in self._outlooks:
            return
        self._outlooks.add(outlook_id)
        try:
            await self.pool.run("work_outlook", outlook_id, seconds=self.settings.cell_seconds)
        except (TimeoutError, BrokenProcessPool):
            reason = "The process that made this outlook died or took longer than its limit."
            await self.pool.run("give_up_outlook", outlook_id, reason)
        finally:
            self._outlooks.discard(outlook_id)

    async def profile_series(self, profile_id: int, series: list[int]) -> None:
        """Features of some series of a panel, stored together."""
        try:
            await self.pool.run("work_features", profile_id, series, seconds=self.settings.cell_seconds)
        except (TimeoutError, BrokenProcessPool):
            reason = "The process that computed these features died or took longer than its limit."
            await self.pool.run("give_up_features", profile_id, reason)

    async def _sweep(self) -> None:
        """Give back jobs of dead workers, and requeue cells no job stands for any more."""
        quiet: dict[int, int] = {}
        while True:
            await asyncio.sleep(_SWEEP_EVERY)
            try:
                for job in await self.app.job_manager.get_stalled_jobs(seconds_since_heartbeat=_STALLED_AFTER):
                    log.info("job taken up again", job=job.id)
                    await self.app.job_manager.retry_job(job)
                for experiment_id in await asyncio.to_thread(self._lost, quiet):
                    await self.pool.run("requeue", experiment_id)
                await asyncio.to_thread(self._queue_outlooks)
                await asyncio.to_thread(self._queue_features)
            except (procrastinate.exceptions.ConnectorException, BrokenProcessPool, OSError) as error:
                log.warning("sweep failed", error=str(error))

    def _lost(self, quiet: dict[int, int]) -> list[int]:
        """Running experiments that had no job twice in a row: theirs were lost."""
        with self.database.session() as session:
            query = select(Experiment.id).where(Experiment.state.in_(("queued", "running")))
            running = list(session.scalars(query))
        for experiment_id in [*running, *(set(quiet) - set(running))]:
            idle = experiment_id in running and not self.queue.waiting(experiment_id)
            quiet[experiment_id] = quiet.get(experiment_id, 0) + 1 if idle else 0
        lost = [experiment_id for experiment_id, times in quiet.items() if times >= 2]
        quiet.update(dict.fromkeys(lost, 0))
        return lost

    async def run(self) -> None:
        """Work until SIGTERM or SIGINT; a running cell is left to be taken up again."""
        stopped = asyncio.Event()
        loop = asyncio.get_running_loop()
        for signum in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
            loop.add_signal_handler(signum, stopped.set)
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
            _leave_within(_LEAVE_WITHIN)
            self.pool.kill()
            sweep.cancel()
            work.cancel()
            await asyncio.wait({sweep, work}, timeout=3)
        self.queue.close()
        self.database.close()

    def _queue_features(self) -> None:
        """Features whose jobs were lost are queued again; those that wait already are not queued twice."""
        with self.database.session() as session:
            for profile in session.scalars(select(PanelProfile).where(PanelProfile.state == "running")):
                enqueue_features(session, self.queue, profile)

    def _queue_outlooks(self) -> None:
        """Outlooks wait for their experiment, and survive a lost job."""
        query = (
            select(OutlookRecord.id)
            .join(Experiment, Experiment.id == OutlookRecord.experiment_id)
            .where(OutlookRecord.state == "queued", Experiment.state.in_(("done", "stopped", "failed")))
        )
        with self.database.session() as session:
            waiting = list(session.scalars(query))
        for outlook_id in waiting:
            if outlook_id not in self._outlooks:
                self.queue.defer_outlook(outlook_id)


def _leave_within(seconds: float) -> None:
    """End this process by then, whatever still waits for a database that is gone; nothing is lost by it."""
    last = threading.Timer(seconds, os._exit, (0,))
    last.daemon = True
    last.start()


def run_worker(url: str, settings: Configuration) -> None:
    """Run a worker in this process until it is told to stop."""
    asyncio.run(Worker(url, settings).run())
