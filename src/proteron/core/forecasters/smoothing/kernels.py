"""Passes of exponential smoothing through a series and onwards from its end.

Codes: 0 none, 1 additive, 2 multiplicative. `weights` (4,) are those of level, trend (in units of the level's:
what the trend takes of a change of the level), season, and the damping. `start` (2 + period,) is level, trend and the
season of the first cycle. In all forms an observation is told apart into what its season leaves and what its level
leaves; a missing one moves the state on as forecast (Hyndman, Koehler, Ord & Snyder 2008, ch. 2 and 5).
"""

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.panel import Floats

TINY = 1e-10


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
            if slope <= TINY or level <= TINY:
                return False
            carried = slope if phi == 1.0 else slope**phi
            expected = level * carried
        figure = seasons[t]
        if season == 0:
            means[t] = expected
        elif season == 1:
            means[t] = expected + figure
        else:
            if figure <= TINY or expected <= TINY:
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
def average_apart(values: Floats, period: int, added: bool, figure: Floats) -> None:
    """How values stand apart from a centred mean over one cycle, by difference or ratio, averaged by phase (period,).

    Missing values take no part; where half a cycle is missing there is no mean.
    """
    half = period // 2
    figure[:] = 0.0
    seen = np.zeros(period)
    ends = 0.5 if period % 2 == 0 else 1.0
    for middle in range(half, len(values) - half):
        if values[middle] != values[middle]:
            continue
        total, share = 0.0, 0.0
        for t in range(middle - half, middle + half + 1):
            if values[t] == values[t]:
                weight = ends if t == middle - half or t == middle + half else 1.0
                total += weight * values[t]
                share += weight
        if share <= 0.5 * period or (total == 0 and not added):
            continue
        centre = total / share
        figure[middle % period] += values[middle] - centre if added else values[middle] / centre
        seen[middle % period] += 1.0
    for phase in range(period):
        if seen[phase] > 0:
            figure[phase] /= seen[phase]
        else:
            figure[phase] = 0.0 if added else 1.0


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
            if (trend == 2 or season == 2) and (value <= TINY or expected <= TINY):
                value = max(value, TINY)
                expected = max(expected, TINY)
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
