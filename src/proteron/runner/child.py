"""What happens inside a pool process: one cell, or one outlook, computed and stored."""

import ctypes
import os
import resource
import signal
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa
from sqlalchemy import text

from proteron.core.errors import ProteronError, StoppedError
from proteron.core.judge import Cell, compute_cell
from proteron.core.outlook import outlook
from proteron.core.panel import Panel
from proteron.records import experiments as records
from proteron.records.chains import end_profile
from proteron.records.database import Database, notify, pack_arrays
from proteron.records.findings import finish_outlook, get_outlook
from proteron.runner.features import compute_features
from proteron.runner.memory import PeakMemory
from proteron.runner.plans import PanelCache, cells_of, enqueue, finish_if_complete, plan_of
from proteron.runner.queue import Queue

_PR_SET_PDEATHSIG = 1
_ASK_EVERY = 0.5


class Here:
    """What this process keeps between cells."""

    url: str
    database: Database
    panels: PanelCache
    cells: dict[int, dict[str, Cell]]


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
    Here.cells = {}


def here() -> type[Here]:
    """What this process keeps; set by `prepare`."""
    return Here


def work_cell(experiment_id: int, key: str) -> str:
    """Compute one cell and store it in one transaction; returns done, failed, stopped or skipped."""
    with _only_here(key) as mine:
        if not mine:
            return "skipped"
        cell, panel = _find(experiment_id, key)
        asked = _stop_asked(experiment_id)
        begun = time.perf_counter()
        outcome, reason = "done", ""
        with Here.database.session() as session:
            if records.has_result(session, key):
                return "done"
        if asked():
            return "stopped"
        try:
            memory = PeakMemory()
            result = compute_cell(panel, cell, asked)
            result = replace(result, memory=memory.taken())
            with Here.database.session() as session:
                records.save_result(session, result)
                _tell(session, experiment_id)
            return outcome
        except StoppedError:
            return "stopped"
        except ProteronError as error:
            reason = error.message
        except MemoryError:
            reason = "The cell needed more memory than its limit."
        except (ArithmeticError, ValueError) as error:
            reason = f"{type(error).__name__}: {error}"
        with Here.database.session() as session:
            records.save_failure(session, key, reason, time.perf_counter() - begun)
            _tell(session, experiment_id)
        return "failed"


def give_up(experiment_id: int, key: str, reason: str) -> None:
    """Store why a cell's process could not finish it."""
    with Here.database.session() as session:
        records.save_failure(session, key, reason)
        _tell(session, experiment_id)


def complete(experiment_id: int) -> None:
    with Here.database.session() as session:
        finish_if_complete(session, experiment_id)


def requeue(experiment_id: int) -> None:
    """Queue the cells of an experiment that no job stands for any more, or finish it."""
    queue = Queue(Here.url)
    try:
        with Here.database.session() as session:
            experiment = records.get_experiment(session, experiment_id)
            panel = Here.panels.get(session, experiment.dataset_id)
            if enqueue(session, queue, experiment_id, panel, retry_failed=False) == 0:
                finish_if_complete(session, experiment_id)
    finally:
        queue.close()


def work_outlook(outlook_id: int) -> str:
    """Refit on everything known and store mean and ranges."""
    try:
        with Here.database.session() as session:
            record = get_outlook(session, outlook_id)
            experiment = records.get_experiment(session, record.experiment_id)
            if record.state != "queued" or experiment.state in ("queued", "running"):
                return "waiting"
            panel = Here.panels.get(session, experiment.dataset_id)
            plan, name = plan_of(experiment), record.document["contender"]
            cells = [cell for cell in cells_of(session, experiment, panel) if cell.name == name]
            results = records.load_results(session, cells)
            horizon = record.document.get("horizon")
        contender = next(entry.contender for entry in plan.contenders if entry.name == name)
        fitted, forecast = outlook(panel, contender, results, horizon, seed=plan.seed)
        arrays = {"mean": forecast.mean, "origin": np.array(fitted.until), "paths": forecast.paths(20, seed=plan.seed)}
        arrays |= {f"lower {level}": bound for level, bound in forecast.lower.items()}
        arrays |= {f"upper {level}": bound for level, bound in forecast.upper.items()}
        with Here.database.session() as session:
            finish_outlook(session, outlook_id, "done", pack_arrays(arrays))
        return "done"
    except (ProteronError, MemoryError, ValueError, ArithmeticError) as error:
        with Here.database.session() as session:
            finish_outlook(session, outlook_id, "failed", reason=str(error))
        return "failed"


def work_features(profile_id: int, series: list[int]) -> None:
    """Features of some series of a panel; a problem is stored as the reason the whole is not complete."""
    try:
        compute_features(Here, profile_id, series)
    except (ProteronError, MemoryError, ValueError, ArithmeticError) as error:
        give_up_features(profile_id, f"{type(error).__name__}: {error}")


def give_up_features(profile_id: int, reason: str) -> None:
    with Here.database.session() as session:
        end_profile(session, profile_id, "failed", reason)


def give_up_outlook(outlook_id: int, reason: str) -> None:
    with Here.database.session() as session:
        finish_outlook(session, outlook_id, "failed", reason=reason)


def _find(experiment_id: int, key: str) -> tuple[Cell, Panel]:
    with Here.database.session() as session:
        experiment = records.get_experiment(session, experiment_id)
        panel = Here.panels.get(session, experiment.dataset_id)
        if experiment_id not in Here.cells:
            Here.cells = {experiment_id: {cell.key: cell for cell in cells_of(session, experiment, panel)}}
    return Here.cells[experiment_id][key], panel


@contextmanager
def _only_here(key: str) -> Iterator[bool]:
    """Hold the cell's advisory lock, so that no other process computes it at the same time."""
    number = int(key[:15], 16)
    with Here.database.engine.connect() as connection:
        mine = bool(connection.scalar(text("SELECT pg_try_advisory_lock(:n)"), {"n": number}))
        connection.commit()
        try:
            yield mine
        finally:
            if mine:
                connection.execute(text("SELECT pg_advisory_unlock(:n)"), {"n": number})
                connection.commit()


def _stop_asked(experiment_id: int) -> Callable[[], bool]:
    """Asks the database at most twice a second whether the experiment is to stop."""
    last = [-_ASK_EVERY, False]

    def asked() -> bool:
        now = time.monotonic()
        if now - last[0] >= _ASK_EVERY:
            with Here.database.session() as session:
                last[:] = [now, records.get_experiment(session, experiment_id).state == "stopped"]
        return bool(last[1])

    return asked


def _tell(session: Any, experiment_id: int) -> None:
    experiment = records.get_experiment(session, experiment_id)
    notify(session, {"project": experiment.project_id, "experiment": experiment_id, "cell": True})
