"""What a distribution looks like, how spread depends on level, how a value depends on an earlier one."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike
from scipy import special

from proteron.core.panel import Floats


def quantile_points(x: ArrayLike, count: int = 200) -> tuple[Floats, Floats]:
    """Normal quantiles and the sample quantiles that belong to them, (n_points,) each, at most `count`."""
    values = np.asarray(x, dtype=np.float64).ravel()
    known = np.sort(values[np.isfinite(values)])
    if not len(known):
        return np.zeros(0), np.zeros(0)
    pick = np.unique(np.linspace(0, len(known) - 1, min(count, len(known))).round().astype(int))
    return special.ndtri((pick + 0.5) / len(known)), known[pick]


def block_of(season: int) -> int:
    """Points of a block whose spread is looked at: one season, or ten where there is none."""
    return max(season, 2) if season > 1 else 10


@dataclass(frozen=True)
class SpreadByLevel:
    """Mean and spread of consecutive blocks, the slope of log spread on log level, and what it says;
    `grows` is whether spread grows with the level beyond doubt.

    A slope of b asks for the power 1 - b: 1 is the logarithm, ½ the square root (Bartlett 1947; Tukey 1977).
    """

    level: Floats
    spread: Floats
    slope: float | None
    verdict: str
    grows: bool = False


def spread_by_level(x: ArrayLike, block: int) -> SpreadByLevel:
    """Level (mean) and spread (standard deviation) of consecutive blocks of `block` points, (n_blocks,) each."""
    values = np.asarray(x, dtype=np.float64).ravel()
    blocks = (
        values[len(values) % block :].reshape(-1, block) if block > 1 and len(values) >= block else np.empty((0, 1))
    )
    present = np.isfinite(blocks)
    counts = present.sum(axis=1)
    blocks, present, counts = (each[counts >= max(2, block // 2)] for each in (blocks, present, counts))
    level = np.where(present, blocks, 0).sum(axis=1) / np.maximum(counts, 1)
    spread = np.sqrt(np.where(present, (blocks - level[:, None]) ** 2, 0).sum(axis=1) / np.maximum(counts - 1, 1))
    usable = (level > 0) & (spread > 0)
    if usable.sum() < 5 or np.ptp(np.log(level[usable])) < 0.05:
        return SpreadByLevel(level, spread, None, "The level hardly moves: nothing to say about a transform.")
    at, height = np.log(level[usable]), np.log(spread[usable])
    apart = at - at.mean()
    slope = float(apart @ height / (apart @ apart))
    residual = height - height.mean() - slope * apart
    error = float(np.sqrt((residual @ residual) / max(len(at) - 2, 1) / (apart @ apart)))
    grows = slope >= 2 * error and slope >= 0.25
    if not grows:
        verdict = "Spread does not grow with the level: no transform needed."
    elif slope > 0.75:
        verdict = "Spread grows in step with the level: a logarithm evens it out."
    else:
        verdict = f"Spread grows slower than the level: a power of {1 - slope:.2f} (Box–Cox) evens it out."
    return SpreadByLevel(level, spread, slope, verdict, grows)


def lag_pairs(x: ArrayLike, lag: int, most: int = 800) -> tuple[Floats, Floats]:
    """Values and those `lag` steps before them, both known, (n_pairs,) each: earlier first, at most `most`."""
    values = np.asarray(x, dtype=np.float64).ravel()
    if lag < 1 or lag >= len(values):
        return np.zeros(0), np.zeros(0)
    earlier, later = values[:-lag], values[lag:]
    both = np.flatnonzero(np.isfinite(earlier) & np.isfinite(later))
    both = (
        both[np.unique(np.linspace(0, len(both) - 1, min(most, len(both))).round().astype(int))] if len(both) else both
    )
    return earlier[both], later[both]
