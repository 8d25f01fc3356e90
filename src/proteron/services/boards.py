"""What is told of an experiment: its board, duels, what deceives, all forecasts, and the report."""

import threading
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import tomli_w
from sqlalchemy.orm import Session

from proteron.core.errors import SettingsError
from proteron.core.experiment import best_of
from proteron.core.judge import (
    FLAT_SQUARE,
    Board,
    Breakdown,
    Calibration,
    Duel,
    ErrorsInTime,
    Fold,
    Losses,
    Ranked,
    Told,
    View,
    Weighting,
    Yardsticks,
    calibrate,
    duel,
    errors_in_time,
    forecast_table,
    losses_at,
    make_board,
    metric_of_skill,
    rank_by_criteria,
    savings,
    sign_table,
    skill_metric_of,
    skills_by,
)  # fmt: skip
from proteron.core.judge.deceptions import Case, Deception, caution_of, find_deceptions
from proteron.core.judge.evidence.verdict import signed
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints
from proteron.core.words import counted
from proteron.records import experiments as records
from proteron.records import searches
from proteron.records.database import NotFoundError
from proteron.records.datasets import get_dataset
from proteron.records.models import Experiment, SealBreaking
from proteron.records.results import entrant_facts, load_losses, load_outcomes, load_results
from proteron.records.seals import broken_in, broken_on
from proteron.services.experiments import file_document, judging_of, sealed_time
from proteron.services.report import Provenance, ReportContent, report_content


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
    folds = judging.folds.resolve(panel)
    losses = _losses_of(session, experiment.id, wanted, list(families), folds, panel)
    facts = entrant_facts(session, experiment.id, families, range(len(folds)))
    return make_board(
        losses.weighted(weighting), facts, judging.metrics, judging.chosen_baseline, measure, losses.yardsticks.folds,
        weighting,
    )  # fmt: skip


@dataclass(frozen=True)
class Sealed:
    """What is known of an experiment's sealed folds: who looked at any of their time, here or elsewhere on this data,
    and the board of those whose seal is broken here; None while there is none."""

    folds: list[Fold]
    breakings: list[SealBreaking]
    board: Board | None

    @property
    def sentence(self) -> str:
        """How often the seal was broken, for good."""
        what = f"The last {counted(len(self.folds), 'fold is', 'folds are')} sealed"
        if not self.breakings:
            return f"{what}; the seal is unbroken on this data."
        last = self.breakings[-1]
        often = counted(len(self.breakings), "time", "times")
        return f"{what}; on this data the seal was broken {often}, last by {last.contender} on {last.broken:%Y-%m-%d}."

    def told(self, opened: Board) -> str:
        """The same, and how those fared whose seal is broken here."""
        fared = [
            f"{row.contender}: skill {signed(row.skill)} there, {signed(before)} before."
            for row in self.board or ()
            if not row.baseline and row.skill is not None and (before := opened.row(row.contender).skill) is not None
        ]
        return " ".join([self.sentence, *fared])


def sealed_of(session: Session, experiment: Experiment, panel: Panel, metric: str | None = None) -> Sealed | None:
    """Of sealed folds; None where nothing is sealed."""
    judging = judging_of(experiment)
    folds, first = judging.folds.resolve_sealed(panel), len(judging.folds.resolve(panel))
    if not folds:
        return None
    breakings = broken_on(session, experiment, *sealed_time(panel, folds))
    here = [each.contender for each in broken_in(session, experiment.id)]
    if not here:
        return Sealed(folds, breakings, None)
    names = dict.fromkeys([judging.chosen_baseline, *here])
    families = {name: judging.entry(name).forecaster.family for name in names}
    measure = metric or skill_metric_of(judging.metrics)
    wanted = [*judging.metrics, measure, "coverage_95", FLAT_SQUARE]
    losses = _losses_of(session, experiment.id, wanted, list(names), folds, panel, first)
    facts = entrant_facts(session, experiment.id, families, range(first, first + len(folds)))
    board = make_board(losses, facts, judging.metrics, judging.chosen_baseline, measure, folds)
    return Sealed(folds, breakings, board)


def used_before(session: Session, experiment: Experiment, panel: Panel) -> str:
    """What earlier experiments on this data have judged on the same time, in a sentence; empty where none has."""
    folds = judging_of(experiment).folds.resolve(panel)
    first, last = min(fold.score_start for fold in folds), max(fold.score_stop for fold in folds)
    before, known = 0, set()
    for each in records.experiments_of(session, experiment.project_id):
        if each.id >= experiment.id or each.dataset_id != experiment.dataset_id or each.purpose != experiment.purpose:
            continue
        judging = judging_of(each)
        scored = judging.folds.resolve(panel)
        if any(fold.score_start < last and first < fold.score_stop for fold in scored):
            before += 1
            known |= {entry.contender.hash for entry in judging.contenders if not entry.contender.is_baseline}
    tried = searches.tried(experiment)
    searched = f"A search tried {counted(tried, 'candidate')} on this time: the best of many owes some to luck."
    if not known:
        return searched if tried else ""
    where, many = counted(before, "earlier experiment"), counted(len(known), "contender has", "contenders have")
    earlier = f"In {where} {many} been judged on this time: the best of many owes some to luck."
    return f"{searched} {earlier}" if tried else earlier


def duel_of(
    session: Session, experiment: Experiment, panel: Panel, one: str, other: str, metric: str | None = None,
    weighting: Weighting = "points", series: int | None = None,
) -> tuple[Duel, tuple[Ints, Floats], tuple[Ints, Floats]]:  # fmt: skip
    """Two entrants compared, by cells that are done: and what one had saved by when, of all series and of one."""
    told, folds = _measured(session, experiment, panel, metric, weighting)
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
        Case(
            name, entry.is_baseline, base, measure, told, tuple(folds), panel, outcomes.get(name), levels,
            entry.forecaster.family == "elsewhere",
        )
        for name, entry in entries.items()
    ]  # fmt: skip
    found = find_deceptions(cases)
    return caution_of({case.name: case.skill for case in cases}, found), found


@dataclass(frozen=True)
class Broken:
    """Errors of all entrants by one view of the points, and their skill where the metric tells it."""

    metric: str
    errors: Breakdown
    skill: Breakdown | None


def breakdown_of(
    session: Session, experiment: Experiment, panel: Panel, by: View, metric: str | None = None,
    weighting: Weighting = "points",
) -> Broken:  # fmt: skip
    """Errors and skill by fold, step, series or slot of the calendar, by cells that are done."""
    told, folds = _measured(session, experiment, panel, metric, weighting)
    if told.report is None:
        raise SettingsError(f"There is no metric “{told.metric}”.", field="metric")
    baseline = judging_of(experiment).chosen_baseline
    skill = skills_by(told, baseline, by, panel, folds) if told.report.tells_skill else None
    return Broken(told.metric, told.by(by, panel, folds), skill)


def signs_of(
    session: Session, experiment: Experiment, panel: Panel, contender: str
) -> tuple[dict[str, dict[str, int]], dict[str, dict[str, int]]]:  # fmt: skip
    """How often what was forecast to go up and down did: of changes against the last known, and of values."""
    judging = judging_of(experiment)
    judging.entry(contender)
    names, folds = [entry.name for entry in judging.contenders], judging.folds.resolve(panel)
    told = _losses_of(session, experiment.id, ["sign", "sign_of_change"], names, folds, panel)
    changes, values = (sign_table(told.kept(name).of(contender)) for name in ("sign_of_change", "sign"))
    return changes, values


def errors_of(
    session: Session, experiment: Experiment, panel: Panel, series: int, ahead: int | None = None
) -> dict[str, ErrorsInTime]:  # fmt: skip
    """Errors of every entrant on one series by time, of open folds that are done."""
    opened = len(judging_of(experiment).folds.resolve(panel))
    results = [each for each in load_results(session, experiment.id, series=series) if each.cell.fold < opened]
    return errors_in_time(panel, results, series, ahead)


def criteria_of(
    session: Session, experiment: Experiment, panel: Panel, fold: int, series: int
) -> tuple[str, list[Ranked]]:  # fmt: skip
    """The metric that ranks after the cutoff, and every entrant's criteria of one open fold and series, both ranked.

    Raises `NotFoundError` for a fold that is sealed, or not there.
    """
    told, folds = _measured(session, experiment, panel)
    if fold >= len(folds):
        raise NotFoundError("There is no such fold.", field="fold")
    errors = told.reported((1, 2, 3, 4), _only(told.values.shape[1:], fold, series))
    after = dict(zip(told.names, errors.tolist(), strict=True))
    results = load_results(session, experiment.id, None, fold, series, learned=True)
    return told.metric, rank_by_criteria(results, panel, series, after)


def _only(shape: tuple[int, ...], fold: int, series: int) -> Floats:
    here = np.zeros(shape, dtype=bool)
    here[fold, series] = True
    return here


def calibration_of(session: Session, experiment: Experiment, panel: Panel, contender: str) -> Calibration:
    """Whether one entrant's ranges hold what they say, by cells that are done."""
    opened = len(judging_of(experiment).folds.resolve(panel))
    results = [each for each in load_results(session, experiment.id, [contender]) if each.cell.fold < opened]
    return calibrate(panel, results, contender)


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
    sealed = sealed_of(session, experiment, panel)
    made = Provenance(experiment.name, dataset.name, dataset.hash, settings, judging.seed)
    return report_content(
        panel, folds, board, deceptions, caution, told, shown, made, "" if sealed is None else sealed.told(board)
    )


def _measured(
    session: Session, experiment: Experiment, panel: Panel, metric: str | None = None, weighting: Weighting = "points"
) -> tuple[Losses, list[Fold]]:  # fmt: skip
    """Every entrant's losses by one metric, by default the one that tells skill; and the open folds."""
    judging = judging_of(experiment)
    measure, folds = metric or skill_metric_of(judging.metrics), judging.folds.resolve(panel)
    names = [entry.name for entry in judging.contenders]
    told = _losses_of(session, experiment.id, [measure], names, folds, panel).weighted(weighting)
    return losses_at(told, measure), folds


_KEPT_LOSSES = 2  # experiments whose losses stay in memory, so that another metric is told at once
_losses: OrderedDict[tuple[Any, ...], tuple[Any, Told]] = OrderedDict()
_losses_lock = threading.Lock()


def _losses_of(
    session: Session, experiment_id: int, metrics: Sequence[str], names: Sequence[str], folds: Sequence[Fold],
    panel: Panel, first: int = 0,
) -> Told:  # fmt: skip
    """Losses by metric, read anew once any cell has come in since they were read; `first` numbers the first fold."""
    bind = session.get_bind()
    place = (str(getattr(bind, "url", bind)), experiment_id, first, *(names if first else ()))
    stamp = records.results_stamp(session, experiment_id)
    with _losses_lock:
        before, held = _losses.get(place, (None, None))
    if held is None or before != stamp:
        held = Told({}, Yardsticks(panel, folds) if held is None else held.yardsticks)  # they are of the data alone
    if missing := held.lacking(metrics):
        held = held.joined_by(load_losses(session, experiment_id, missing, names, folds, len(panel), first))
        with _losses_lock:
            _losses[place] = (stamp, held)
            _losses.move_to_end(place)
            while len(_losses) > _KEPT_LOSSES:
                _losses.popitem(last=False)
    return held
