"""How probable what happened was, where ranges are those of a normal distribution."""

from collections.abc import Sequence

import numpy as np
from scipy import special

from proteron.core.flatten import FittedChain
from proteron.core.panel import Floats

_ALIKE = 0.01  # of the spread: by which ends of ranges may lie elsewhere than a normal distribution has them
_STEP = 1e-4  # of half a range: over which the slope of the transforms is taken


def log_density(chain: FittedChain, ranges: Floats, levels: Sequence[float], truth: Floats) -> Floats:
    """Log of the density at the truth, (n_series, n_origins, horizon), in original units.

    `ranges` (n_levels, 2, …) must be those of one normal distribution behind the transforms that the `chain` begins
    with, as theory has them; NaN where they are not, and where fewer than two levels leave that open.
    """
    if len(levels) < 2:
        return np.full(truth.shape, np.nan)
    reach = special.ndtri(0.5 + np.asarray(levels) / 2).reshape(-1, 1, 1, 1)
    out = np.empty(truth.shape)
    with np.errstate(invalid="ignore", divide="ignore"):
        for at, key in enumerate(chain.keys):
            ends = chain.transformed(key, ranges[:, :, at])
            middles, spreads = ends.mean(axis=1), (ends[:, 1] - ends[:, 0]) / 2 / reach[:, 0]
            middle, spread = middles.mean(axis=0), spreads.mean(axis=0)
            away = np.maximum(np.abs(middles - middle), np.abs(spreads - spread)).max(axis=0)
            step = _STEP * (ranges[0, 1, at] - ranges[0, 0, at])
            here = chain.transformed(key, np.stack([truth[at] - step, truth[at], truth[at] + step]))
            slope = (here[2] - here[0]) / (2 * step)
            score = (here[1] - middle) / spread
            found = np.log(slope / spread) - score**2 / 2 - np.log(2 * np.pi) / 2
            out[at] = np.where((spread > 0) & (away <= _ALIKE * spread), found, np.nan)
    return np.where(np.isfinite(out), out, np.nan)
