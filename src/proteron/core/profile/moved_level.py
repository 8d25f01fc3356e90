"""Whether a series' level moves over what is known: what a learner cannot follow that says nothing it has not seen."""

import numpy as np

from proteron.core.panel import Floats

_FEWEST, _MOST = 8, 400  # blocks
_SURE, _MUCH = 3.5, 1.0  # standard errors of the slope; spreads of the blocks around the line


def moved_level(values: Floats, season: int) -> float | None:
    """By how much the level moves from the first to the last cycle, (n,) values; None where that may be chance.

    A line through the means of whole cycles: it moves where its slope is 3.5 standard errors from zero, corrected for
    autocorrelation (Newey & West 1987), and what it comes to exceeds the spread of the means around it.
    """
    size = max(season, -(-len(values) // _MOST), 1)
    count = len(values) // size
    if count < _FEWEST:
        return None
    blocks = values[len(values) - count * size :].reshape(count, size)
    present = np.isfinite(blocks)
    enough = present.sum(axis=1) * 2 > size
    if enough.sum() < _FEWEST:
        return None
    means = np.where(present, blocks, 0.0).sum(axis=1)[enough] / present.sum(axis=1)[enough]
    time = np.flatnonzero(enough) - np.flatnonzero(enough).mean()
    slope = float(time @ means / (time @ time))
    rest = means - means.mean() - slope * time
    lags = int(np.ceil(len(means) ** (1 / 3)))
    scores = time * rest
    variance = scores @ scores + 2 * sum(
        (1 - lag / (lags + 1)) * (scores[lag:] @ scores[:-lag]) for lag in range(1, lags + 1)
    )
    error = np.sqrt(max(variance, 0.0)) / (time @ time)
    moved = slope * float(time[-1] - time[0])
    chance = abs(slope) <= _SURE * error or abs(moved) <= _MUCH * rest.std() or abs(moved) <= 1e-9 * np.abs(means).max()
    return None if chance else moved
