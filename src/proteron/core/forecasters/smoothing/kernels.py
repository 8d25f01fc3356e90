"""Passes of exponential smoothing: forwards through a series, and backwards for the gradient.

Codes: 0 none, 1 additive, 2 multiplicative. `weights` (4,) are those of level, trend (in units of the level's:
what the trend takes of a change of the level), season, and the damping. `start` (2 + period,) is level, trend and the
season of the first cycle. In all forms an observation is told apart into what its season leaves and what its level
leaves; a missing one moves the state on as forecast (Hyndman, Koehler, Ord & Snyder 2008, ch. 2 and 5).
"""

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.forecasters.minimise import DONE, GO_ON, bfgs_room, bfgs_tell
from proteron.core.panel import Floats

_TINY = 1e-10


@kernel
def smooth(  # noqa: C901
    values: Floats, trend: int, season: int, period: int, weights: Floats, start: Floats,
    means: Floats, levels: Floats, trends: Floats, seasons: Floats,
) -> bool:  # fmt: skip
    """Run through a series: `means` (n,) are one step ahead; states are kept.

    `levels`, `trends` (n + 1,) begin with the start; `seasons` (n + period,) with the first cycle.
    False where a multiplicative part is not above zero.
    """
    alpha, rate, gamma, phi = weights[0], weights[1], weights[2], weights[3]
    beta = alpha * rate
    level, slope = start[0], start[1]
    levels[0], trends[0] = level, slope
    for i in range(period):
        seasons[i] = start[2 + i]
    for t in range(len(values)):
        carried = slope
        if trend == 0:
            expected = level
        elif trend == 1:
            carried = phi * slope
            expected = level + carried
        else:
            if slope <= _TINY or level <= _TINY:
                return False
            carried = slope if phi == 1.0 else slope**phi
            expected = level * carried
        figure = seasons[t]
        if season == 0:
            means[t] = expected
        elif season == 1:
            means[t] = expected + figure
        else:
            if figure <= _TINY or expected <= _TINY:
                return False
            means[t] = expected * figure
        value = values[t]
        if value != value:
            level, slope = expected, carried
            seasons[t + period] = figure
        else:
            gap = value - expected
            if season == 1:
                gap = (value - figure) - expected
                seasons[t + period] = figure + gamma * gap
            elif season == 2:
                gap = value / figure - expected
                seasons[t + period] = figure + gamma * (value / expected - figure)
            new = expected + alpha * gap
            if trend == 1:
                slope = carried + beta * gap  # rate × (new - level - carried), sooner known
            elif trend == 2:
                slope = carried + rate * (new / level - carried)
            level = new
        levels[t + 1], trends[t + 1] = level, slope
    return True


@kernel
def likelihood(values: Floats, error: int, means: Floats, pull: Floats) -> float:
    """Minus the Gaussian log-likelihood without its constant, spread profiled out; `pull` (n,) its slope in `means`."""
    squares, logs, count = 0.0, 0.0, 0
    for t in range(len(values)):
        value = values[t]
        if value == value:
            gap = value - means[t]
            if error == 2:
                if means[t] <= _TINY:
                    return np.inf
                gap /= means[t]
                logs += np.log(means[t])
            squares += gap * gap
            count += 1
    squares = max(squares, 1e-300)
    for t in range(len(values)):
        value = values[t]
        if value != value:
            pull[t] = 0.0
        elif error == 2:
            mean = means[t]
            pull[t] = 1.0 / mean - count * (value - mean) / mean * value / (mean * mean) / squares
        else:
            pull[t] = -count * (value - means[t]) / squares
    return 0.5 * count * np.log(squares / count) + logs


@kernel
def smooth_back(  # noqa: C901
    values: Floats, trend: int, season: int, period: int, weights: Floats, pull: Floats,
    levels: Floats, trends: Floats, seasons: Floats, of_weights: Floats, of_start: Floats,
) -> None:  # fmt: skip
    """Slopes of what has the slope `pull` (n,) in the means, in `weights` (4,) and `start` (2 + period,)."""
    alpha, rate, gamma, phi = weights[0], weights[1], weights[2], weights[3]
    beta = alpha * rate
    of_alpha, of_beta, of_rate, of_gamma, of_phi = 0.0, 0.0, 0.0, 0.0, 0.0
    to_level, to_slope = 0.0, 0.0
    to_season = np.zeros(len(values) + period)
    for t in range(len(values) - 1, -1, -1):
        level, slope, figure, value = levels[t], trends[t], seasons[t], values[t]
        carried, expected = slope, level
        if trend == 1:
            carried = phi * slope
            expected = level + carried
        elif trend == 2:
            carried = slope if phi == 1.0 else slope**phi
            expected = level * carried
        back_level, back_carried, back_expected, back_figure = 0.0, 0.0, 0.0, 0.0
        after = to_season[t + period]
        if value != value:
            back_expected = to_level
            back_carried = to_slope
            back_figure = after
        else:
            back_carried = to_slope
            back_gap = 0.0
            gap = value - expected
            if season == 1:
                gap = (value - figure) - expected
            elif season == 2:
                gap = value / figure - expected
            if trend == 1:
                of_beta += to_slope * gap
                back_gap = beta * to_slope
            elif trend == 2:
                new = levels[t + 1]
                of_rate += to_slope * (new / level - carried)
                to_level += rate * to_slope / level
                back_level = -rate * to_slope * new / (level * level)
                back_carried = (1.0 - rate) * to_slope
            of_alpha += to_level * gap
            back_gap += alpha * to_level
            back_expected = to_level
            if season == 1:
                of_gamma += after * gap
                back_gap += gamma * after
                back_figure = after - back_gap
            elif season == 2:
                of_gamma += after * (value / expected - figure)
                back_figure = (1.0 - gamma) * after - back_gap * value / (figure * figure)
                back_expected -= gamma * after * value / (expected * expected)
            back_expected -= back_gap
        if season == 2:
            back_expected += pull[t] * figure
            back_figure += pull[t] * expected
        else:
            back_expected += pull[t]
            if season == 1:
                back_figure += pull[t]
        if trend == 2:
            back_level += back_expected * carried
            back_carried += back_expected * level
            of_phi += back_carried * carried * np.log(slope)
            to_slope = back_carried * phi * carried / slope
        else:
            back_level += back_expected
            if trend == 1:
                back_carried += back_expected
                of_phi += back_carried * slope
                to_slope = back_carried * phi
        to_level = back_level
        to_season[t] += back_figure
    of_weights[0], of_weights[1] = of_alpha + rate * of_beta, of_rate + alpha * of_beta
    of_weights[2], of_weights[3] = of_gamma, of_phi
    of_start[0], of_start[1] = to_level, to_slope
    for i in range(period):
        of_start[2 + i] = to_season[i]


@kernel
def unfold(  # noqa: C901
    free: Floats, given: Floats, trend: int, season: int, damped: bool, period: int, scale: Floats,
    weights: Floats, start: Floats,
) -> None:  # fmt: skip
    """Weights and start from unbounded numbers: 0 < level < 1, trend below it, season below what level leaves.

    Weights are level, trend over level, season, damping.

    `free` (6 + period - 1,): four of the weights, level, trend, all but the last of the season; `given` (4,) weights
    that stand fixed, NaN for the others; `scale` (2 + period, 2) centre and unit of the start values.
    """
    for i in range(4):
        if given[i] == given[i]:
            weights[i] = given[i]
    low, high = 1e-4, 1.0 - 1e-4
    if given[0] != given[0]:
        weights[0] = low + (high - low) / (1.0 + np.exp(-free[0]))
    if given[1] != given[1]:
        weights[1] = low + (high - low) / (1.0 + np.exp(-free[1]))
    if given[2] != given[2]:
        weights[2] = (1.0 - weights[0]) * (low + (high - low) / (1.0 + np.exp(-free[2])))
    if given[3] != given[3]:
        weights[3] = 0.8 + 0.18 / (1.0 + np.exp(-free[3]))
    if given[1] == given[1]:
        weights[1] = given[1] / weights[0]
    if trend == 0:
        weights[1] = 0.0
    if season == 0:
        weights[2] = 0.0
    if not damped:
        weights[3] = 1.0
    for i in range(2 + period - (1 if season else 0)):
        start[i] = scale[i, 0] + scale[i, 1] * free[4 + i]
    if season:
        total = 0.0
        for i in range(period - 1):
            total += start[2 + i]
        start[1 + period] = (0.0 if season == 1 else float(period)) - total
    else:
        start[2] = 0.0


@kernel
def fold_back(
    free: Floats, given: Floats, trend: int, season: int, damped: bool, period: int, scale: Floats,
    weights: Floats, of_weights: Floats, of_start: Floats, gradient: Floats, starts_free: bool,
) -> None:  # fmt: skip
    """The slope in `free` from those in weights and start, (n_free,)."""
    low, high = 1e-4, 1.0 - 1e-4
    gradient[:] = 0.0
    slope_of_level = of_weights[0]
    if season and given[2] != given[2]:
        share = low + (high - low) / (1.0 + np.exp(-free[2]))
        slope_of_level -= of_weights[2] * share
        flat = 1.0 / (1.0 + np.exp(-free[2]))
        gradient[2] = of_weights[2] * (1.0 - weights[0]) * (high - low) * flat * (1.0 - flat)
    if trend and given[1] == given[1]:
        slope_of_level -= of_weights[1] * weights[1] / weights[0]
    if given[0] != given[0]:
        flat = 1.0 / (1.0 + np.exp(-free[0]))
        gradient[0] = slope_of_level * (high - low) * flat * (1.0 - flat)
    if trend and given[1] != given[1]:
        flat = 1.0 / (1.0 + np.exp(-free[1]))
        gradient[1] = of_weights[1] * (high - low) * flat * (1.0 - flat)
    if damped and given[3] != given[3]:
        flat = 1.0 / (1.0 + np.exp(-free[3]))
        gradient[3] = of_weights[3] * 0.18 * flat * (1.0 - flat)
    if starts_free:
        gradient[4] = of_start[0] * scale[0, 1]
        if trend:
            gradient[5] = of_start[1] * scale[1, 1]
        if season:
            for i in range(period - 1):
                gradient[6 + i] = (of_start[2 + i] - of_start[1 + period]) * scale[2 + i, 1]


@kernel
def fit(
    values: Floats, error: int, trend: int, season: int, damped: bool, period: int, given: Floats, scale: Floats,
    free: Floats, starts_free: bool, tolerance: float, most: int,
) -> tuple[float, int, bool]:  # fmt: skip
    """Maximise the likelihood from `free` on, in place; returns minus its logarithm, the passes, whether it settled."""
    n = len(values)
    weights, start = np.empty(4), np.empty(2 + period)
    means, pull = np.empty(n), np.empty(n)
    levels, trends, seasons = np.empty(n + 1), np.empty(n + 1), np.empty(n + period)
    of_weights, of_start = np.empty(4), np.empty(2 + period)
    gradient = np.zeros(len(free))
    room = bfgs_room(len(free))
    best, told, passes, value = free.copy(), GO_ON, 0, np.inf
    lowest = np.inf
    while told == GO_ON and passes < most:
        unfold(free, given, trend, season, damped, period, scale, weights, start)
        value = np.inf
        if smooth(values, trend, season, period, weights, start, means, levels, trends, seasons):
            value = likelihood(values, error, means, pull)
            if value < np.inf:
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


@kernel
def ahead(
    level: float, slope: float, figures: Floats, trend: int, season: int, phi: float, means: Floats
) -> None:  # fmt: skip
    """Means of the steps after a state, `figures` (period,) being the season of the next cycle; into (horizon,)."""
    damp, growth = phi, phi
    period = len(figures)
    for h in range(len(means)):
        if trend == 0:
            expected = level
        elif trend == 1:
            expected = level + growth * slope
        else:
            expected = level * slope**growth
        damp *= phi
        growth += damp
        if season == 1:
            expected += figures[h % period]
        elif season == 2:
            expected *= figures[h % period]
        means[h] = expected


@kernel
def spreads_ahead(
    level: float, slope: float, figures: Floats, error: int, trend: int, season: int, weights: Floats,
    variance: float, out: Floats,
) -> None:  # fmt: skip
    """Standard deviations of the steps after a state, into (horizon,); exact where trend and season are not multiplied.

    Hyndman, Koehler, Ord & Snyder 2008, ch. 6: classes 1 and 2 exactly; a season that multiplies a linear model with
    relative errors as class 3, by its approximation. `weights` (4,) as in the state-space form.
    """
    horizon, period = len(out), len(figures)
    alpha, beta, gamma, phi = weights[0], weights[1], weights[2], weights[3]
    plain = np.empty(horizon)
    ahead(level, slope, figures, trend, 0 if season == 2 else season, phi, plain)
    effects = np.empty(horizon)
    damp, growth = phi, phi
    for j in range(horizon):
        effects[j] = alpha + (beta * growth if trend == 1 else 0.0)
        if season == 1 and (j + 1) % period == 0:
            effects[j] += gamma
        damp *= phi
        growth += damp
    if error == 1:
        total = 1.0
        for h in range(horizon):
            out[h] = np.sqrt(variance * total)
            total += effects[h] * effects[h]
        return
    theta = np.empty(horizon)
    for h in range(horizon):
        theta[h] = plain[h] * plain[h]
        for j in range(h):
            theta[h] += variance * effects[j] * effects[j] * theta[h - 1 - j]
        if season == 2:
            figure = figures[h % period]
            cycles = float(h // period)
            inside = theta[h] * (1.0 + variance) * (1.0 + gamma * gamma * variance) ** cycles - plain[h] * plain[h]
            out[h] = np.sqrt(max(inside, 0.0)) * figure
        else:
            out[h] = np.sqrt(max((1.0 + variance) * theta[h] - plain[h] * plain[h], 0.0))


@kernel
def simulate(
    level: float, slope: float, figures: Floats, error: int, trend: int, season: int, weights: Floats,
    draws: Floats, paths: Floats,
) -> None:  # fmt: skip
    """Paths after a state, `draws` (n_paths, horizon) being (relative) errors; into (n_paths, horizon).

    A path on which something multiplied falls to zero stays where that happened.
    """
    alpha, beta, gamma, phi = weights[0], weights[1], weights[2], weights[3]
    rate = beta / alpha if alpha > 0 else 0.0
    period = len(figures)
    cycle = np.empty(period)
    for k in range(len(draws)):
        now, climb = level, slope
        cycle[:] = figures
        for h in range(draws.shape[1]):
            carried = climb
            if trend == 0:
                expected = now
            elif trend == 1:
                carried = phi * climb
                expected = now + carried
            else:
                carried = climb**phi
                expected = now * carried
            figure = cycle[h % period]
            mean = expected
            if season == 1:
                mean = expected + figure
            elif season == 2:
                mean = expected * figure
            value = mean + draws[k, h] if error == 1 else mean * (1.0 + draws[k, h])
            if (trend == 2 or season == 2) and (value <= _TINY or expected <= _TINY):
                value = max(value, _TINY)
                expected = max(expected, _TINY)
            paths[k, h] = value
            left = value
            if season == 1:
                left = value - figure
                cycle[h % period] = figure + gamma * (value - expected - figure)
            elif season == 2:
                left = value / figure
                cycle[h % period] = figure + gamma * (value / expected - figure)
            new = expected + alpha * (left - expected)
            if trend == 1:
                climb = carried + rate * (new - now - carried)
            elif trend == 2:
                climb = carried + rate * (new / now - carried)
            now = new
