"""The elastic net on windows: ridge at one end, the lasso at the other, and what is left out stays out."""

import numpy as np
import pytest

import proteron as pt


def panel(rng: np.random.Generator) -> pt.Panel:
    values = np.zeros(900)
    for at in range(7, 900):
        values[at] = 0.8 * values[at - 7] + rng.normal()
    return pt.Panel.from_arrays({"a": 30 + values}, "2022-01-01", "1 day")


def test_the_lasso_keeps_what_tells_and_leaves_out_the_rest(rng: np.random.Generator) -> None:
    fitted = pt.forecaster("elastic_net", lags=list(range(1, 15)), share=1.0).fit(panel(rng), until=850, horizon=1)
    weights = fitted.state.arrays["weights"][0, :, 0]
    assert int(np.argmax(np.abs(weights))) == 6 and fitted.parameters["lag 7"] == pytest.approx(0.8, abs=0.1)
    assert (weights == 0).sum() >= 6
    given = pt.forecaster("elastic_net", lags=list(range(1, 15)), share=1.0, strength=1e3).fit(panel(rng), until=850)
    assert not given.state.arrays["weights"].any()  # as strong as that, nothing is left


def test_without_an_absolute_share_it_is_ridge(rng: np.random.Generator) -> None:
    data = panel(rng)
    net = pt.forecaster("elastic_net", lags=[1, 2, 7], share=0.0, strength=0.02).fit(data, until=850, horizon=3)
    rows = float(net.state.arrays["rows"][0])
    ridge = pt.forecaster("ridge", lags=[1, 2, 7], strength=0.02 * rows).fit(data, until=850, horizon=3)
    np.testing.assert_allclose(net.state.arrays["weights"], ridge.state.arrays["weights"], atol=1e-5)
    np.testing.assert_allclose(net.forecast(3).mean, ridge.forecast(3).mean, rtol=1e-5)


def test_the_strength_is_the_one_that_errs_least_on_the_last_rows(rng: np.random.Generator) -> None:
    rows, weights = rng.normal(size=(400, 30)), rng.uniform(0.5, 1.5, 400)
    targets = rows[:, :2] @ rng.normal(size=(2, 2)) + 0.5 * rng.normal(size=(400, 2))
    learner = pt.forecaster("elastic_net", share=0.9).forecaster
    positions = np.arange(400)
    found = learner.coefficients(rows, targets, weights, positions)
    strengths = learner._strongest(rows, targets, weights) * np.logspace(0, -4, 25)
    assert not learner._paths(rows, targets, weights, strengths[:1]).any()
    early, late = positions + 2 <= 319.2, positions > 319.2
    errors = []
    for count in range(1, 26):
        last = learner._paths(rows[early], targets[early], weights[early], strengths[:count])[-1]
        errors.append((((targets[late] - rows[late] @ last) ** 2).mean(axis=1) * weights[late]).sum())
    best = int(np.argmin(errors))
    assert 0 < best < 24
    np.testing.assert_allclose(found, learner._paths(rows, targets, weights, strengths)[best], atol=1e-6)
    few = learner.coefficients(rows[:3], targets[:3], weights[:3], positions[:3])
    assert np.isfinite(few).all()
