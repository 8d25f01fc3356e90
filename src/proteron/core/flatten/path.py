"""A learned part that has a value of its own at every known point, and how it goes on."""

import numpy as np

from proteron.core.panel import Floats
from proteron.core.timeline import Ints


def follow(path: Floats, first: int, slope: float, positions: Ints) -> Floats:
    """`path` (n_known,) from grid position `first` on; its first value before, a line of `slope` beyond its end."""
    at = np.asarray(positions, dtype=np.int64) - first
    beyond = np.maximum(at - (len(path) - 1), 0)
    return np.asarray(path[np.clip(at, 0, len(path) - 1)] + slope * beyond)


def last_slope(path: Floats, window: int) -> float:
    """Least-squares slope per step of the last `window` values."""
    recent = path[-max(min(window, len(path)), 2) :]
    if len(recent) < 2:
        return 0.0
    at = np.arange(len(recent)) - (len(recent) - 1) / 2
    return float(at @ recent / (at @ at))


def weighted_columns(columns: Floats, weights: Floats) -> Floats:
    """Σ weights · columns over the last axis, column by column.

    A matrix product may order its sums by the number of rows, so the same row would differ in its last bits.
    """
    out = np.zeros(columns.shape[:-1])
    for k, weight in enumerate(weights):
        out += weight * columns[..., k]
    return out
