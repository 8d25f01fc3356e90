"""The ways in which a number deceives: each planted one is named, fair ones are not."""

from collections.abc import Callable
from dataclasses import replace

import numpy as np
import pytest
from numpy.typing import NDArray

import proteron as pt
from proteron.core.judge import LEVELS, CellResult, Folds, Report, losses_of
from proteron.core.judge.deceptions import Deception, caution_of
from proteron.core.judge.yardsticks import scored_truth
from proteron.core.panel import Panel

Array = NDArray[np.float64]
FOLDS = Folds.expanding(count=8, horizon=6, every=3, span=12)
ENTERED = {"last": "last_value", "mean": "mean", "fair": "smoothing"}


def panel(series: int = 2, length: int = 240, level: float = 20.0) -> Panel:
    rng, time = np.random.default_rng(4), np.arange(length)
    values = {}
    for place in range(series):
        noise = rng.standard_normal(length + 50)
        process = np.convolve(noise, 0.6 ** np.arange(50), "valid")[:length]
        values[f"s{place}"] = level + 2 * process + np.sin(2 * np.pi * time / 7)
    return pt.Panel.from_arrays(values, start="2024-01-01", step="1d")


def judged(data: Panel, folds: Folds = FOLDS, levels: tuple[float, ...] = LEVELS, **more: pt.Contender) -> Report:
    entered = {name: pt.forecaster(kind) for name, kind in ENTERED.items()}
    return pt.walk_forward(data, entered | more, folds, metrics=["mae", "rmse"], baseline="last", levels=levels)


def planted(report: Report, change: Callable[[CellResult, Array], CellResult], name: str = "fair") -> Report:
    """The same, as if one entrant had found something else; `change` is told what happened, too."""
    results = []
    for each in report.results:
        if each.cell.name == name:
            changed = change(each, scored_truth(report.panel, each.cell.place))
            each = replace(changed, losses=losses_of(report.panel, changed))
        results.append(each)
    return replace(report, results=tuple(results))


def mean_of(change: Callable[[CellResult, Array], Array]) -> Callable[[CellResult, Array], CellResult]:
    """With another mean, and ranges as far from it."""

    def changed(result: CellResult, truth: Array) -> CellResult:
        mean = change(result, truth)
        return replace(result, mean=mean, ranges=result.ranges + (mean - result.mean), flat_mean=mean)

    return changed


def kinds(report: Report, name: str = "fair") -> set[str]:
    return {each.kind for each in report.deceptions if each.contender == name}


def test_a_fair_experiment_names_nobody() -> None:
    report = judged(panel())
    assert [each for each in report.deceptions if each.contender == "fair"] == []


def late(report: Report, lag: int) -> Callable[[CellResult, Array], Array]:
    def of(result: CellResult, truth: Array) -> Array:
        place = result.cell.place
        steps = place.origins[:, None] + place.gap + np.arange(place.horizon) - lag
        noise = np.random.default_rng(result.cell.fold).standard_normal((len(report.panel), *steps.shape))
        return np.array([report.panel.series(i)[steps] for i in range(len(report.panel))]) + 0.1 * noise

    return of


@pytest.mark.parametrize(("folds", "lag"), [
    (Folds.single(count=80, horizon=1), 1), (FOLDS, 6), (Folds.sliding(count=12, horizon=4, length=60), 4),
])  # fmt: skip
def test_a_forecast_that_follows_the_truth_late_is_an_echo(folds: Folds, lag: int) -> None:
    report = judged(panel(), folds)
    echo = planted(report, mean_of(late(report, lag)))
    found = {each.kind: each for each in echo.deceptions if each.contender == "fair"}
    assert f"follow the truth {lag} step" in found["echo"].text and found["echo"].title == "an echo"
    assert "echo" not in kinds(echo, "last"), "baselines say themselves that they are"
    assert "echo" not in kinds(report)
    less = planted(report, mean_of(lambda result, truth: 0.7 * late(report, lag)(result, truth) + 6))
    assert "echo" not in kinds(less), "what goes along by a part only has a mind of its own"


def test_one_that_knows_what_it_cannot_is_too_good_to_be_true() -> None:
    report = judged(panel())
    peeks = planted(report, mean_of(lambda result, truth: np.where(np.isnan(truth), result.mean, truth + 0.01)))
    (found,) = [each for each in peeks.deceptions if each.kind == "too_good"]
    assert found.contender == "fair" and "leak check" in found.text
    both = planted(peeks, mean_of(lambda result, truth: np.where(np.isnan(truth), result.mean, truth + 0.02)), "mean")
    assert "too_good" not in kinds(both), "where another is nearly as good, the series is just easy"
    naive = planted(report, mean_of(lambda result, truth: np.where(np.isnan(truth), result.mean, truth + 0.01)), "mean")
    assert "too_good" not in kinds(naive, "mean"), "a baseline cannot have been made to peek"


def test_one_that_wins_by_one_fold_is_named() -> None:
    report = judged(panel())
    base = {each.cell.fold: each for each in report.results if each.cell.name == "last"}

    def once(result: CellResult, truth: Array) -> Array:
        theirs = base[result.cell.fold].mean
        won = result.cell.fold == 3
        known = np.where(np.isnan(truth), theirs, truth)
        return known + (theirs - known) * (0.02 if won else 1.05)

    lucky = planted(report, mean_of(once))
    (found,) = [each for each in lucky.deceptions if each.kind == "one_fold"]
    assert found.contender == "fair" and "owes its skill to fold 4" in found.text and "7 of 8 folds" in found.text

    for count, named in ((4, True), (3, False)):  # of three folds one is soon the best by far
        few = judged(panel(), Folds.expanding(count=count, horizon=6, every=3, span=12))
        theirs = {each.cell.fold: each.mean for each in few.results if each.cell.name == "last"}

        def first(result: CellResult, truth: Array, theirs: dict[int, Array] = theirs) -> Array:
            known = np.where(np.isnan(truth), theirs[result.cell.fold], truth)
            return known + (theirs[result.cell.fold] - known) * (0.02 if result.cell.fold == 0 else 1.02)

        assert ("one_fold" in kinds(planted(few, mean_of(first)))) == named

    def always(result: CellResult, truth: Array) -> Array:
        away = base[result.cell.fold].mean - truth
        return np.where(np.isnan(truth), result.mean, truth + away * (0.5 if result.cell.fold == 3 else 0.9))

    assert "one_fold" not in kinds(planted(report, mean_of(always)))


def test_one_that_is_worse_on_most_series_is_named() -> None:
    report = judged(panel(series=6))
    base = {each.cell.fold: each for each in report.results if each.cell.name == "last"}

    def on(good: int) -> Callable[[CellResult, Array], Array]:
        share = np.where(np.arange(6) < good, 0.05, 1.1)[:, None, None]

        def of(result: CellResult, truth: Array) -> Array:
            theirs = base[result.cell.fold].mean
            known = np.where(np.isnan(truth), theirs, truth)
            return known + (theirs - known) * share

        return of

    (found,) = [each for each in planted(report, mean_of(on(2))).deceptions if each.kind == "most_series"]
    assert "worse on 4 of 6 series" in found.text
    assert "most_series" not in kinds(planted(report, mean_of(on(3)))), "half is not most"


def test_ranges_that_do_not_hold_what_they_say_are_named() -> None:
    report = judged(panel())

    def scaled(by: float) -> Callable[[CellResult, Array], CellResult]:
        return lambda result, truth: replace(result, ranges=result.mean + by * (result.ranges - result.mean))

    assert kinds(planted(report, scaled(0.4))) == {"too_narrow"}
    assert kinds(planted(report, scaled(4.0))) == {"too_wide"}
    (narrow,) = [each for each in planted(report, scaled(0.4)).deceptions if each.contender == "fair"]
    assert "% range held" in narrow.text and narrow.title == "ranges too narrow"
    wide = judged(panel(1), Folds.expanding(count=5, horizon=10), levels=(0.95,))
    all_held = planted(wide, scaled(3.0))
    assert all_held.calibration("fair").covered == pytest.approx([1.0])
    assert not kinds(all_held), "fifty points inside a 95 % range are no proof that it is too wide"
    few = judged(panel(), Folds.expanding(count=3, horizon=4))
    assert kinds(planted(few, scaled(0.4))) <= {"too_narrow"} and not kinds(few)


def test_fewer_points_than_the_baseline_are_named() -> None:
    report = judged(panel())

    def missing(result: CellResult, truth: Array) -> CellResult:
        hole = (np.arange(2) == 0)[:, None, None] & (result.cell.fold == 1)
        return replace(result, mean=np.where(hole, np.nan, result.mean))

    (found,) = [each for each in planted(report, missing).deceptions if each.kind == "fewer_points"]
    assert found.contender == "fair" and "of last" in found.text


def test_one_that_is_good_in_flattened_units_or_inside_only_is_named() -> None:
    data = panel()
    chained = judged(data, flat=pt.forecaster("mean", chain=pt.Chain([pt.flatten.Log()])))

    def flattering(result: CellResult, truth: Array) -> CellResult:
        return replace(
            result, flat_mean=result.flat_truth * 0.999, mean=result.mean + 8.0, ranges=result.ranges + 8.0
        )  # fmt: skip

    found = {each.kind: each for each in planted(chained, flattering, "flat").deceptions if each.contender == "flat"}
    assert "In flattened units it explains 100 %" in found["flat_only"].text and "skill is −" in found["flat_only"].text
    assert "flat_only" not in kinds(chained, "flat")

    def learned_by_heart(result: CellResult, truth: Array) -> CellResult:
        return replace(result, spread=result.spread * 0.2)

    overfitted = planted(judged(data), learned_by_heart)
    (inside,) = [each for each in overfitted.deceptions if each.kind == "inside_only"]
    assert inside.contender == "fair" and "times that inside what it learned" in inside.text


def test_what_is_to_be_minded_is_said_of_the_best_alone() -> None:
    found = [Deception("a", "echo", "an echo", "…"), Deception("b", "x", "ranges too wide", "…")]
    assert caution_of({"a": 0.2, "b": 0.3, "c": None}, found) == "Mind of b: ranges too wide."
    assert caution_of({"a": 0.4, "b": 0.3}, [*found, Deception("a", "y", "worse on most series", "…")]) == (
        "Mind of a: an echo and worse on most series."
    )
    assert caution_of({"a": 0.2, "c": 0.5}, found) == caution_of({"a": -0.1}, found) == caution_of({}, found) == ""
