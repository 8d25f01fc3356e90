"""Flags against slow twins: which runs there are, what they are called, what an alert budget allows."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import proteron as pt
from proteron.core.anomalies import Scores, residual_candidates, residual_scores, scan_folds
from proteron.core.anomalies.residuals import RESIDUAL
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
@given(score=POINTS)
def test_candidates_are_the_runs_above_the_least_threshold(score: list[float]) -> None:
    found = residual_candidates(scores_of(score), 0)
    assert [(each.start, each.stop) for each in found.candidates] == slow_runs(score, RESIDUAL.least)
    for each in found.candidates:
        assert each.score == max(score[each.start : each.stop])
        assert each.kind == ("spike" if each.stop - each.start < 3 else "level shift")
        grown = [at for at in range(each.start, each.stop) if score[at] > max([0.0, *score[each.start : at]])]
        assert each.course == tuple((at, score[at]) for at in grown)


def test_series_that_start_late_are_flagged_at_their_own_times() -> None:
    scores = scores_of([0.0] * 50, [0, 9.0, 0], starts=["2024-01-01T00:00", "2024-01-02T00:00"])
    (found,) = residual_candidates(scores, 1).found(scores.panel, 1, "as_of").candidates
    assert (found.start, found.stop, found.course, found.observed) == (1, 2, ((1, 9.0),), 0.0)
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
    assert len(found) <= 2 * 1200 / 168
    assert list(found) == sorted(found, key=lambda flag: flag.time)
    assert repr(found).startswith(f"Anomalies: {len(found)} flags over 1 series (")
    arrow = found.to_arrow()
    assert arrow["start"].to_pylist() == [flag.start for flag in found]
