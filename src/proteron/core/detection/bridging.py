"""What a series usually is at a place: its level around, what its phase adds, and gaps bridged by both."""

from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from proteron.core.panel import Floats
from proteron.core.timeline import Ints


def filled(values: Floats, hidden: NDArray[np.bool_], first: int, seasons: tuple[int, ...]) -> Floats:
    """Values with the hidden ones bridged: a straight line plus what their phase usually adds."""
    out = np.where(hidden, np.nan, values)
    at, known = np.arange(len(out)), np.flatnonzero(np.isfinite(out))
    season = next((each for each in reversed(seasons) if len(known) >= 3 * each), 1)
    if season > 1:
        phase = (first + at) % season
        usual = by_phase(out - levels(out, season), phase, season)
        flat = out - usual[phase]
        bridged = np.interp(at, known, flat[known]) + usual[phase]
    else:
        bridged = np.interp(at, known, out[known])
    return np.where(np.isfinite(out), out, bridged)


def levels(values: Floats, width: int) -> Floats:
    """Medians of stretches of about `width` points, joined by straight lines; NaN where nothing is known."""
    count = max(len(values) // width, 1)
    edges = np.linspace(0, len(values), count + 1).astype(np.int64).tolist()
    middles, centres = list[float](), list[float]()
    for low, high in pairwise(edges):
        known = values[low:high][np.isfinite(values[low:high])]
        if len(known):
            middles.append(float(np.median(known)))
            centres.append((low + high - 1) / 2)
    return np.interp(np.arange(len(values)), centres, middles) if middles else np.full(len(values), np.nan)


def by_phase(off: Floats, phase: Ints, season: int) -> Floats:
    """The median of each phase of what differs from the level (n_points,), (season,); 0 where none is known."""
    out = np.zeros(season)
    for each in range(season):
        mine = off[(phase == each) & np.isfinite(off)]
        out[each] = float(np.median(mine)) if len(mine) else 0.0
    return out
