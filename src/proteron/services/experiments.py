"""Experiments: stored with their cells, started, stopped, continued, read as a board."""

import threading
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from sqlalchemy.orm import Session

from proteron.core.errors import SettingsError
from proteron.core.experiment import Judging
from proteron.core.intake import recipe_of
from proteron.core.judge import (
    FLAT_SQUARE,
    Board,
    Duel,
    Fold,
    Told,
    Weighting,
    Yardsticks,
    duel,
    losses_at,
    make_board,
    metric_of_skill,
    savings,
    skill_metric_of,
)  # fmt: skip
from proteron.core.judge.deceptions import Case, Deception, caution_of, find_deceptions
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints
from proteron.records import experiments as records
from proteron.records.database import ConflictError, Database
from proteron.records.datasets import get_dataset
from proteron.records.kept import refuse_deleted
from proteron.records.models import Experiment
from proteron.records.projects import choose, get_project
from proteron.records.results import entrant_facts, load_losses, load_outcomes
from proteron.runner.queue import Queue
from proteron.runner.work.cells import CellWork, enqueue
from proteron.services.names import file_name
from proteron.services.resources import Resources

_CHOICE = {"judge": "experiment_id", "scan": "scan_id"}


def judging_of(experiment: Experiment) -> Judging:
    """What a stored experiment judges, and how."""
    return Judging.parse(experiment.document)


def create(
    session: Session, panel: Panel, project_id: int, dataset_id: int, purpose: str, name: str, judging: Judging
) -> Experiment:
    """Store a checked experiment; raises `SettingsError` or `TooShortError` before anything is stored."""
    get_project(session, project_id)
    dataset = get_dataset(session, dataset_id)
    if dataset.project_id != project_id:
        raise SettingsError("This dataset belongs to another project.", field="dataset_id")
    refuse_deleted(dataset)
    judging.check()
    judging = judging.model_copy(update={"baseline": judging.chosen_baseline})
    cells = judging.cells(panel, dataset.hash)
    return records.add_experiment(session, project_id, dataset_id, purpose, name, judging.document(), cells)


def create_and_start(
    reach: Resources, project_id: int, dataset_id: int, purpose: str, name: str, judging: Judging, run: bool = True
) -> int:
    """Make it the project's choice. Stored first, then queued: a crash in between is mended by the worker's sweep."""
    panel = reach.panel(dataset_id)
    with reach.database.session() as session:
        experiment = create(session, panel, project_id, dataset_id, purpose, name, judging)
        choose(session, project_id, {_CHOICE[purpose]: experiment.id})
        if not run:
            records.set_state(session, experiment.id, "stopped")
    if run:
        start(reach.database, reach.queue, experiment.id)
    return experiment.id


def start(database: Database, queue: Queue, experiment_id: int) -> None:
    """Run, or continue, an experiment: only missing and failed cells are computed.

    Failed ones count as missing until they have come back, so that nothing is done before all of them have. Only what
    is committed is queued, or a worker would look too early. Raises `ConflictError` while it is running.
    """
    with database.session() as session:
        if records.get_experiment(session, experiment_id, lock=True).state == "running":
            raise ConflictError("This experiment is running already.", field="state")
        records.try_again(session, experiment_id)
        tally = records.tally(session, experiment_id)
        left = tally["done"] < tally["cells"] or not tally["cells"]
        records.set_state(session, experiment_id, "running" if left else "done")
    with database.session() as session:
        if tally["cells"]:
            enqueue(session, queue, experiment_id)
        else:  # from before cells said what they are: the runner finds them
            queue.defer(CellWork.task, once=f"resume {experiment_id}", experiment_id=experiment_id, groups=[])


def stop(session: Session, queue: Queue, experiment_id: int) -> Experiment:
    """Stop promptly; finished cells stay."""
    experiment = records.get_experiment(session, experiment_id, lock=True)
    if experiment.state not in ("queued", "running"):
        return experiment
    queue.cancel(session, CellWork.task, "experiment_id", experiment_id)
    records.leave_as_failed(session, experiment_id)
    return records.set_state(session, experiment_id, "stopped")


def board_of(
    session: Session, experiment: Experiment, panel: Panel, metric: str | None = None, weighting: Weighting = "points"
) -> Board:  # fmt: skip
    """The board, partial while running: a pure view over the losses of cells that are done.

    Skill is told by `metric`, by default the experiment's first by which smaller is better.
    """
    judging = judging_of(experiment)
    measure = metric or skill_metric_of(judging.metrics)
    families = {entry.name: entry.forecaster.family for entry in judging.contenders}
    wanted = [*judging.metrics, measure, "coverage_95", FLAT_SQUARE]
    losses = _losses_of(session, experiment.id, wanted, list(families), judging.folds.resolve(panel), panel)
    facts = entrant_facts(session, experiment.id, families)
    return make_board(
        losses.weighted(weighting), facts, judging.metrics, judging.chosen_baseline, measure, losses.yardsticks.folds,
        weighting,
    )  # fmt: skip


def duel_of(
    session: Session, experiment: Experiment, panel: Panel, one: str, other: str, metric: str | None = None,
    weighting: Weighting = "points", series: int | None = None,
) -> tuple[Duel, tuple[Ints, Floats], tuple[Ints, Floats]]:  # fmt: skip
    """Two entrants compared, by cells that are done: and what one had saved by when, of all series and of one."""
    judging = judging_of(experiment)
    measure, folds = metric or skill_metric_of(judging.metrics), judging.folds.resolve(panel)
    names = [entry.name for entry in judging.contenders]
    told = losses_at(_losses_of(session, experiment.id, [measure], names, folds, panel).weighted(weighting), measure)
    found = duel(told, one, other, panel, folds)
    return found, savings(told, one, other, folds), savings(told, one, other, folds, series)


def deceptions_of(
    session: Session, experiment: Experiment, panel: Panel, metric: str | None = None
) -> tuple[str, list[Deception]]:  # fmt: skip
    """What to mind about the best, and the ways in which entrants' numbers deceive, by cells that are done."""
    judging = judging_of(experiment)
    measure, folds = metric or skill_metric_of(judging.metrics), judging.folds.resolve(panel)
    metric_of_skill(measure)
    entries = {entry.name: entry.contender for entry in judging.contenders}
    wanted = [measure, "rmse", FLAT_SQUARE, *(f"coverage_{100 * level:g}" for level in judging.levels)]
    told = _losses_of(session, experiment.id, wanted, list(entries), folds, panel)
    outcomes = load_outcomes(session, experiment.id, folds, len(panel))
    base, levels = judging.chosen_baseline, tuple(judging.levels)
    cases = [
        Case(name, entry.is_baseline, base, measure, told, tuple(folds), panel, outcomes.get(name), levels)
        for name, entry in entries.items()
    ]
    found = find_deceptions(cases)
    return caution_of({case.name: case.skill for case in cases}, found), found


_KEPT_LOSSES = 2  # experiments whose losses stay in memory, so that another metric is told at once
_losses: OrderedDict[tuple[str, int], tuple[Any, Told]] = OrderedDict()
_losses_lock = threading.Lock()


def _losses_of(
    session: Session, experiment_id: int, metrics: Sequence[str], names: Sequence[str], folds: Sequence[Fold],
    panel: Panel,
) -> Told:  # fmt: skip
    """Losses by metric, read anew once any cell has come in since they were read."""
    bind = session.get_bind()
    place = (str(getattr(bind, "url", bind)), experiment_id)
    stamp = records.results_stamp(session, experiment_id)
    with _losses_lock:
        before, held = _losses.get(place, (None, None))
    if held is None or before != stamp:
        held = Told({}, Yardsticks(panel, folds) if held is None else held.yardsticks)  # they are of the data alone
    if missing := held.lacking(metrics):
        held = held.joined_by(load_losses(session, experiment_id, missing, names, folds, len(panel)))
        with _losses_lock:
            _losses[place] = (stamp, held)
            _losses.move_to_end(place)
            while len(_losses) > _KEPT_LOSSES:
                _losses.popitem(last=False)
    return held


@dataclass(frozen=True)
class Progress:
    """How far an experiment is, derived from its cells; `seconds_left` is None where nothing can be said."""

    cells: int
    done: int
    failed: int
    seconds_left: float | None


def progress_of(session: Session, experiment: Experiment) -> Progress:
    """Time since the start, scaled by the cells that are left."""
    tally = records.tally(session, experiment.id)
    finished, left = tally["done"] + tally["failed"], None
    if experiment.state == "running" and experiment.started is not None and finished:
        passed = (datetime.now(UTC) - experiment.started).total_seconds()
        left = passed / finished * (tally["cells"] - finished)
    return Progress(**tally, seconds_left=left)


def file_document(session: Session, experiment: Experiment, panel: Panel) -> dict[str, Any]:
    """The experiment file's content; its data is the dataset as exported in CSV."""
    dataset = get_dataset(session, experiment.dataset_id)
    judging = _without_none(judging_of(experiment).document())
    recipe = recipe_of(panel).model_dump(mode="json", exclude_defaults=True)
    data = {"file": f"{file_name(dataset.name)}.csv", "dataset": dataset.hash, "recipe": _without_none(recipe)}
    document: dict[str, Any] = {"schema_version": 1, "name": experiment.name, **judging, "data": data}
    document["outlook"] = {"horizon": judging["folds"]["horizon"]}
    return document


def _without_none(value: Any) -> Any:
    if isinstance(value, dict):
        return {name: _without_none(each) for name, each in value.items() if each is not None}
    if isinstance(value, list):
        return ["choose" if each is None else _without_none(each) for each in value]
    return value
