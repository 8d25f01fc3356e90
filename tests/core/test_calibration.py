"""Calibration: shares by level, step and between ends, against a walk over the points one by one."""

from dataclasses import replace

import numpy as np
import pytest
from scipy import stats

import proteron as pt
from proteron.core.judge import CellResult, Folds, Report, calibrate
from proteron.core.judge.yardsticks import scored_truth

LEVELS = (0.95, 0.5)  # in no order
FOLDS = Folds.expanding(count=40, horizon=3, gap=1, every=2, span=6)


@pytest.fixture(scope="module")
def report() -> Report:
    rng = np.random.default_rng(6)
    data = pt.Panel.from_arrays({k: 50 + rng.standard_normal(400) for k in "ab"}, start="2024-01-01", step="1d")
    entered = {"mean": pt.forecaster("mean"), "last": pt.forecaster("last_value")}
    return pt.walk_forward(data, entered, FOLDS, metrics=["mae"], levels=LEVELS)


def with_ranges(result: CellResult, spread: float, shift: float = 0.0) -> CellResult:
    """Ranges of a normal distribution about 50 in every place."""
    ends = np.array(
        [[50 + shift + side * spread * stats.norm.ppf((1 + level) / 2) for side in (-1, 1)] for level in LEVELS]
    )
    return replace(result, ranges=np.broadcast_to(ends[:, :, None, None, None], result.ranges.shape))


def test_shares_are_those_of_a_walk_over_the_points(report: Report) -> None:
    found = report.calibration("mean")
    assert found.levels == (0.5, 0.95) and found.edges == pytest.approx([0, 0.025, 0.25, 0.75, 0.975, 1])
    inside, total, width, bins = np.zeros((2, 3)), np.zeros(3), np.zeros(2), np.zeros(5)
    for each in (one for one in report.results if one.cell.name == "mean"):
        truth = scored_truth(report.panel, each.cell.place)
        for place in zip(*np.nonzero(np.isfinite(truth)), strict=True):
            y, step = truth[place], place[2]
            (low95, high95), (low50, high50) = each.ranges[(slice(None), slice(None), *place)]
            inside[:, step] += [low50 <= y <= high50, low95 <= y <= high95]
            width += [high50 - low50, high95 - low95]
            bins[sum(y > end for end in (low95, low50, high50, high95))] += 1
            total[step] += 1
    assert found.points == total.sum() and found.by_step == pytest.approx(inside / total)
    assert found.covered == pytest.approx(inside.sum(axis=1) / total.sum())
    assert found.widths == pytest.approx(width / total.sum())
    assert found.density == pytest.approx(bins / total.sum() / np.diff(found.edges))


def test_a_perfect_forecast_is_even_a_narrow_one_is_a_valley_and_a_shifted_one_leans(report: Report) -> None:
    def told(spread: float, shift: float = 0.0):  # type: ignore[no-untyped-def]
        return calibrate(report.panel, [with_ranges(each, spread, shift) for each in report.results], "mean")

    right, narrow, high = told(1.0), told(0.5), told(1.0, 1.0)
    assert right.density == pytest.approx(1, abs=0.5) and right.covered == pytest.approx([0.5, 0.95], abs=0.06)
    assert narrow.density[[0, -1]].min() > 4 and narrow.density[2] < 0.7
    assert high.density[0] > 3 and high.density[-1] < 0.5
    assert narrow.widths == pytest.approx(right.widths / 2)


def test_where_there_are_no_ranges_it_is_said(report: Report) -> None:
    bare = [replace(each, cell=replace(each.cell, levels=())) for each in report.results]
    for results, name in ((bare, "mean"), (report.results, "nobody")):
        with pytest.raises(pt.ProteronError, match="no ranges"):
            calibrate(report.panel, results, name)
