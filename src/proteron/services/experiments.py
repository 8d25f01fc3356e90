"""Experiments: stored with their cells, started, stopped, continued, read as a board."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

import numpy as np
from sqlalchemy.orm import Session

from proteron.core.errors import SettingsError
from proteron.core.experiment import Judging
from proteron.core.intake import recipe_of
from proteron.core.judge import Cell, Fold
from proteron.core.panel import Panel
from proteron.core.search import SearchSettings, Space, proposed
from proteron.records import experiments as records
from proteron.records import seals, searches
from proteron.records.database import ConflictError, Database
from proteron.records.datasets import get_dataset
from proteron.records.kept import refuse_deleted
from proteron.records.models import Experiment
from proteron.records.projects import choose, get_project
from proteron.runner.queue import Queue
from proteron.runner.work.cells import CellWork, enqueue
from proteron.services.names import file_name
from proteron.services.resources import Resources


def judging_of(experiment: Experiment) -> Judging:
    """What a stored experiment judges, and how."""
    return Judging.parse(experiment.document)


def create(
    session: Session,
    panel: Panel,
    project_id: int,
    dataset_id: int,
    purpose: str,
    name: str,
    judging: Judging,
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
    reach: Resources, project_id: int, dataset_id: int, purpose: str, name: str, judging: Judging, run: bool = True,
    search: SearchSettings | None = None,
) -> int:  # fmt: skip
    """Make it the project's choice, unless a scan needs it.

    Stored first, then queued: a crash in between is mended by the worker's sweep.
    """
    panel = reach.panel(dataset_id)
    with reach.database.session() as session:
        experiment = create(session, panel, project_id, dataset_id, purpose, name, judging)
        if purpose == "judge":
            choose(session, project_id, {"experiment_id": experiment.id})
        if search is not None:
            begin_search(session, experiment, panel, search)
        if not run:
            records.set_state(session, experiment.id, "stopped")
    if run:
        start(reach.database, reach.queue, experiment.id)
    return experiment.id


def space_for(judging: Judging, panel: Panel) -> Space:
    """What a search would try: nothing that only the time it is judged on tells may have a part in it."""
    return proposed(panel, judging.folds.resolve(panel)[0].cutoff)


def begin_search(session: Session, experiment: Experiment, panel: Panel, settings: SearchSettings) -> None:
    """Have an experiment search, or go on with more budget; what it found before counts.

    The space is proposed from what the first fold knows where none is given, and stays as it was where one is there.
    Raises `ConflictError` while it is at work, `SettingsError` or `TooShortError` for what does not fit.
    """
    if searches.is_running(experiment) and experiment.state == "running":
        raise ConflictError("This experiment is searching already.", field="state")
    judging = judging_of(experiment)
    before = SearchSettings.parse(experiment.search).space if experiment.search else None
    space = settings.space or before or space_for(judging, panel)
    whole = settings.model_copy(update={"space": space})
    names = [each.name for each in judging.contenders]
    searches.begin(experiment, whole.document(), whole.most_seconds_a_fit, names)
    _renew(session, experiment, judging.cells(panel, get_dataset(session, experiment.dataset_id).hash), names)


def _renew(session: Session, experiment: Experiment, cells: Sequence[Cell], names: Sequence[str]) -> None:
    """Cells of an earlier version are computed anew, or candidates would be compared with what no longer is."""
    there = records.cell_keys(session, experiment.id)
    if not {each.key for each in cells} <= there:
        searches.leave_entrants(session, experiment.id, names)
        records.add_cells(session, experiment.id, cells)


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
        searching = searches.resume(records.get_experiment(session, experiment_id))
        left = tally["done"] < tally["cells"] or not tally["cells"] or searching
        records.set_state(session, experiment_id, "running" if left else "done")
    with database.session() as session:
        queued = enqueue(session, queue, experiment_id) if tally["cells"] else 0
        if left and not queued:  # the runner finds what comes next, as for cells from before they said what they are
            queue.defer(CellWork.task, once=f"resume {experiment_id}", experiment_id=experiment_id, groups=[])


def stop(session: Session, queue: Queue, experiment_id: int) -> Experiment:
    """Stop promptly; finished cells stay."""
    experiment = records.get_experiment(session, experiment_id, lock=True)
    if experiment.state not in ("queued", "running"):
        return experiment
    queue.cancel(session, CellWork.task, "experiment_id", experiment_id)
    if searches.is_running(experiment):
        searches.leave_out(session, experiment_id, [each["name"] for each in experiment.document["contenders"]])
        searches.end(experiment, "stopped")
    records.leave_as_failed(session, experiment_id)
    return records.set_state(session, experiment_id, "stopped")


def break_seal(reach: Resources, experiment_id: int, contender: str) -> None:
    """Have a contender and the baseline judged on the sealed folds, and keep for good that it was.

    Raises `ConflictError` while the open folds are not all done, or where its seal is broken already, `SettingsError`
    where nothing is sealed or nobody is called so.
    """
    with reach.database.session() as session:
        experiment = records.get_experiment(session, experiment_id, lock=True)
        judging = judging_of(experiment)
        judging.entry(contender)
        panel = reach.panel(experiment.dataset_id)
        folds = judging.folds.resolve_sealed(panel)
        if not folds:
            raise SettingsError("No fold of this experiment is sealed.", field="contender")
        tally = records.tally(session, experiment_id)
        if experiment.state in ("queued", "running") or tally["done"] + tally["failed"] < tally["cells"]:
            raise ConflictError("The open folds come first: let them be done.", field="state")
        seals.break_seal(session, experiment, contender, *sealed_time(panel, folds))
        cells = judging.sealed_cells(panel, contender, get_dataset(session, experiment.dataset_id).hash)
        records.add_cells(session, experiment_id, cells)
    start(reach.database, reach.queue, experiment_id)


def sealed_time(panel: Panel, folds: Sequence[Fold]) -> tuple[datetime, datetime]:
    """First and last moment that folds score."""
    places = np.array([min(fold.score_start for fold in folds), max(fold.score_stop for fold in folds) - 1])
    first, last = panel.axis.times(places).astype("datetime64[us]").tolist()
    return first.replace(tzinfo=UTC), last.replace(tzinfo=UTC)


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
    broken = [
        {"contender": each.contender, "when": each.broken.isoformat()}
        for each in seals.broken_in(session, experiment.id)
    ]
    if broken:
        document["seals"] = broken
    document["outlook"] = {"horizon": judging["folds"]["horizon"]}
    return document


def _without_none(value: Any) -> Any:
    if isinstance(value, dict):
        return {name: _without_none(each) for name, each in value.items() if each is not None}
    if isinstance(value, list):
        return ["choose" if each is None else _without_none(each) for each in value]
    return value
