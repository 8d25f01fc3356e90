"""What a forecast looks at: shares add up to it, whatever the learner, and slopes are those of differences."""

import numpy as np
import pytest

import proteron as pt
from proteron.core.forecasters.influence import shuffled
from proteron.core.panel import Panel
from quick import DRAWN, QUICK


def fitted(kind: str, panel: Panel, **more: object) -> pt.FittedContender:
    settings = {name: value for name, value in QUICK[kind].items() if name not in ("lags", "epochs")}
    return pt.forecaster(kind, **{"epochs": 8, **settings, **more} if kind != "boosted_trees" else settings).fit(
        panel, until=1200, horizon=6
    )


@pytest.mark.parametrize("kind", DRAWN)
def test_shares_add_up_to_the_forecast(kind: str, hourly: Panel) -> None:
    model = fitted(kind, hourly)
    learner, known = model.contender.forecaster, hourly.cut_at(1200)
    ahead = model.forecast(6).mean[0]
    for step in (1, 6) if learner.way == "direct" else (1,):
        told = learner.influence(model.state, known, "north", step)
        assert told is not None
        assert told.average + told.shares.sum() == pytest.approx(told.forecast)
        assert told.forecast == pytest.approx(ahead[step - 1], abs=2e-3 * np.ptp(ahead) + 1e-4 * abs(ahead).max())
        assert told.lags[:3].tolist() == [1, 2, 3] and told.names[0].startswith("lag")
    drawn = learner.pictures(model.state, known, "north")
    if kind == "autoregressive_network":  # the mean of several repeats
        repeats = drawn.pop()
        np.testing.assert_allclose(np.mean([each.y for each in repeats.curves[:-1]], axis=0), repeats.curves[-1].y)
        assert [each.label for each in repeats.curves] == ["repeat 1", "repeat 2", "mean"]
    *over, shares, others, importance = drawn
    pictures = [shares, others, importance]
    assert len(over) == len(pictures[0].curves)
    for each in over:
        series, up, down = each.curves
        assert series.x[-1] == 0 and series.y[-1] == known["north"][-1] and 0 < len(up.x) + len(down.x) <= 12
        for curve in (up, down):
            np.testing.assert_array_equal(curve.y, known["north"][curve.x.astype(int) - 1])
    assert [len(each.curves) for each in pictures[:2]] == [2 if learner.way == "direct" else 1] * 2
    assert len(pictures) == 3 and (np.diff(pictures[2].curves[0].y) <= 0).all() and len(pictures[2].names) == 12
    assert pictures[0].curves[0].x[-1] == 0 and len(pictures[1].names) == len(pictures[1].curves[0].x)
    assert learner.influence(model.state, hourly.cut_at(10), "north", 1) is None
    assert learner.influence(model.state, known, "north", 99) is None


def test_what_alone_tells_is_what_it_looks_at(rng: np.random.Generator) -> None:
    values = np.zeros(1500)
    for at in range(5, 1500):
        values[at] = np.tanh(2 * values[at - 5]) + 0.3 * rng.normal()
    panel = Panel.from_arrays({"a": values}, "2020-01-01", "1h")
    for kind, more in (("dense_network", {"hidden": (16,)}), ("boosted_trees", {"trees": 60})):
        model = pt.forecaster(kind, lags=list(range(1, 9)), strategy="recursive", **more).fit(panel, until=1400)
        told = model.contender.forecaster.influence(model.state, panel.cut_at(1400), "a", 1)
        assert told is not None and told.lags[int(np.argmax(np.abs(told.shares)))] == 5, kind


def test_shuffling_costs_what_is_used_and_nothing_else(rng: np.random.Generator) -> None:
    features = rng.normal(size=(4000, 3))
    truth = 2 * features[:, :1] + 0.5 * rng.normal(size=(4000, 1))
    growth, spread, error = shuffled(lambda rows: 2 * rows[:, :1], features, truth, np.array([1, 0]), 3)
    assert error == pytest.approx(0.5 * np.sqrt(2 / np.pi), rel=0.05)
    assert growth[0] == 0 and spread[0] == 0
    assert growth[1] == pytest.approx((np.sqrt(8.25) - 0.5) * np.sqrt(2 / np.pi), rel=0.05) and 0 < spread[1] < 0.1
