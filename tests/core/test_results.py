"""Anomalies and outlook: out of sample, within budget, earned ranges."""

import numpy as np
import pytest

import proteron as pt
from proteron.core.outlook import walk_forward_errors
from proteron.core.panel import Panel


def test_planted_spikes_score_highest_and_alone(hourly: Panel) -> None:
    values = hourly.values.copy()
    planted = [800, 1100, 1340]
    values[planted] += 25
    found = pt.find_anomalies(hourly.with_values(values), using="ridge", per_week=0.7)
    north = sorted((flag for flag in found if flag.key == "north"), key=lambda flag: -flag.score)
    assert {flag.start for flag in north[:3]} == set(planted)
    assert north[0].time == str(hourly.times("north")[north[0].start])


def test_scores_use_nothing_that_comes_later(hourly: Panel) -> None:
    later = hourly.values.copy()
    later[1400:1500] += 500  # end of the first series only
    before = pt.find_anomalies(hourly, using="ridge").scores.series(0)[1]
    after = pt.find_anomalies(hourly.with_values(later), using="ridge").scores.series(0)[1]
    assert np.array_equal(before[:1400], after[:1400], equal_nan=True)


def test_outlook_ranges_come_from_walk_forward_errors(hourly: Panel) -> None:
    panel = hourly.select([0])
    model = pt.forecaster("seasonal_last_value", period=24)
    report = pt.walk_forward(panel, {"naive": model}, pt.Folds.expanding(count=9, horizon=5, span=25, every=5))
    errors = walk_forward_errors(panel, report.results)
    assert errors.shape == (45, 1, 5)
    forecast = pt.outlook(panel, model, report.results, horizon=3, levels=[0.8])
    ranked = np.sort(forecast.mean[0, 0] - errors[:, 0, 0])
    assert forecast.lower[0.8][0, 0] == pytest.approx(np.interp(46 * 0.1 - 1, np.arange(45), ranked))
    assert forecast.times[0] == panel.times("north")[-1] + np.timedelta64(1, "h")
    assert forecast.errors.how == "walk-forward"
    assert pt.outlook(panel, model, report.results, horizon=6, paths=9).errors.how == "rehearsals", (
        "judged only 5 ahead"
    )
    early = pt.outlook(panel, model, report.results, horizon=3, until=int(report.folds[4].cutoff) - 4, paths=9)
    known = np.isfinite(early.errors.flat[:, 0]).sum(axis=0).tolist()
    assert known == [20, 19, 19], "nothing that was not known by then"
