"""Flags against slow twins: which runs there are, what they are called, what an alert budget allows."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import proteron as pt
from proteron.core.anomalies import (
    Scores,
    budget_threshold,
    flags_above,
    residual_scores,
    scan_folds,
    threshold_as_of,
)  # fmt: skip
from proteron.core.judge import compute_cell, expand
from proteron.core.panel import Panel

POINTS = st.lists(st.one_of(st.floats(0, 30), st.just(float("nan"))), min_size=1, max_size=80)


def slow_runs(score: list[float], threshold: float) -> list[tuple[int, int]]:
    runs, start = [], None
    for at, value in enumerate([*score, 0.0]):
        if value > threshold and at < len(score):
            start = at if start is None else start
        elif start is not None:
            runs.append((start, at))
            start = None
    return runs


def scores_of(*series: list[float], step: str = "1 hour", starts: list[str] | None = None) -> Scores:
    values = {f"s{i}": np.zeros(len(each)) for i, each in enumerate(series)}
    begin = {f"s{i}": (starts or ["2024-01-01"] * len(series))[i] for i in range(len(series))}
    panel = Panel.from_arrays(values, begin, step)
    flat = np.concatenate([np.array(each, dtype=float) for each in series])
    return Scores(panel, np.zeros(len(flat)), flat)


@settings(max_examples=200, deadline=None)
@given(score=POINTS, threshold=st.floats(0.5, 20))
def test_flags_are_the_runs_above_the_threshold(score: list[float], threshold: float) -> None:
    flags = flags_above(scores_of(score), 0, threshold)
    expected = slow_runs(score, threshold)
    assert [(flag.start, flag.stop) for flag in flags] == expected
    for flag in flags:
        assert flag.score == max(score[flag.start : flag.stop])
        assert flag.kind == ("spike" if flag.stop - flag.start < 3 else "level shift")
        assert flag.time == str(np.datetime64("2024-01-01T00:00:00") + np.timedelta64(flag.start, "h"))
        assert flag.key == "s0"


@settings(max_examples=200, deadline=None)
@given(score=POINTS, budget=st.floats(0.1, 40), until=st.integers(1, 80))
def test_a_flag_raised_by_a_moment_is_one_of_what_was_known(score: list[float], budget: float, until: int) -> None:
    scores = scores_of(score)
    early = flags_above(scores, 0, 3.0, until)
    known = scores_of(score[:until])
    assert [(f.start, f.stop, f.kind, f.score) for f in early] == [
        (f.start, f.stop, f.kind, f.score) for f in flags_above(known, 0, 3.0)
    ]  # fmt: skip
    learned = threshold_as_of(scores, 0, until, budget)
    assert np.array_equal(learned, threshold_as_of(known, 0, None, budget), equal_nan=True)


@settings(max_examples=300, deadline=None)
@given(score=POINTS, budget=st.floats(0.1, 40))
def test_a_budget_s_threshold_keeps_the_budget_and_three_spreads(score: list[float], budget: float) -> None:
    values = np.array(score)
    threshold = budget_threshold(values, 24.0, budget)
    present = values[np.isfinite(values)]
    if not len(present):
        assert np.isnan(threshold)
        return
    assert threshold >= 3.0
    allowed = max(1, int(budget * len(present) / 24.0))
    assert len(slow_runs(score, threshold)) <= allowed
    assert threshold == 3.0 or threshold in present


def test_points_below_three_spreads_do_not_join_runs_into_fewer() -> None:
    score = np.array([4.0, 2, 4, 2, 4, 1, 1, 1, 1, 1, 1, 1])  # above 1 they are one run, above 3 three
    assert budget_threshold(score, 168.0, 1.0) == 4.0


def test_the_threshold_is_the_lowest_that_the_budget_allows() -> None:
    """Single spikes of 4, 5 … 13 among quiet points: one week of hours, so many flags as the budget says."""
    score = np.zeros(168)
    score[5::16][:10] = np.arange(4.0, 14.0)
    for budget in range(1, 11):
        threshold = budget_threshold(score, 168.0, float(budget))
        above = slow_runs(score.tolist(), threshold)
        assert len(above) == budget if budget < 10 else len(above) <= 10, budget
        assert threshold == (13.0 - budget if budget < 10 else 3.0)
    assert budget_threshold(score, 168.0, 0.2) == 12.0, "one is always allowed"
    assert budget_threshold(np.tile(score, 2), 168.0, 2.5) == budget_threshold(np.tile(score, 2), 168.0, 2.9)


def test_a_run_counts_once_against_the_budget() -> None:
    score = np.zeros(168)
    score[20:60] = 9.0
    score[100] = 8.0
    assert budget_threshold(score, 168.0, 1.0) == 8.0
    assert budget_threshold(score, 168.0, 2.0) == 3.0


def test_steps_per_week_follow_the_step() -> None:
    spikes = [0.0] * 28
    spikes[3], spikes[10], spikes[17], spikes[24] = 9.0, 8.0, 7.0, 6.0
    daily = scores_of(spikes, step="1 day")
    assert threshold_as_of(daily, 0, None, 1.0) == 3.0, "four weeks, four flags"
    hourly = scores_of(spikes, step="1 hour")
    assert threshold_as_of(hourly, 0, None, 1.0) == 8.0, "a sixth of a week: one flag"
    assert threshold_as_of(daily, 0, 14, 1.0) == 3.0
    assert threshold_as_of(daily, 0, 7, 0.5) == 3.0


def test_series_that_start_late_are_flagged_at_their_own_times() -> None:
    scores = scores_of([0.0] * 50, [0, 9.0, 0], starts=["2024-01-01T00:00", "2024-01-02T00:00"])
    (flag,) = flags_above(scores, 1, 3.0)
    assert (flag.key, flag.start, flag.time) == ("s1", 1, "2024-01-02T01:00:00")
    assert flags_above(scores, 1, 3.0, 25) == [], "as of the hour before"
    assert len(flags_above(scores, 1, 3.0, 26)) == 1
    assert [scores.highest(1, until) for until in (24, 25, 26, None)] == [None, 0.0, 9.0, 9.0]


@pytest.fixture(scope="module")
def scanned() -> tuple[Panel, Scores, list]:
    rng = np.random.default_rng(4)
    panel = Panel.from_arrays({"a": 50 + rng.normal(size=200), "b": 20 + rng.normal(size=150)},
                              {"a": "2024-01-01T00:00", "b": "2024-01-03T02:00"}, "1 hour")  # fmt: skip
    folds = scan_folds(panel, 4).resolve(panel)
    cells = expand(panel, {"scan": pt.forecaster("mean", chain=pt.Chain([pt.flatten.ZScore()]))}, folds, 0)
    results = [compute_cell(panel, cell) for cell in cells]
    return panel, residual_scores(panel, results), results


def test_every_point_is_scored_by_the_fold_that_ends_before_it(scanned) -> None:  # type: ignore[no-untyped-def]
    """Residual over spread, both in flat units, of the only fold whose scored span the point lies in."""
    panel, scores, results = scanned
    for index in range(2):
        expected, score = scores.series(index)
        for local in range(int(panel.lengths[index])):
            position = int(panel.starts[index]) + local
            fold = next((r for r in results if r.cell.place.cutoff <= position < r.cell.place.score_stop), None)
            if fold is None:
                assert np.isnan(score[local])
                continue
            origin = fold.origins.tolist().index(position)
            residual = abs(fold.flat_mean[index, origin, 0] - fold.flat_truth[index, origin, 0])
            assert score[local] == pytest.approx(residual / fold.spread[index], nan_ok=True)
            assert expected[local] == pytest.approx(fold.mean[index, origin, 0], nan_ok=True)
    assert np.isfinite(scores.series(0)[1]).sum() == 200 - results[0].cell.place.cutoff


@pytest.mark.parametrize("points", [20, 64, 200, 1000])
def test_a_scan_never_asks_for_more_folds_than_there_is_data(points: int) -> None:
    panel = Panel.from_arrays({"a": np.arange(float(points))}, "2024-01-01", "1 hour")
    asked = scan_folds(panel)
    assert asked.count == min(12, max(1, points // 16))
    folds = asked.resolve(panel)
    assert (asked.horizon, asked.every) == (1, 1)
    assert folds[-1].score_stop == points
    assert folds[0].cutoff >= points // 4
    scored = [o for fold in folds for o in fold.origins.tolist()]
    assert scored == list(range(folds[0].cutoff, points)), "every point once"


def test_a_scan_finds_what_was_planted_and_nothing_much_else() -> None:
    rng = np.random.default_rng(5)
    hours = np.arange(1200)
    values = 50 + 10 * np.sin(hours * 2 * np.pi / 24) + rng.normal(size=1200)
    values[700] += 25
    values[900:910] -= 30
    panel = Panel.from_arrays({"a": values}, "2024-01-01T00:00", "1 hour")
    found = pt.find_anomalies(panel, using="ridge", per_week=1.0)
    spans = [(flag.start, flag.stop, flag.kind) for flag in found]
    assert (700, 701, "spike") in spans
    assert any(start <= 900 < stop for start, stop, _ in spans)
    assert len(found) <= 1200 / 168 + 1
    assert list(found) == sorted(found, key=lambda flag: flag.time)
    assert repr(found).startswith(f"Anomalies: {len(found)} flags over 1 series (")
    arrow = found.to_arrow()
    assert arrow["start"].to_pylist() == [flag.start for flag in found]
    for bad in (0.0, -1.0, float("nan")):
        with pytest.raises(pt.SettingsError, match="a positive number of flags per week"):
            pt.find_anomalies(panel, per_week=bad)
