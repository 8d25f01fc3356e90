"""Experiments: their cells computed one by one, or together where they share what is learned."""

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import replace
from math import isfinite
from typing import TYPE_CHECKING, Any, ClassVar

import structlog
from sqlalchemy import select, text
from sqlalchemy.orm import Session

from proteron.records import experiments as records
from proteron.records import searches
from proteron.records.database import notify
from proteron.records.models import Experiment
from proteron.runner.queue import Queue, jobs_of
from proteron.runner.work.kind import Job, LongWork, Running

if TYPE_CHECKING:
    from proteron.core.forecasters import Work
    from proteron.core.forecasters.forecaster import Progress
    from proteron.core.judge import Cell
    from proteron.runner.child import Here

_WORK_PER_JOB, _AT_ONCE = 1.5e7, 5e5  # points × cost: a few seconds, and less than one
_JOBS_AHEAD = 8  # no job is more than this part of what is left
_ASK_EVERY, _TELL_EVERY = 0.5, 1.0
_POINTS = 50  # of a curve that is told while it grows
_GOING = ("queued", "running")

log = structlog.get_logger()


class CellWork(LongWork):
    """A job is an experiment and groups of its cells; one without groups looks what is left to do."""

    task: ClassVar[str] = "run_cells"

    def __init__(self) -> None:
        self._quiet: dict[int, int] = {}

    def steps(self, job: Job) -> list[Any]:
        return list(job["groups"])

    def parts(self, step: list[str]) -> list[Any]:
        return [[key] for key in step]

    def run(self, here: "type[Here]", step: list[str], job: Job) -> str:
        """Compute the cells of a group and store each in a transaction of its own."""
        from proteron.core.errors import StoppedError

        experiment_id = job["experiment_id"]
        with _only_here(here, step) as mine:
            if not mine:
                return "skipped"
            with here.database.session() as session:
                left = [key for key in step if records.cell_state(session, key) in records.MISSING]
            if not left:
                return "done"
            work = _work(here, experiment_id)
            try:
                work.go_on()
                outcomes = [_compute(here, experiment_id, left, work)]
                if outcomes == [None]:  # one of them failed: each has a fate of its own
                    outcomes = [_compute(here, experiment_id, [key], work) for key in left]
            except StoppedError:
                return "stopped"
        return "failed" if "failed" in outcomes else "done"

    def give_up(self, here: "type[Here]", step: list[str], reason: str, job: Job) -> None:
        with here.database.session() as session:
            for key in step:
                records.save_failure(session, key, reason)
            records.tell_cell(session, job["experiment_id"])

    def end(self, here: "type[Here]", job: Job) -> None:
        """Mark the experiment done when every cell has its fate; queue what has become possible, or was lost."""
        with here.queue() as queue, here.database.session() as session:
            go_on(session, queue, here, job["experiment_id"], everything=not job["groups"])

    def limit(self, job: Job) -> float | None:
        return job.get("limit")

    def wanted(self, session: Session, job: Job) -> bool:
        experiment = session.get(Experiment, job["experiment_id"])
        if experiment is None or experiment.state not in _GOING:
            return False
        return job.get("limit") is None or not searches.out_of_time(experiment, at_work=True)

    def lost(self, session: Session, queue: Queue) -> None:
        """Running experiments that had no job twice in a row: theirs were lost."""
        running = set(session.scalars(select(Experiment.id).where(Experiment.state.in_(_GOING))))
        busy = jobs_of(session, self.task, "experiment_id")
        for experiment_id in running | set(self._quiet):
            idle = experiment_id in running and experiment_id not in busy
            self._quiet[experiment_id] = self._quiet.get(experiment_id, 0) + 1 if idle else 0
            if self._quiet[experiment_id] >= 2:
                self._quiet[experiment_id] = 0
                queue.defer(self.task, once=f"resume {experiment_id}", experiment_id=experiment_id, groups=[])
        self._quiet = {each: times for each, times in self._quiet.items() if times}

    def running(self, session: Session, project_id: int) -> list[Running]:
        query = select(Experiment).where(Experiment.project_id == project_id, Experiment.state.in_(_GOING))
        experiments = list(session.scalars(query))
        tallies = records.tallies(session, [each.id for each in experiments])
        return [
            Running("experiment", each.id, each.name, tallies[each.id]["done"] + tallies[each.id]["failed"],
                    tallies[each.id]["cells"])
            for each in experiments
        ]  # fmt: skip


def enqueue(session: Session, queue: Queue, experiment_id: int, dependent_only: bool = False) -> int:
    """Queue jobs of a few seconds for cells without a result whose needs are met; returns how many that are."""
    experiment = records.get_experiment(session, experiment_id)
    entered, limit = {each["name"] for each in experiment.document["contenders"]}, searches.limit_of(experiment)
    missing = records.missing_cells(session, experiment_id, dependent_only)
    for limited in (False, True):  # candidates of a search have less time than entrants
        groups: dict[str, list[str]] = {}
        works: dict[str, float] = {}
        for key, work, batch, name in missing:
            if limited == (limit is not None and name not in entered):
                groups.setdefault(batch, []).append(key)
                works[batch] = works.get(batch, 0.0) + work
        more = {"limit": limit} if limited else {}
        for batches in shared_out(works):
            cells = [groups[batch] for batch in batches]
            queue.defer(CellWork.task, once=f"cells {cells[0][0]}", experiment_id=experiment_id, groups=cells, **more)
    return len(missing)


def shared_out(works: dict[str, float]) -> list[list[str]]:
    """Batches, each with its work, as jobs in the order in which they are to be taken.

    First what is done at once, in its order, baselines among it; then the heaviest, and ever smaller jobs at the end,
    so that all processes end at about the same time.
    """
    left = sum(works.values())
    light = [batch for batch, work in works.items() if work <= _AT_ONCE]
    heavy = sorted((batch for batch in works if works[batch] > _AT_ONCE), key=lambda batch: -works[batch])
    jobs: list[list[str]] = []
    room = 0.0
    for batch in light + heavy:
        if not jobs or works[batch] > room:
            jobs.append([])
            room = min(_WORK_PER_JOB, left / _JOBS_AHEAD)
        jobs[-1].append(batch)
        room -= works[batch]
        left -= works[batch]
    return jobs


def go_on(session: Session, queue: Queue, here: "type[Here]", experiment_id: int, everything: bool) -> None:
    """What comes next for a running experiment: its end, cells whose needs are met by now, or all that is missing."""
    experiment = records.get_experiment(session, experiment_id, lock=True)
    if experiment.state not in _GOING:
        return
    tally = records.tally(session, experiment_id)
    if not tally["cells"]:
        _expand(session, here, experiment)
        tally = records.tally(session, experiment_id)
    all_there = tally["done"] + tally["failed"] >= tally["cells"]
    if searches.is_running(experiment) and (_round_is_over(session, experiment) or searches.out_of_time(experiment)):
        all_there = not _raced(session, here, experiment)
        everything = True
        tally = records.tally(session, experiment_id)
    if all_there:
        failed = tally["done"] == 0
        reason = "Every cell failed; see the reasons." if failed else None
        records.set_state(session, experiment_id, "failed" if failed else "done", reason)
        return
    if experiment.state == "queued":
        records.set_state(session, experiment_id, "running")
    enqueue(session, queue, experiment_id, dependent_only=not everything)


def _round_is_over(session: Session, experiment: Experiment) -> bool:
    """Whether a search waits for no cell: of its candidates, or of the baseline."""
    document = experiment.document
    others = {each["name"] for each in document["contenders"]} - {document["baseline"]}
    return {name for *_, name in records.missing_cells(session, experiment.id)} <= others


def _raced(session: Session, here: "type[Here]", experiment: Experiment) -> bool:
    """Take an experiment's search on; whether there are cells to compute now."""
    from proteron.runner.work.races import advance

    over = searches.out_of_time(experiment)
    if over:
        searches.leave_out(session, experiment.id, [each["name"] for each in experiment.document["contenders"]])
    advance(session, experiment, here.panels.get(session, experiment.dataset_id), over)
    tally = records.tally(session, experiment.id)
    return tally["done"] + tally["failed"] < tally["cells"]


def _expand(session: Session, here: "type[Here]", experiment: Experiment) -> None:
    """The cells of an experiment from before they said what they are."""
    from proteron.core.experiment import Judging
    from proteron.records.datasets import get_dataset

    panel = here.panels.get(session, experiment.dataset_id)
    judging = Judging.parse(experiment.document)
    records.add_cells(session, experiment.id, judging.cells(panel, get_dataset(session, experiment.dataset_id).hash))


_loaded: set[type] = set()


def _warm(here: "type[Here]", families: set[type]) -> None:
    """Load what these forecasters need, once a process: no cell's seconds are those of loading."""
    from proteron.core.errors import ProteronError
    from proteron.core.forecasters.warm import fit_once

    if families <= _loaded:
        return
    with here.loading():
        for each in families - _loaded:
            with suppress(ProteronError):
                fit_once(each)
            _loaded.add(each)


def _compute(here: "type[Here]", experiment_id: int, keys: list[str], work: "Work") -> str | None:
    """Compute cells together; done or failed for a single one, None where a group failed and must be tried apart."""
    from proteron.core.errors import StoppedError
    from proteron.core.judge import compute_cells, fits_read, reason_of
    from proteron.records.results import load_cell, load_fit, load_results, save_result
    from proteron.runner.memory import PeakMemory

    begun = time.perf_counter()
    try:
        with here.database.session() as session:
            experiment = records.get_experiment(session, experiment_id)
            panel = here.panels.get(session, experiment.dataset_id)
            cells: list[Cell] = [load_cell(session, experiment_id, key) for key in keys]
            needed = {key for cell in cells for key in cell.needs} - set(keys)
            earlier = (
                {each.cell.key: each for each in load_results(session, experiment_id, keys=needed)} if needed else {}
            )
            wanted = {key for cell in cells for key in fits_read(cell, earlier.values())}
            fits = {key: load_fit(session, key) for key in wanted}
        _warm(here, {type(cell.contender.forecaster) for cell in cells})
        memory = PeakMemory()
        there = {key: fit for key, fit in fits.items() if fit is not None}
        results = compute_cells(panel, cells, work, there, earlier)
        taken = memory.taken()
        for result in results:
            with here.database.session() as session:
                save_result(session, replace(result, memory=taken))
                records.tell_cell(session, experiment_id)
        return "done"
    except StoppedError:
        raise
    except Exception as error:  # whatever it is, the cell gets its reason and the others go on
        if len(keys) > 1:
            return None
        log.warning("cell failed", experiment=experiment_id, cell=keys[0][:12], error=repr(error)[:300])
        with here.database.session() as session:
            records.save_failure(session, keys[0], reason_of(error), time.perf_counter() - begun)
            records.tell_cell(session, experiment_id)
        return "failed"


@contextmanager
def _only_here(here: "type[Here]", keys: list[str]) -> Iterator[bool]:
    """Hold the group's advisory lock, so that no other process computes it at the same time."""
    number = {"n": int(keys[0][:15], 16)}
    connection = here.locks()
    mine = bool(connection.scalar(text("SELECT pg_try_advisory_lock(:n)"), number))
    try:
        yield mine
    finally:
        if mine:
            connection.execute(text("SELECT pg_advisory_unlock(:n)"), number)


def _work(here: "type[Here]", experiment_id: int) -> "Work":
    from proteron.core.forecasters import Work

    return Work(stop_asked=_stop_asked(here, experiment_id), report=_reporter(here, experiment_id),
                deadline=here.deadline)  # fmt: skip


def _stop_asked(here: "type[Here]", experiment_id: int) -> Callable[[], bool]:
    """Asks the database at most twice a second whether the experiment is to stop."""
    last = [-_ASK_EVERY, False]

    def asked() -> bool:
        now = time.monotonic()
        if now - last[0] >= _ASK_EVERY:
            with here.database.session() as session:
                last[:] = [now, records.get_experiment(session, experiment_id).state == "stopped"]
        return bool(last[1])

    return asked


def _reporter(here: "type[Here]", experiment_id: int) -> Callable[["Progress"], None]:
    """Tells the project's pages how far a cell is, at most once a second, and nothing of what is over within one."""
    last = [time.monotonic()]

    def report(progress: "Progress") -> None:
        now = time.monotonic()
        if now - last[0] < _TELL_EVERY:
            return
        last[0] = now
        with here.database.session() as session:
            experiment = records.get_experiment(session, experiment_id)
            told = told_of(progress)
            notify(session, {"project": experiment.project_id, "experiment": experiment_id, "progress": told})

    return report


def told_of(progress: "Progress") -> dict[str, Any]:
    """What pages hear of a fit, small enough for a notice: of many epochs some, evenly spaced, the last among them."""
    pairs = list(zip(progress.learned, progress.held_out or progress.learned, strict=False))
    last = len(pairs) - 1
    places = sorted({last - round(place * last / (_POINTS - 1)) for place in range(_POINTS)}) if pairs else []
    kept = [epoch for epoch in places if all(map(isfinite, pairs[epoch]))]
    return {
        "share": round(progress.share, 3), "about": progress.about[:200], "contender": progress.contender[:200],
        "fold": progress.fold, "epochs": [epoch + 1 for epoch in kept],
        "learned": [float(f"{progress.learned[epoch]:.4g}") for epoch in kept],
        "held_out": [float(f"{progress.held_out[epoch]:.4g}") for epoch in kept if progress.held_out],
    }  # fmt: skip
