"""What forecasters learn of series from their own models lies around the truth as their standard errors say."""

from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from simulated import (
    arma,
    drawn_back,
    growth,
    parts_with_season,
    regimes,
    shocks_that_last,
    smoothed,
    turning_wave,
    two_that_lean_on_each_other,
    unobserved_parts,
)

import proteron as pt

LENGTH, REPEATS = 500, 60
SEASON = 8 * np.sin(np.arange(12) * np.pi / 6)
TIME = np.arange(LENGTH)
PLAIN = {"error": "additive", "trend": None, "season": None}
Made = Callable[[np.random.Generator, int], Any]
CASES: dict[str, tuple[str, dict[str, Any], Made, dict[str, float]]] = {
    "drift": ("drift", {}, lambda r, n: np.cumsum(0.3 + r.normal(size=n)), {"drift": 0.3}),
    "mean": ("mean", {}, lambda r, n: 4 + r.normal(size=n), {"mean": 4}),
    "seasonal mean": ("seasonal_mean", {}, lambda r, n: np.resize(SEASON, n) + r.normal(size=n), {"phase 4": 8.0}),
    "line": ("trend_curve", {"shape": "linear"}, lambda r, n: 3 + 0.5 * TIME + r.normal(size=n),
             {"level": 3, "slope": 0.5}),
    "exponential": ("trend_curve", {"shape": "exponential"},
                    lambda r, n: 3 + 2 * np.exp(0.01 * TIME) + 0.3 * r.normal(size=n), {"rate": 0.01}),
    "saturating": ("trend_curve", {"shape": "saturating"},
                   lambda r, n: 50 / (1 + np.exp(-0.04 * (TIME - 250))) + r.normal(size=n),
                   {"rate": 0.04, "middle": 250, "capacity": 50}),
    "simple smoothing": ("smoothing", PLAIN, smoothed, {"level_weight": 0.4, "start_level": 100, "variance": 1}),
    "smoothing with a trend": (
        "smoothing", {**PLAIN, "trend": "additive", "damped": False}, lambda r, n: smoothed(r, n, slope=0.3),
        {"level_weight": 0.4, "trend_weight": 0.1, "start_trend": 0.3},
    ),
    "smoothing with a season": (
        "smoothing", {**PLAIN, "season": "additive"}, lambda r, n: smoothed(r, n, season=SEASON, weights=(0.3, 0, 0.4)),
        {"level_weight": 0.3, "season_weight": 0.4},
    ),
    "relative errors": (
        "smoothing", {"error": "multiplicative", "trend": None, "season": "multiplicative"},
        lambda r, n: smoothed(r, n, season=1 + SEASON / 40, multiplied=True, weights=(0.4, 0, 0.3)),
        {"level_weight": 0.4, "season_weight": 0.3, "start_level": 100, "variance": 0.0004},
    ),
    "theta": ("theta", {"season": None}, smoothed, {"level_weight": 0.4}),
    "waves": ("several_seasons", {"periods": [12.0], "waves": 1, "trend": "none", "errors": (0, 0)}, turning_wave,
              {"level_weight": 0.3, "season_12_weight": 0.05, "season_12_cross_weight": 0.0}),
    "ARMA": ("arima", {"order": (1, 0, 1), "seasonal": (0, 0, 0)}, lambda r, n: 5 + arma(r, n, [0.7], [0.3]),
             {"ar1": 0.7, "ma1": 0.3, "variance": 1}),
    "seasonal ARIMA": (
        "arima", {"order": (0, 1, 1), "seasonal": (0, 1, 1)},
        lambda r, n: arma(r, n, [], [-0.4, *([0.0] * 10), -0.5, 0.2], undone=(1, 12)), {"ma1": -0.4, "sma1": -0.5},
    ),
    "local level": ("local_level", {}, lambda r, n: unobserved_parts(r, n, 0.5, 0.0),
                    {"variance_level": 0.25, "variance_observation": 1}),
    "local trend": ("local_trend", {"damping": 1.0, "season": "none"}, lambda r, n: unobserved_parts(r, n, 0.5, 0.2),
                    {"variance_level": 0.25, "variance_trend": 0.04, "variance_observation": 1}),
    "structural": ("structural", {"period": 4, "trend": False}, parts_with_season,
                   {"variance_level": 0.25, "variance_season": 0.25, "variance_observation": 1}),
    "additive": ("additive", {"knots": 0}, lambda r, n: 0.3 * TIME + np.resize(SEASON, n) + r.normal(size=n),
                 {"slope": 0.3}),
    "regression": ("regression", {}, lambda r, n: 3 + 0.5 * TIME + r.normal(size=n), {"intercept": 3, "time": 0.5}),
    "volatility": ("garch", {"errors": "normal"}, lambda r, n: shocks_that_last(r, n, freedom=1e9),
                   {"mean": 1, "omega": 0.1, "alpha1": 0.15, "beta1": 0.75}),
    "volatility with t errors": ("garch", {"errors": "t"}, lambda r, n: shocks_that_last(r, n, freedom=6.0),
                                 {"mean": 1, "alpha1": 0.15, "beta1": 0.75, "degrees_of_freedom": 6}),
    "regimes": ("switching_regimes", {}, regimes,
                {"level_low": 0, "level_high": 4, "spread_low": 1, "spread_high": 2, "stay_low": 0.95,
                 "stay_high": 0.9}),
    "growth": ("random_walk_process", {}, growth, {"drift": 0.01, "variance": 0.0025}),
    "drawn back": ("random_walk_process", {"reverting": True}, drawn_back,
                   {"pull": 0.1, "level": np.exp(3), "variance": 0.0005 / (1 - np.exp(-0.2))}),
    "vector": ("vector_autoregression", {"order": 1}, two_that_lean_on_each_other,
               {"a lag 1": 0.5, "b lag 1": 0.2, "constant": 0.7}),
}  # fmt: skip


@pytest.mark.parametrize("case", CASES)
def test_parameters_are_recovered_within_their_standard_errors(case: str) -> None:
    """Sixty series: deviations in standard errors are centred, and as wide as a normal distribution's.

    Where a weight comes out at its bound there is no standard error, which must be rare.
    """
    kind, settings, made, truth = CASES[case]
    apart = np.empty((REPEATS, len(truth)))
    for seed in range(REPEATS):
        values = made(np.random.default_rng([seed, 11]), LENGTH)
        values = values if isinstance(values, dict) else {"a": values}
        fitted = pt.forecaster(kind, **settings).fit(pt.Panel.from_arrays(values, "1970-01-01", "1 month"))
        learner = fitted.contender.forecaster
        found, errors = (each(fitted.state, "a") for each in (learner.parameters, learner.standard_errors))
        apart[seed] = [(found[name] - true) / errors[name] for name, true in truth.items()]
    for name, column in zip(truth, apart.T, strict=True):
        told = column[np.isfinite(column)]
        assert len(told) >= 0.75 * REPEATS, name
        assert abs(np.median(told)) < 0.55, name
        assert 0.48 <= (np.abs(told) < 1).mean() <= 0.86, name
        assert (np.abs(told) < 1.96).mean() >= 0.84, name
