"""Ranges that are learned as quantiles."""

from collections.abc import Sequence

import numpy as np
from scipy import special

from proteron.core.panel import Floats


def ends_of(level: float) -> tuple[float, float]:
    """Shares below the ends of a central range."""
    return round((1 - level) / 2, 6), round((1 + level) / 2, 6)


def shares_of_levels(levels: Sequence[float]) -> tuple[float, ...]:
    """The middle and the ends of ranges, rising."""
    return tuple(sorted({0.5, *(share for level in levels for share in ends_of(level))}))


def ends_of_quantiles(values: Floats, shares: Sequence[float], levels: Sequence[float]) -> Floats:
    """Ends (n_levels, 2, …) of ranges among quantiles (…, n_shares)."""
    place_of = {share: place for place, share in enumerate(shares)}
    return np.array([[values[..., place_of[share]] for share in ends_of(level)] for level in levels])


def widened(ends: Floats, middles: Floats, sides: Sequence[tuple[float, float]]) -> Floats:
    """Ends (n_levels, 2, …) as far from the mean of `middles` (n_repeats, …) as if what these lie apart were a normal
    error of its own; `sides` are the shares below them."""
    middle, apart = middles.mean(axis=0), middles.std(axis=0)
    alone = special.ndtri(np.array(sides)).reshape(len(sides), 2, *[1] * middle.ndim) * apart
    away = ends - middle
    return middle + np.sign(away) * np.hypot(away, alone)
