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


def parts_with_season(rng: np.random.Generator, count: int) -> np.ndarray:
    """A level and a season of four phases that both drift by .5, seen with unit noise."""
    season = list(3 * rng.normal(size=3))
    for _ in range(count):
        season.append(-sum(season[-3:]) + 0.5 * rng.normal())
    return unobserved_parts(rng, count, 0.5, 0.0) + np.array(season[3:])


def turning_wave(rng: np.random.Generator, count: int) -> np.ndarray:
    """A level of weight .3 and a wave of period 12 of weight .05, along what the level leaves of the wave."""
    turn = np.exp(1j * 2 * np.pi / 12)
    left = (1 - 1 / turn) / (1 - 0.7 / turn)
    gain = 0.05 * np.conj(left) / abs(left)
    level, wave, out = 50.0, 6.0 + 0j, np.empty(count)
    for t in range(count):
        error = rng.normal()
        out[t] = level + wave.real + error
        level, wave = level + 0.3 * error, turn * (wave + gain * error)
    return out


def drawn_back(rng: np.random.Generator, count: int) -> np.ndarray:
    """A logarithm drawn back to 3 by a tenth a step, with a spread of .05 a step in all."""
    logs = np.zeros(count + 100)
    for t in range(1, count + 100):
        logs[t] = np.exp(-0.1) * logs[t - 1] + 0.05 * rng.normal()
    return np.exp(3 + logs[100:])


def two_that_lean_on_each_other(rng: np.random.Generator, count: int) -> dict[str, np.ndarray]:
    """A vector autoregression of order 1 around 5 and 9, its errors correlated by .4."""
    lean, x = np.array([[0.5, 0.2], [-0.1, 0.6]]), np.zeros((count + 100, 2))
    errors = rng.multivariate_normal([0, 0], [[1, 0.4], [0.4, 1]], size=count + 100)
    for t in range(1, count + 100):
        x[t] = lean @ x[t - 1] + errors[t]
    return {"a": 5 + x[100:, 0], "b": 9 + x[100:, 1]}


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
