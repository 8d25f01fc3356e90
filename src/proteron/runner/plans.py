"""Experiments as stored documents: expanded into cells, started, stopped, continued, viewed as a board."""

from collections import OrderedDict
from typing import Any

from sqlalchemy.orm import Session

from proteron.core.documents import Settings
from proteron.core.errors import SettingsError
from proteron.core.experiment import ContenderEntry
from proteron.core.judge import Cell, CellResult, Folds, check_judging, expand, make_board
from proteron.core.panel import Panel
from proteron.records import experiments as records
from proteron.records.database import ConflictError
from proteron.records.datasets import get_dataset, load_panel
from proteron.records.models import Experiment
from proteron.runner.queue import Queue

_COST_PER_JOB = 1.5e7  # points × cost: a few seconds


class ExperimentPlan(Settings):
    """What an experiment consists of, beside its dataset; the document that is stored."""

    seed: int = 0
    folds: Folds = Folds()
    metrics: tuple[str, ...] = ("mase", "rmse", "mae", "smape")
    baseline: str
    contenders: tuple[ContenderEntry, ...]

    def cells(self, panel: Panel, dataset: str) -> list[Cell]:
        entries = {entry.name: entry.contender for entry in self.contenders}
        return expand(panel, entries, self.folds.resolve(panel), self.seed, dataset)


class PanelCache:
    """The panels used last, by dataset; datasets never change, so nothing goes stale."""

    def __init__(self, size: int = 4) -> None:
        self._size = size
        self._panels: OrderedDict[int, Panel] = OrderedDict()

    def get(self, session: Session, dataset_id: int) -> Panel:
        panel = self._panels.pop(dataset_id, None) or load_panel(session, dataset_id)
        self._panels[dataset_id] = panel
        while len(self._panels) > self._size:
            self._panels.popitem(last=False)
        return panel


def plan_of(experiment: Experiment) -> ExperimentPlan:
    return ExperimentPlan.parse(experiment.document)


def cells_of(session: Session, experiment: Experiment, panel: Panel) -> list[Cell]:
    return plan_of(experiment).cells(panel, get_dataset(session, experiment.dataset_id).hash)


def create(
    session: Session, panel: Panel, project_id: int, dataset_id: int, purpose: str, name: str, plan: ExperimentPlan
) -> Experiment:
    """Store a checked experiment; raises `SettingsError` or `TooShortError` before anything is stored."""
    names = [entry.name for entry in plan.contenders]
    if not names or len(set(names)) != len(names):
        raise SettingsError("Every contender needs a name of its own.", field="contenders")
    check_judging(names, plan.metrics, plan.baseline)
    cells = plan.cells(panel, get_dataset(session, dataset_id).hash)
    document = plan.model_dump(mode="json")
    return records.add_experiment(session, project_id, dataset_id, purpose, name, document, cells)


def enqueue(session: Session, queue: Queue, experiment_id: int, panel: Panel, retry_failed: bool = True) -> int:
    """Queue jobs for the cells that have no result yet; returns how many cells that is."""
    experiment = records.get_experiment(session, experiment_id)
    missing = set(records.missing_keys(session, experiment_id, retry_failed))
    todo = [cell for cell in cells_of(session, experiment, panel) if cell.key in missing]
    jobs: list[list[str]] = []
    room = 0.0
    for cell in todo:
        cost = len(cell.series) * cell.place.cutoff * cell.contender.forecaster.cost
        if not jobs or room + cost > _COST_PER_JOB:
            jobs.append([])
            room = 0.0
        jobs[-1].append(cell.key)
        room += cost
    for keys in jobs:
        queue.defer("run_cells", experiment_id=experiment_id, keys=keys)
    return len(todo)


def start(session: Session, queue: Queue, experiment_id: int, panel: Panel) -> Experiment:
    """Run, or continue, an experiment: only missing and failed cells are computed."""
    experiment = records.get_experiment(session, experiment_id, lock=True)
    if experiment.state == "running":
        raise ConflictError("This experiment is running already.", field="state")
    count = enqueue(session, queue, experiment_id, panel)
    return records.set_state(session, experiment_id, "running" if count else "done")


def stop(session: Session, queue: Queue, experiment_id: int) -> Experiment:
    """Stop promptly; finished cells stay."""
    experiment = records.get_experiment(session, experiment_id, lock=True)
    if experiment.state not in ("queued", "running"):
        return experiment
    queue.cancel(experiment_id)
    return records.set_state(session, experiment_id, "stopped")


def finish_if_complete(session: Session, experiment_id: int) -> None:
    """Mark a running experiment done once every cell has a result or a reason."""
    experiment = records.get_experiment(session, experiment_id, lock=True)
    tally = records.tally(session, experiment_id)
    if experiment.state in ("queued", "running") and tally["done"] + tally["failed"] >= tally["cells"]:
        failed = tally["done"] == 0
        reason = "Every cell failed; see the reasons." if failed else None
        records.set_state(session, experiment_id, "failed" if failed else "done", reason)


def results_of(session: Session, experiment: Experiment, panel: Panel) -> list[CellResult]:
    return records.load_results(session, cells_of(session, experiment, panel))


def board_of(plan: ExperimentPlan, panel: Panel, results: list[CellResult]) -> list[dict[str, Any]]:
    """The board, partial while running: a pure view over the cells that are done."""
    names = [entry.name for entry in plan.contenders]
    return make_board(panel, results, names, plan.folds.count, plan.metrics, plan.baseline)
