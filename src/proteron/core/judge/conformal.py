"""Conformal correction: ranges widened or narrowed so that they would have held what they say on earlier folds.

The score of a point is how many half-widths it lay from the middle of its range (Lei, G'Sell, Rinaldo, Tibshirani &
Wasserman 2018, eq. 5); a range of a level is scaled by the quantile of the scores of all earlier folds' points known
by the cutoff that leaves out as many as it should (split conformal prediction). The adaptive kind also moves the level
it aims at by how often ranges failed lately (Gibbs & Candès 2021, eq. 2).
"""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from proteron.core.judge.folds import Fold
from proteron.core.panel import Floats, Panel
from proteron.core.phases import truths
from proteron.core.timeline import Ints

Correction = Literal["split", "adaptive"]
_LEAST = 20  # scores without which ranges stay as they are
_RATE = 0.05  # by which the level that is aimed at moves towards what was missed at an origin
_LARGEST = 1e6

FoldRanges = tuple[Fold, Floats]  # a fold, and its ranges (n_levels, 2, n_series, n_origins, horizon)


@dataclass(frozen=True)
class _Scored:
    """What an earlier fold's points came to: scores (n_levels, n_series, n_origins, horizon) with their places."""

    scores: Floats
    origins: Ints
    positions: Ints


def corrected(
    panel: Panel, how: Correction, levels: Sequence[float], now: FoldRanges, earlier: Sequence[FoldRanges]
) -> Floats:
    """Ranges of a fold, corrected by those of `earlier` folds as they came out, corrected themselves.

    `panel` holds the series that the ranges are of. Nothing that is not known by the fold's cutoff is read.
    """
    past: list[FoldRanges] = []
    for place, ranges in sorted(earlier, key=lambda each: each[0].cutoff):
        past.append((place, _scaled(ranges, 1.0 / _factors(panel, place, past, levels, how))))
    return _scaled(now[1], _factors(panel, now[0], past, levels, how))


def _scaled(ranges: Floats, factors: Floats) -> Floats:
    """Ranges (n_levels, 2, n_series, …) with their half-widths multiplied by factors (n_levels, n_series)."""
    middle, half = ranges.mean(axis=1), (ranges[:, 1] - ranges[:, 0]) / 2
    reach = half * factors[:, :, None, None]
    return np.stack([middle - reach, middle + reach], axis=1)


def _factors(panel: Panel, place: Fold, past: Sequence[FoldRanges], levels: Sequence[float], how: Correction) -> Floats:
    """By what ranges are multiplied at a fold, (n_levels, n_series): 1 where too little is known."""
    known = panel.cut_at(place.cutoff)
    known = known.without(place.hidden) if place.hidden else known
    scored = [_scored(known, *each) for each in past]
    out = np.ones((len(levels), len(panel)))
    for series in range(len(panel)):
        for at, level in enumerate(levels):
            rows = [(each.scores[at, series], each) for each in scored]
            scores = np.concatenate([row[np.isfinite(row)] for row, _ in rows]) if rows else np.empty(0)
            if len(scores) >= _LEAST:
                aimed = level if how == "split" else _moved(rows, level)
                out[at, series] = min(_quantile(np.sort(scores), aimed), _LARGEST) or 1.0
    return out


def _scored(known: Panel, place: Fold, ranges: Floats) -> _Scored:
    origins = place.origins
    positions = origins[:, None] + place.gap + np.arange(place.horizon)
    truth = truths(known, origins + place.gap, place.horizon)
    truth = np.where(place.chosen & place.is_scored(positions), truth, np.nan)
    middle, half = ranges.mean(axis=1), (ranges[:, 1] - ranges[:, 0]) / 2
    with np.errstate(invalid="ignore", divide="ignore"):
        scores = np.where(half > 0, np.abs(truth - middle) / half, np.nan)
    return _Scored(scores, origins, positions)


def _quantile(ordered: Floats, level: float) -> float:
    """The score that one more is below with at least this probability; the largest where there are too few."""
    rank = int(np.ceil((len(ordered) + 1) * level))
    return float(ordered[min(max(rank, 1), len(ordered)) - 1])


def _moved(rows: Sequence[tuple[Floats, _Scored]], level: float) -> float:
    """The level aimed at after walking over all origins: each misses by the quantile of what was known by then."""
    scores = np.concatenate([row.ravel() for row, _ in rows])
    places = np.concatenate([each.positions.ravel() for _, each in rows])
    there = np.isfinite(scores)
    scores, places = scores[there], places[there]
    order = np.argsort(places, kind="stable")
    scores, places = scores[order], places[order]
    missed = 1 - level
    for row, each in rows:
        for place, origin in enumerate(each.origins):
            mine = row[place][np.isfinite(row[place])]
            before = np.sort(scores[: np.searchsorted(places, origin)])
            if len(mine) and len(before) >= _LEAST:
                wrong = float((mine > _quantile(before, 1 - missed)).mean())
                missed = min(max(missed + _RATE * ((1 - level) - wrong), 0.0), 1.0)
    return 1 - missed
