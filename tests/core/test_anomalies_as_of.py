"""Thresholds, spreads and flags are those of the moment: nothing right of the cutoff moves them by a bit."""

import numpy as np
import pytest

import proteron as pt
from proteron.core.anomalies import Scores, residual_candidates, residual_scores, scan_folds
from proteron.core.leak_check import CORRUPTIONS, corrupt_future
from proteron.core.panel import Panel

UNTIL = 1100


@pytest.mark.parametrize("corruption", CORRUPTIONS)
def test_what_is_found_by_a_moment_does_not_depend_on_what_follows(hourly: Panel, corruption: str) -> None:
    spoiled = corrupt_future(hourly, UNTIL, corruption)
    clean, after = (pt.find_anomalies(each, using="ridge", per_week=3, until=UNTIL) for each in (hourly, spoiled))
    assert len(clean) > 5
    assert clean.flags == after.flags
    assert clean.thresholds == after.thresholds
    assert clean.scores.score.tobytes() == after.scores.score.tobytes()
    assert max(flag.stop + int(hourly.starts[hourly.index(flag.key)]) for flag in clean) <= UNTIL


def test_scores_and_thresholds_left_of_the_cutoff_stay_when_the_future_of_a_whole_scan_changes(hourly: Panel) -> None:
    """Scanned over everything, then looked at as of a moment: the room's way."""

    def scan(panel: Panel) -> Scores:
        entries = {"scan": pt.forecaster("seasonal_last_value", period=24)}
        report = pt.walk_forward(panel, entries, scan_folds(panel), ["mae"], "scan", levels=())
        return residual_scores(panel, report.results)

    clean = hourly.values.copy()
    clean[[700, 900, UNTIL - 1]] += 40
    values = clean.copy()
    values[UNTIL:1500] = values[UNTIL:1500] * 1e6  # of the first series; would have lifted a floor learned from truths
    before, after = scan(hourly.with_values(clean)), scan(hourly.with_values(values))
    assert before.score[:UNTIL].tobytes() == after.score[:UNTIL].tobytes()
    courses = [
        [[step for step in each.course if step[0] < UNTIL] for each in residual_candidates(scores, 0).candidates]
        for scores in (before, after)
    ]  # fmt: skip
    known = [[course for course in each if course] for each in courses]
    assert known[0] == known[1] and len(known[0]) == 3


def test_a_spread_of_nothing_is_what_rounding_leaves_of_the_known() -> None:
    """A constant series: whatever comes is scored against the size of what was known, not of what came."""
    values = np.full(80, 4000.0)
    values[60:] = 4000.0 + 1e-9
    values[70] = 1e12
    panel = Panel.from_arrays({"a": values}, "2024-01-01", "1h")
    (cell,) = pt.core.judge.expand(
        panel, {"m": pt.forecaster("last_value")}, [pt.core.judge.Fold(0, 50, 0, 1, 1, 80)], 0, levels=()
    )
    result = pt.core.judge.compute_cell(panel, cell)
    assert result.spread[0] == pytest.approx(4000.0 * 1e-9)
    score = residual_scores(panel, [result]).score
    assert score[60] == pytest.approx(1e-9 / 4e-6, rel=1e-3)
    small = panel.with_values(values / 4e6)
    (cell,) = pt.core.judge.expand(
        small, {"m": pt.forecaster("last_value")}, [pt.core.judge.Fold(0, 50, 0, 1, 1, 80)], 0, levels=()
    )
    assert pt.core.judge.compute_cell(small, cell).spread[0] == 1e-9  # never below that of one


@pytest.mark.parametrize(("points", "count"), [(400, 8), (100, 6), (16, 1), (40, 2)])
def test_a_scan_looks_at_the_last_three_quarters_once_one_step_ahead(points: int, count: int) -> None:
    panel = Panel.from_arrays({"a": np.arange(float(points))}, "2024-01-01", "1h")
    folds = scan_folds(panel, 8).resolve(panel)
    assert len(folds) == count
    origins = np.concatenate([fold.origins for fold in folds])
    assert np.array_equal(origins, np.arange(origins[0], points))
    assert {fold.reach for fold in folds} == {1}
    assert abs(len(origins) - 0.75 * points) <= count
