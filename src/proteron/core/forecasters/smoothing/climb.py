"""Maximising the likelihood of exponential smoothing over the unbounded numbers of `likelihood.unfold`."""

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.forecasters.minimise import DONE, GO_ON, bfgs_knows, bfgs_room, bfgs_tell, bfgs_wants
from proteron.core.forecasters.normal_equations import invert
from proteron.core.forecasters.smoothing.kernels import smooth
from proteron.core.forecasters.smoothing.likelihood import fold_back, likelihood, sensitivities, smooth_back, unfold
from proteron.core.panel import Floats

_MOST_TOLD = 40  # unbounded numbers whose sensitivities are followed
_LOOKS = (0, 7, 15)  # passes that find the Hessian of Gauss and Newton
_BEGINS = np.array([-1.1, -0.2, 0.7])  # of the share a weight takes: .05, .40, .82


@kernel
def best_begin(
    values: Floats, error: int, trend: int, season: int, damped: bool, period: int, given: Floats, scale: Floats,
    free: Floats,
) -> None:  # fmt: skip
    """Set the first numbers of `free`, those of level, trend and season, to the likeliest of a coarse grid."""
    n = len(values)
    weights, start = np.empty(4), np.empty(2 + period)
    means, no_pull = np.empty(n), np.empty(0)
    levels, trends, seasons = np.empty(n + 1), np.empty(n + 1), np.empty(n + period)
    lowest, tried, best = np.inf, free.copy(), free.copy()
    rates = 3 if trend and given[1] != given[1] else 1
    figures = 2 if season and given[2] != given[2] else 1
    for level in _BEGINS[: 3 if given[0] != given[0] else 1]:
        for rate in _BEGINS[:rates]:
            for figure in _BEGINS[:figures]:
                tried[0], tried[1], tried[2] = level, rate, figure
                unfold(tried, given, trend, season, damped, period, scale, weights, start)
                if not smooth(values, trend, season, period, weights, start, means, levels, trends, seasons):
                    continue
                value = likelihood(values, error, means, no_pull)
                if value < lowest:
                    lowest = value
                    best[:] = tried
    free[:] = best


@kernel
def fit(
    values: Floats, error: int, trend: int, season: int, damped: bool, period: int, given: Floats, scale: Floats,
    free: Floats, starts_free: bool, tolerance: float, most: int,
) -> tuple[float, int, bool]:  # fmt: skip
    """Maximise the likelihood from the likeliest of a grid of weights on, `free` in place.

    Returns minus its logarithm, the passes with a gradient, and whether it settled. By BFGS, told the Hessian of Gauss
    and Newton where it begins and again as it comes closer (`_LOOKS`); for long seasons, where that would cost too
    much, without.
    """
    n, size = len(values), len(free)
    weights, start = np.empty(4), np.empty(2 + period)
    means, pull = np.empty(n), np.empty(n)
    levels, trends, seasons = np.empty(n + 1), np.empty(n + 1), np.empty(n + period)
    of_weights, of_start, gradient = np.empty(4), np.empty(2 + period), np.zeros(size)
    best_begin(values, error, trend, season, damped, period, given, scale, free)
    best, lowest, told, passes = free.copy(), np.inf, GO_ON, 0
    inner, inverse = np.empty((size, size)), np.empty((size, size))
    room = bfgs_room(size)
    while told == GO_ON and passes < most:
        value = np.inf
        if passes in _LOOKS and (size <= _MOST_TOLD or not starts_free):
            free[:] = best
            room = bfgs_room(size)
            value = sensitivities(
                values, error, trend, season, damped, period, given, scale, free, starts_free, gradient, inner
            )  # fmt: skip
            for i in range(4):  # a weight near its bound turns back from it
                inner[i, i] += max(0.0, -gradient[i] * np.tan(free[i]))
            invert(inner, inverse)
            bfgs_knows(room, inverse)
        else:
            unfold(free, given, trend, season, damped, period, scale, weights, start)
            if smooth(values, trend, season, period, weights, start, means, levels, trends, seasons):
                value = likelihood(values, error, means, pull)
            if value < np.inf and bfgs_wants(room, value):
                smooth_back(values, trend, season, period, weights, pull, levels, trends, seasons, of_weights, of_start)
                fold_back(
                    free, given, trend, season, damped, period, scale, weights, of_weights, of_start, gradient,
                    starts_free,
                )  # fmt: skip
        passes += 1
        if value < lowest:
            lowest = value
            best[:] = free
        told = bfgs_tell(room, free, value, gradient, tolerance)
    free[:] = best
    return lowest, passes, told == DONE
