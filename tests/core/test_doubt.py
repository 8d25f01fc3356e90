"""What is learned is in doubt, and ranges say so: against closed forms and against draws of what might have been."""

import numpy as np
import pytest
from simulated import arma, smoothed, unobserved_parts

import proteron as pt
from proteron.core.forecasters.forecaster import Work
from proteron.core.forecasters.local import LocalForecaster
from proteron.core.forecasters.minimise import covariance_from, errors_from
from proteron.core.forecasters.noise import Noise
from proteron.core.forecasters.ranges import widening

STEPS = 12


def test_doubt_is_exact_where_variances_are_squares() -> None:
    rng = np.random.default_rng(3)
    slopes, numbers = rng.normal(size=(5, 3)), 3 + rng.uniform(size=3)
    root = 0.2 * rng.normal(size=(3, 3))
    covariance = root @ root.T
    certain = (slopes @ numbers) ** 2
    expected = 1 + np.einsum("ij,jk,ik->i", slopes, covariance, slopes) / certain
    found = widening(lambda at: (slopes @ at) ** 2, numbers, covariance)
    np.testing.assert_allclose(found**2, np.minimum(expected, 2.0), rtol=1e-10)
    covariance[1] = covariance[:, 1] = np.nan  # a number that stands
    part = widening(lambda at: (slopes @ at) ** 2, numbers, covariance)
    assert (part >= 1).all() and (part < found).any()
    assert (widening(lambda at: 1 - at**2, np.zeros(1), np.eye(1)) == 1).all()  # never narrower
    assert (widening(lambda at: slopes @ at, numbers, np.full((3, 3), np.nan)) == 1).all()


def test_standard_errors_from_curvature_are_those_of_least_squares() -> None:
    rng = np.random.default_rng(5)
    design = np.column_stack([np.ones(80), rng.normal(size=(80, 2))])
    target = design @ [1.0, 2.0, -1.0] + rng.normal(size=80)
    best = np.linalg.lstsq(design, target)[0]
    covariance = covariance_from(lambda at: 0.5 * ((target - design @ at) ** 2).sum(), best, np.full(3, 0.1))
    np.testing.assert_allclose(covariance, np.linalg.inv(design.T @ design), rtol=1e-8)
    flat = errors_from(lambda at: at[0] ** 2, np.zeros(2), np.full(2, 0.1))
    assert np.isnan(flat).all()  # a number the likelihood does not look at
    assert np.isnan(errors_from(lambda at: -(at[0] ** 2), np.zeros(1), np.full(1, 0.1))).all()


def learned_of(model: LocalForecaster, values: np.ndarray) -> dict:
    panel = pt.Panel.from_arrays({"a": values}, "2000-01-01", "1 month")
    return model.learned(model.learn(panel, Work()), "a")


def test_ranges_of_arima_are_those_of_coefficients_that_might_have_been() -> None:
    values = 5 + arma(np.random.default_rng(2), 90, [0.6], [])
    model = pt.forecaster("arima", order=(1, 0, 0), seasonal=(0, 0, 0)).forecaster
    learned = learned_of(model, values)
    spreads = model.spreads_of(learned, values, 90, STEPS)
    phi, error = float(learned["coefficients"][0]), float(np.sqrt(learned["covariance"][0, 0]))
    drawn = phi + error * np.random.default_rng(0).normal(size=20_000)
    expected = np.mean(np.cumsum(drawn[:, None] ** (2 * np.arange(STEPS)), axis=1), axis=0)
    certain = np.cumsum(phi ** (2 * np.arange(STEPS)))
    wider = (spreads / spreads[0]) ** 2 / certain
    assert wider == pytest.approx(expected / certain, abs=0.02)
    assert wider[0] == 1 and wider[-1] > 1.02


def test_ranges_of_smoothing_are_those_of_weights_that_might_have_been() -> None:
    values = smoothed(np.random.default_rng(4), 90, slope=0.3)
    model = pt.forecaster("smoothing", error="additive", trend="additive", season=None, damped=False).forecaster
    learned = learned_of(model, values)
    spreads = model.spreads_of(learned, values, 90, STEPS)
    weights, doubt = learned["weights"][:2], learned["weight_doubt"][:2, :2]
    draws = np.random.default_rng(0).multivariate_normal(weights, doubt, size=20_000)
    ahead = np.arange(1, STEPS)

    def grown(level: np.ndarray, trend: np.ndarray) -> np.ndarray:
        moves = level[:, None] + trend[:, None] * ahead
        return 1 + np.concatenate([np.zeros((len(level), 1)), np.cumsum(moves**2, axis=1)], axis=1)

    certain = grown(weights[:1], weights[1:])[0]
    expected = grown(draws[:, 0], draws[:, 1]).mean(axis=0)
    assert (spreads / spreads[0]) ** 2 / certain == pytest.approx(expected / certain, abs=0.02)


@pytest.mark.parametrize("kind", ["local_level", "local_trend"])
def test_the_less_is_known_the_wider_structural_ranges_grow(kind: str) -> None:
    """Widening falls off with the length of the series, and simulated paths have it too."""
    widened = []
    for count in (60, 600):
        values = unobserved_parts(np.random.default_rng(9), count, 0.5, 0.0)
        model = pt.forecaster(kind).forecaster
        learned = learned_of(model, values)
        spreads = model.spreads_of(learned, values, count, STEPS)
        certain = np.sqrt(model._variances(learned, values, count, STEPS) * model._ahead_noise(learned))
        paths = model.paths_of(learned, values, count, Noise.draw(1, 20_000, STEPS))
        assert paths.std(axis=0) / spreads == pytest.approx(np.ones(STEPS), abs=0.03)
        widened.append(spreads[-1] / certain[-1])
    assert widened[0] > widened[1] >= 1
