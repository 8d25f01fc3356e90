"""Forecasts from any cutoff, and what was learned by then."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from proteron.core.forecasters.contender import FittedContender
from proteron.core.forecasters.explain import OneStep, fit_pictures, joint_picture, one_step, residual_checks
from proteron.core.forecasters.forecaster import Coefficient, DrawnLayer, Training, Tried
from proteron.core.forecasters.pictures import Picture
from proteron.core.judge import CellResult, learned_by
from proteron.core.panel import Floats, Panel
from proteron.core.profile.hypothesis_tests import TestResult
from proteron.core.timeline import Ints
from proteron.records import experiments as records
from proteron.records.database import NotFoundError
from proteron.records.models import Experiment
from proteron.records.results import load_results
from proteron.services.experiments import judging_of
from proteron.services.resources import Resources

_TRIED = 40
_COEFFICIENTS = 300


@dataclass(frozen=True)
class FromCutoff:
    """One contender's forecast of one series from an origin, by what the fold learned: arrays (horizon,).

    `bounds` (n_levels, 2, horizon) are its ranges, where they were kept; `stored` tells that it was judged from here.
    """

    contender: str
    fold: int
    stored: bool
    positions: Ints
    mean: Floats
    flat_mean: Floats
    levels: tuple[float, ...] = ()
    bounds: Floats | None = None


def forecasts_at(
    reach: Resources, experiment_id: int, series: int, origin: int, contenders: Sequence[str] | None = None
) -> tuple[int | None, list[FromCutoff], str]:
    """The fold that had learned by `origin`, what its contenders forecast from there, and a word where nothing had."""
    with reach.database.session() as session:
        experiment = records.get_experiment(session, experiment_id)
        panel = reach.panel(experiment.dataset_id)
        judging = judging_of(experiment)
        folds = judging.folds.resolve(panel)
        fold = learned_by(folds, origin)
        if fold is None:
            first = str(panel.axis.local(np.array([folds[0].cutoff - 1]))[0]).replace("T", " ")
            return None, [], f"No fold had learned by then; the first cutoff is {first}."
        wanted = list(contenders or judging.entrants)
        stored = folds[fold].origins
        results = load_results(session, experiment_id, wanted, fold, series, learned=origin not in stored)
    with reach.computing():
        found = [
            _from_cutoff(panel, result, series, origin)
            for result in results
            if result.fit is None or result.fit.read_by(result.cell.contender)
        ]
    return fold, sorted(found, key=lambda each: wanted.index(each.contender)), ""


def _from_cutoff(panel: Panel, result: CellResult, series: int, origin: int) -> FromCutoff:
    cell, place = result.cell, result.cell.place
    row, at = cell.series.index(series), np.flatnonzero(result.origins == origin)
    positions = origin + place.gap + np.arange(place.horizon)
    if len(at):
        bounds = result.ranges[:, :, row, at[0]] if cell.levels else None
        mean, flat = result.mean[row, at[0]], result.flat_mean[row, at[0]]
        return FromCutoff(cell.name, cell.fold, True, positions, mean, flat, cell.levels, bounds)
    known = place.known(panel.select([series]), origin)
    mean, flat = result.fitted(known).means(known, np.array([origin]), place.reach)
    return FromCutoff(cell.name, cell.fold, False, positions, mean[0, 0, place.gap :], flat[0, 0, place.gap :])


@dataclass(frozen=True)
class Facts:
    """What one contender learned of one series in one fold."""

    fold: int
    summary: str
    safeguards: str
    seconds: float
    cpu_seconds: float
    series: int
    memory: int | None
    bytes: int
    coefficients: list[Coefficient]
    criteria: dict[str, float]
    steps: OneStep
    tried: list[Tried]
    pictures: list[Picture]
    checks: list[tuple[str, TestResult]]
    checks_after: list[tuple[str, TestResult]]
    training: Training | None
    drawn: list[DrawnLayer]
    graph: bool
    stages: list[str]


def _safeguards(result: CellResult, panel: Panel, key: str) -> str:
    """What holds the forecasts of a series, and how many steps of those in the fold it moved."""
    series, place = panel.keys.index(key), result.cell.place
    inside = place.inside(panel.select([series]))
    fitted = result.fitted(inside)
    if fitted.guards is None or not result.cell.contender.guarded:
        return "Safeguards are off."
    moved = int(fitted.held_steps(inside, place.origins, place.reach)[0])
    count = len(place.origins) * place.reach
    contender = result.cell.contender
    words = fitted.guards.in_words(key, contender.floor, contender.forecaster.tells_rates)
    told = f"moved {moved:,} of the {count:,} steps" if moved else f"moved none of the {count:,} steps"
    return f"{words} This {told} forecast in this fold."


def learned_of(
    reach: Resources, experiment_id: int, contender: str, series: int, fold: int | None = None,
    origin: int | None = None,
) -> FittedContender:  # fmt: skip
    """A contender as it stood in a fold, with what it knew of the series it learned together with this one."""
    result, panel = _learned(reach, experiment_id, contender, series, fold, origin)
    place = result.cell.place
    return result.fitted(place.known(panel.select(list(result.cell.series)), place.fit_until))


def facts_of(
    reach: Resources, experiment_id: int, contender: str, series: int, fold: int | None = None,
    origin: int | None = None,
) -> Facts:  # fmt: skip
    """Of a fold, or of the one that had learned by `origin`; raises `NotFoundError` where there is no result yet."""
    result, panel = _learned(reach, experiment_id, contender, series, fold, origin)
    with reach.computing():
        return _facts(result, panel, series)


def _learned(
    reach: Resources, experiment_id: int, contender: str, series: int, fold: int | None, origin: int | None
) -> tuple[CellResult, Panel]:
    with reach.database.session() as session:
        experiment = records.get_experiment(session, experiment_id)
        panel = reach.panel(experiment.dataset_id)
        fold = _fold_of(experiment, panel, fold, origin)
        results = load_results(session, experiment_id, [contender], fold, series, learned=True)
    if not results:
        raise NotFoundError("This cell has no result yet.")
    return results[0], panel


def _fold_of(experiment: Experiment, panel: Panel, fold: int | None, origin: int | None) -> int:
    if origin is not None:
        fold = learned_by(judging_of(experiment).folds.resolve(panel), origin)
    if fold is None:
        raise NotFoundError("No fold had learned by then.", field="origin")
    return fold


def _facts(result: CellResult, panel: Panel, series: int) -> Facts:
    fitted, place, key = result.fitted(panel), result.cell.place, panel.keys[series]
    forecaster = result.cell.contender.forecaster
    known = panel.select([series]).between(place.learn_start, place.fit_until)
    steps = one_step(replace(fitted, known=known), panel, key, place.learn_start, place.score_stop)
    pictures = forecaster.pictures(fitted.state, fitted.chain.apply(known.learnable()), key)
    joint = joint_picture(fitted, panel, key, place.learn_start, place.horizon)
    checks = residual_checks(steps, panel.axis.step.season) if forecaster.checked else []
    return Facts(
        fold=result.cell.fold,
        summary=forecaster.summary(fitted.state, key),
        safeguards=_safeguards(result, panel, key),
        seconds=result.seconds,
        cpu_seconds=result.cpu_seconds,
        series=len(result.cell.series),
        memory=result.memory,
        bytes=sum(array.nbytes for array in fitted.state.arrays.values()),
        coefficients=forecaster.coefficient_table(fitted.state, key)[:_COEFFICIENTS],
        criteria=forecaster.criteria(fitted.state, key),
        steps=steps,
        tried=forecaster.tried(fitted.state, key)[:_TRIED],
        pictures=[*pictures, *([joint] if joint else []), *fit_pictures(steps)],
        checks=checks,
        checks_after=residual_checks(steps, panel.axis.step.season, after=True),
        training=forecaster.training(fitted.state),
        drawn=forecaster.drawn(fitted.state),
        graph=forecaster.has_graph,
        stages=[stage.title for stage in fitted.chain.stages],
    )
