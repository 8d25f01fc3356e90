"""What a series usually is at a place: its level around, what its phase adds, and gaps bridged by both."""

import numpy as np
from numpy.typing import NDArray

from proteron.core.compiled import kernel
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
    edges = np.linspace(0, len(values), count + 1).astype(np.int64)
    middles = _medians(np.ascontiguousarray(values), edges)
    known = np.isfinite(middles)
    if not known.any():
        return np.full(len(values), np.nan)
    return np.interp(np.arange(len(values)), ((edges[:-1] + edges[1:] - 1) / 2)[known], middles[known])


@kernel
def _medians(values: Floats, edges: Ints) -> Floats:
    """Of what is known between each edge and the next; NaN where nothing is."""
    out = np.full(len(edges) - 1, np.nan)
    for i in range(len(out)):
        part = values[edges[i] : edges[i + 1]]
        known = part[np.isfinite(part)]
        if len(known):
            out[i] = np.median(known)
    return out


def by_phase(off: Floats, phase: Ints, season: int) -> Floats:
    """The median of each phase of what differs from the level (n_points,), (season,); 0 where none is known. Phases
    follow each other."""
    before = int(phase[0]) if len(phase) else 0
    rows = np.full((before + len(off) + season - 1) // season * season, np.nan)
    rows[before : before + len(off)] = off
    ordered = rows.reshape(-1, season)
    ordered.sort(axis=0)  # what is missing comes last
    count, at = np.isfinite(ordered).sum(axis=0), np.arange(season)
    if not len(ordered):
        return np.zeros(season)
    low, high = ordered[np.maximum(count - 1, 0) // 2, at], ordered[np.minimum(count // 2, len(ordered) - 1), at]
    return np.asarray(np.where(count > 0, (low + high) / 2, 0.0))
