"""Thresholds, spreads and flags are those of the moment: nothing right of the cutoff moves them by a bit."""

import numpy as np
import pytest

import proteron as pt
from proteron.core.anomalies import Scores, budget_threshold, flags_above, residual_scores, scan_folds, threshold_as_of
from proteron.core.leak_check import CORRUPTIONS, corrupt_future
from proteron.core.panel import Panel

UNTIL = 1100


def scores_of(score: list[float], start: str = "2024-01-01") -> Scores:
    panel = Panel.from_arrays({"a": np.zeros(len(score))}, start, "1h")
    return Scores(panel, np.zeros(len(score)), np.array(score))


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

    values = hourly.values.copy()
    values[UNTIL:1500] = values[UNTIL:1500] * 1e6  # of the first series; would have lifted a floor learned from truths
    before, after = scan(hourly), scan(hourly.with_values(values))
    assert before.score[:UNTIL].tobytes() == after.score[:UNTIL].tobytes()
    for budget in (0.5, 2.0, 10.0):
        thresholds = [threshold_as_of(each, 0, UNTIL, budget) for each in (before, after)]
        assert thresholds[0] == thresholds[1]
        assert threshold_as_of(after, 0, None, budget) >= thresholds[0]
    flags = [flags_above(each, 0, 2.0, UNTIL) for each in (before, after)]
    assert flags[0] == flags[1] and flags[0]


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


def test_a_threshold_is_learned_from_the_scores_known_by_then() -> None:
    quiet, wild = [1.0, 4.0, 1.0, 5.0] * 42, [90.0, 1.0] * 84
    scores = scores_of(quiet + wild)
    assert threshold_as_of(scores, 0, 168, 1.0) == budget_threshold(np.array(quiet), 168.0, 1.0)
    assert threshold_as_of(scores, 0, 168, 1.0) < 6 < threshold_as_of(scores, 0, None, 1.0)
    assert np.isnan(threshold_as_of(scores, 0, 0, 1.0))
    daily = Scores(Panel.from_arrays({"a": np.zeros(28)}, "2024-01-01", "1 day"), np.zeros(28), np.arange(28.0))
    assert threshold_as_of(daily, 0, None, 1.0) == budget_threshold(np.arange(28.0), 7.0, 1.0)


@pytest.mark.parametrize(
    ("run", "until", "kind", "length"),
    [(1, None, "spike", 1), (2, None, "spike", 2), (3, None, "level shift", 3), (5, 12, "spike", 2),
     (5, 13, "level shift", 3)],
)  # fmt: skip
def test_the_kind_of_a_flag_follows_from_what_is_known_of_its_run(
    run: int, until: int | None, kind: str, length: int
) -> None:
    score = [0.0] * 10 + [5.0 + each for each in range(run)] + [0.0] * 10
    (flag,) = flags_above(scores_of(score), 0, 4.0, until)
    assert (flag.kind, flag.start, flag.stop) == (kind, 10, 10 + length)
    assert flag.score == 5.0 + length - 1
    assert flag.time == "2024-01-01T10:00:00"
    assert flags_above(scores_of(score), 0, 4.0, 10) == []
    assert flags_above(scores_of(score), 0, 5.0 + run, None) == []


@pytest.mark.parametrize(("points", "count"), [(400, 8), (100, 6), (16, 1), (40, 2)])
def test_a_scan_looks_at_the_last_three_quarters_once_one_step_ahead(points: int, count: int) -> None:
    panel = Panel.from_arrays({"a": np.arange(float(points))}, "2024-01-01", "1h")
    folds = scan_folds(panel, 8).resolve(panel)
    assert len(folds) == count
    origins = np.concatenate([fold.origins for fold in folds])
    assert np.array_equal(origins, np.arange(origins[0], points))
    assert {fold.reach for fold in folds} == {1}
    assert abs(len(origins) - 0.75 * points) <= count


def test_a_budget_counts_runs_not_points() -> None:
    score = np.zeros(168 * 4)
    score[100:110] = 9.0  # one long run
    score[[200, 300, 400]] = [8.0, 7.0, 6.0]
    threshold = budget_threshold(score, 168.0, 0.5)
    assert threshold == 7.0
    scores = scores_of(score.tolist())
    assert len(flags_above(scores, 0, threshold)) == 2
    assert len(flags_above(scores, 0, np.nextafter(threshold, 0))) == 3
    assert budget_threshold(np.full(168, 0.5), 168.0, 1.0) == 3.0  # never below three spreads
    assert np.isnan(budget_threshold(np.full(10, np.nan), 168.0, 1.0))
