"""How far ranges by theory were off where a forecaster had learned from a part of what is known, and what follows."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from scipy import special

from proteron.core.panel import Floats
from proteron.core.timeline import Ints

PARTS = (0.5, 2 / 3, 5 / 6)  # of what is known, learned from anew
ORIGINS = 6  # between the end of a part and that of the next
LEAST = 12
_FARTHEST = 200
_BELIEVED = 1.5  # errors that theory counts for
_TESTED = 0.35  # of what is known: half lies behind the first part, and spans in it are like each other
_SMALLEST, _LARGEST = 0.64, 30.0  # of squared errors in those of theory


def rehearsed_steps(count: int, asked: int | None, season: int) -> int:
    """How many steps ahead of `count` known points are tried: as asked, or a season, but a quarter of them at most."""
    return max(min(asked or max(season, LEAST), _FARTHEST, count // 4), 1)


def parts_of(values: Floats, shares: Sequence[float] = PARTS, origins: int = ORIGINS) -> Iterator[tuple[int, Ints]]:
    """Where parts of values (n,) end, by known points, and places from there to the end of the next (≤ origins,).

    A place is a number of points with a known one last; the part's own end is the first.
    """
    present = np.flatnonzero(np.isfinite(values))
    cuts = [int(present[int(len(present) * share)]) for share in shares] + [int(present[-1])]
    for cut, next_cut in pairwise(cuts):
        between = present[(present >= cut - 1) & (present < next_cut)] + 1
        if len(between):  # of very few points two parts may end alike
            yield cut, np.unique(between[np.linspace(0, len(between) - 1, origins).astype(int)])


def steps_after(values: Floats, places: Ints, horizon: int) -> Floats:
    """What followed each place (n_places,) in values (n,), (n_places, horizon), NaN beyond their end."""
    padded = np.concatenate([values, np.full(horizon, np.nan)])
    return np.asarray(padded[places[:, None] + np.arange(horizon)])


@dataclass(frozen=True)
class Looseness:
    """By how much spreads by theory are to be widened, and the degrees of freedom of what is left, (horizon,) each."""

    factor: Floats
    freedom: Floats

    def scales(self, ranks: Floats) -> Floats:
        """What deviations of paths are to be multiplied by, (count, horizon), from one even number a path (count,).

        Normal deviations become those of Student's t, each path by one common scale.
        """
        squares = special.chdtri(self.freedom, 1 - ranks[:, None])
        return np.asarray(self.factor * np.sqrt(self.freedom / np.maximum(squares, 1e-3)))


def freedom_of(count: int, horizon: int) -> Floats:
    """Degrees of freedom (horizon,): how many spans of so many steps lie apart in the half that was rehearsed."""
    return np.asarray(_BELIEVED + _TESTED * count / np.arange(1.0, horizon + 1))


def factors_from(squares: Floats, count: int) -> Floats:
    """Factors (horizon,) from squared errors in those that theory expects, (n_origins, horizon), NaN where none was.

    Theory counts for one error and a half, experience for as many as there are spans that do not overlap. A step that
    was never reached takes the factor of the one before it, the first the factor 1.
    """
    known = np.isfinite(squares)
    shown = np.where(known, np.minimum(squares, _LARGEST), 0.0).sum(axis=0)
    reached = np.asarray(known.any(axis=0))
    mean = shown / np.maximum(known.sum(axis=0), 1)
    apart = freedom_of(count, squares.shape[1]) - _BELIEVED
    found = np.sqrt(np.maximum((_BELIEVED + apart * mean) / (_BELIEVED + apart), _SMALLEST))
    last = np.maximum.accumulate(np.where(reached, np.arange(len(reached)), -1))
    return np.asarray(np.where(last >= 0, found[np.maximum(last, 0)], 1.0))


def looseness(factors: Floats, count: int, horizon: int) -> Looseness:
    """For `horizon` steps, those beyond the rehearsed ones taking the last factor."""
    known = factors[np.isfinite(factors)]
    places = np.minimum(np.arange(horizon), len(known) - 1)
    return Looseness(known[places] if len(known) else np.ones(horizon), freedom_of(count, horizon))
