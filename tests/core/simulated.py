"""Series made by known models."""

import numpy as np


def smoothed(
    rng: np.random.Generator, count: int, slope: float | None = None, season: np.ndarray | None = None,
    multiplied: bool = False, weights: tuple[float, float, float] = (0.4, 0.1, 0.15),
) -> np.ndarray:  # fmt: skip
    """Innovations form from level 100, with these weights; `multiplied` has errors of 2 % and a season as a factor."""
    level, moves, out = 100.0, slope or 0.0, np.empty(count)
    wheel = list(season) if season is not None else [1.0 if multiplied else 0.0]
    for t in range(count):
        base = level + moves
        mean = base * wheel[0] if multiplied else base + wheel[0]
        error = mean * 0.02 * rng.normal() if multiplied else rng.normal()
        out[t] = mean + error
        level = base + weights[0] * (error / wheel[0] if multiplied else error)
        moves += weights[1] * error if slope is not None else 0.0
        turned = wheel[0] + weights[2] * (error / base if multiplied else error) if season is not None else wheel[0]
        wheel = [*wheel[1:], turned]
    return out


def arma(
    rng: np.random.Generator, count: int, ar: list[float], ma: list[float], undone: tuple[int, ...] = ()
) -> np.ndarray:  # fmt: skip
    """ARMA with unit errors, summed up at the lags of `undone`."""
    noise = rng.normal(size=count + 200)
    shocks = np.convolve(noise, [1.0, *ma])[: len(noise)]
    x = np.zeros(len(noise))
    for t in range(len(x)):
        x[t] = shocks[t] + sum(a * x[t - 1 - i] for i, a in enumerate(ar) if t > i)
    for lag in undone:
        for t in range(lag, len(x)):
            x[t] += x[t - lag]
    return x[200:]


def unobserved_parts(rng: np.random.Generator, count: int, level: float, slope: float) -> np.ndarray:
    """A level and a slope that drift by these standard deviations, seen with unit noise."""
    moves = np.cumsum(slope * rng.normal(size=count)) + level * rng.normal(size=count)
    return 50 + np.cumsum(moves) + rng.normal(size=count)


def shocks_that_last(rng: np.random.Generator, count: int, freedom: float) -> np.ndarray:
    """GARCH(1,1) around 1 with ω .1, α .15, β .75 and standardised t errors."""
    draws = rng.standard_t(freedom, size=count + 300) * np.sqrt((freedom - 2) / freedom)
    variance, out = 1.0, np.empty(count + 300)
    for t, draw in enumerate(draws):
        out[t] = np.sqrt(variance) * draw
        variance = 0.1 + 0.15 * out[t] ** 2 + 0.75 * variance
    return 1 + out[300:]


def regimes(rng: np.random.Generator, count: int) -> np.ndarray:
    """Two regimes: level 0, spread 1, stay .95; level 4, spread 2, stay .9."""
    now, out = 0, np.empty(count)
    for t in range(count):
        now = now if rng.uniform() < (0.95, 0.9)[now] else 1 - now
        out[t] = (0.0, 4.0)[now] + (1.0, 2.0)[now] * rng.normal()
    return out


def growth(rng: np.random.Generator, count: int) -> np.ndarray:
    """Geometric Brownian motion with drift .01 and spread .05 a step."""
    return np.exp(3 + np.cumsum(0.01 + 0.05 * rng.normal(size=count)))
