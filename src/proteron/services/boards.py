"""What is told of an experiment: its board, duels, what deceives, all forecasts, and the report."""

import threading
from collections import OrderedDict
from collections.abc import Sequence
from typing import Any

import pyarrow as pa
import tomli_w
from sqlalchemy.orm import Session

from proteron.core.judge import (
    FLAT_SQUARE,
    Board,
    Calibration,
    Duel,
    Fold,
    Told,
    Weighting,
    Yardsticks,
    calibrate,
    duel,
    forecast_table,
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
from proteron.records.datasets import get_dataset
from proteron.records.models import Experiment
from proteron.records.results import entrant_facts, load_losses, load_outcomes, load_results
from proteron.services.experiments import file_document, judging_of
from proteron.services.report import Provenance, ReportContent, best_of, report_content


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


def calibration_of(session: Session, experiment: Experiment, panel: Panel, contender: str) -> Calibration:
    """Whether one entrant's ranges hold what they say, by cells that are done."""
    return calibrate(panel, load_results(session, experiment.id, [contender]), contender)


def forecasts_of(session: Session, experiment: Experiment, panel: Panel) -> pa.Table:
    """All forecasts of finished cells, long."""
    return forecast_table(panel, load_results(session, experiment.id))


def report_of(session: Session, experiment: Experiment, panel: Panel) -> ReportContent:
    """What a report says, by cells that are done."""
    judging = judging_of(experiment)
    folds, names = judging.folds.resolve(panel), [entry.name for entry in judging.contenders]
    board = board_of(session, experiment, panel)
    caution, deceptions = deceptions_of(session, experiment, panel)
    told = _losses_of(session, experiment.id, [board.skill_metric], names, folds, panel)[board.skill_metric]
    best = best_of(board)
    shown = load_results(session, experiment.id, [best, judging.chosen_baseline], len(folds) - 1)
    dataset = get_dataset(session, experiment.dataset_id)
    settings = tomli_w.dumps(file_document(session, experiment, panel))
    made = Provenance(experiment.name, dataset.name, dataset.hash, settings, judging.seed)
    return report_content(panel, folds, board, deceptions, caution, told, shown, made)


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
