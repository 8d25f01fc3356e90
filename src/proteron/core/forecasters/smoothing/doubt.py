"""How far what smoothing learned is in doubt: standard errors from the information in one pass."""

import numpy as np

from proteron.core.forecasters.normal_equations import invert
from proteron.core.forecasters.smoothing.fit import FittedForm, start_units
from proteron.core.forecasters.smoothing.likelihood import LEAST_WEIGHT, sensitivities, weight_slopes
from proteron.core.panel import Floats

_AT_BOUND = 0.05
_NONE_GIVEN = np.full(4, np.nan)
_MOST_WORK = 5e8


def doubt_of(
    fitted: FittedForm, values: Floats, given: Floats = _NONE_GIVEN, starts_free: bool = True
) -> tuple[Floats, Floats]:  # fmt: skip
    """Covariance of the weights (4, 4), standard errors of the start values (2 + period,) of a form fitted to (n,).

    From the inverse of the information by Gauss and Newton. `given` (4,) are the weights that stood fixed, NaN for the
    others. NaN for what was not estimated, for weights that lie at a bound, where theory ends, and throughout where a
    long season would take too much work.
    """
    form, period = fitted.form, fitted.period
    size = 5 + period
    weights, start = np.full((4, 4), np.nan), np.full(2 + period, np.nan)
    if len(values) * size**2 > _MOST_WORK or not np.isfinite(fitted.loglik):
        return weights, start
    error, trend, season = form.codes
    unit = float(np.abs(values[np.isfinite(values)]).max()) or 1.0
    sizes = start_units(form, unit, period)
    free = np.zeros(size)
    free[:4] = _numbers_of(fitted)
    scale = np.stack([fitted.start / sizes, np.ones(2 + period)], axis=1)
    gradient, inner, covariance = np.empty(size), np.empty((size, size)), np.empty((size, size))
    value = sensitivities(
        np.ascontiguousarray(values / unit), error, trend, season, form.damped, period, given, scale, free,
        starts_free, gradient, inner,
    )  # fmt: skip
    if not np.isfinite(value):
        return weights, start
    used = np.diag(inner) > 0
    used[:4] &= np.abs(np.cos(free[:4])) > _AT_BOUND
    inner[~used] = inner[:, ~used] = 0.0
    invert(inner, covariance)
    covariance[~used] = covariance[:, ~used] = 0.0
    shares = fitted.weights * [1.0, 1.0 / fitted.weights[0], 1.0, 1.0]
    level, rate_of_level, rate, figure_of_level, figure, damping = weight_slopes(
        free, given, trend, season, form.damped, shares
    )
    if trend == 2:  # the weight of a multiplied trend is its rate times the level's
        rate_of_level, rate = shares[1] * level + shares[0] * rate_of_level, shares[0] * rate
    turned = np.zeros((6 + period, size))
    turned[0, 0], turned[1, :2], turned[2, [0, 2]], turned[3, 3] = (
        level, (rate_of_level, rate), (figure_of_level, figure), damping
    )  # fmt: skip
    turned[4, 4], turned[5, 5] = sizes[0], sizes[1]
    for phase in range(period - 1 if season else 0):
        turned[6 + phase, 6 + phase], turned[5 + period, 6 + phase] = sizes[2], -sizes[2]
    spent = fitted.count / max(fitted.count - fitted.free + 1, 1)
    whole = turned @ covariance @ turned.T * spent
    told = np.flatnonzero(used[:4] & (np.diag(whole)[:4] > 0))
    weights[np.ix_(told, told)] = whole[np.ix_(told, told)]
    found = np.sqrt(np.maximum(np.diag(whole)[4:], 0.0))
    return weights, np.where(found > 0, found, np.nan)


def _numbers_of(fitted: FittedForm) -> Floats:
    """The unbounded numbers (4,) that stand for the weights."""
    level, trend, season, damping = fitted.weights
    shares = np.array([level, trend / level if level > 0 else 0.0, season / (1 - level) if level < 1 else 0.0])
    swing = np.append((shares - 0.5) / (0.5 - LEAST_WEIGHT), (damping - 0.89) / 0.09)
    return np.asarray(np.arcsin(np.clip(swing, -1.0, 1.0)), dtype=np.float64)
