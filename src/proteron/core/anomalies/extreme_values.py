"""Extreme values: what lies too far from the level and season for a normal, one after the other (Rosner 1983)."""

from typing import ClassVar

import numpy as np
from pydantic import Field
from scipy.special import stdtrit

from proteron.core.anomalies.flags import Candidate, SeriesScores
from proteron.core.detection.bridging import by_phase, levels
from proteron.core.detection.scores import Limits
from proteron.core.documents import Settings
from proteron.core.panel import Floats, Panel

_NORMAL = 1.4826
_LEVEL = 3  # seasons that a level is the median of
_MOST = 1e6
_BEGIN = 4  # seasons before the first that is scored as of its moment


class ExtremeValues(Settings):
    """Single values, by the generalised extreme studentised deviate of what season and level leave, with medians in the
    place of means so that many outliers do not hide each other."""

    title: ClassVar[str] = "extreme values"
    limits: ClassVar[Limits] = Limits(3.5, 3.5)
    alone: ClassVar[bool] = True
    share: float = Field(0.02, gt=0, le=0.4, title="At most", description="Share of points that may be extreme.")
    significance: float = Field(0.05, gt=0, lt=1, title="Significance", description="Of all tests together.")

    def look_back(self, panel: Panel, index: int) -> SeriesScores:
        """Against level and season of the whole series."""
        values = np.array(panel.series(index))
        season = next(iter(panel.axis.step.whole_seasons), 1)
        expected = level_and_season(values, season, int(panel.starts[index]))
        score = _studentised(values - expected)
        count = self.extremes(score)
        order = np.argsort(-np.nan_to_num(score, nan=-1.0), kind="stable")[:count]
        last = len(values) - 1
        found = [Candidate(at, at + 1, "spike", ((last, float(score[at])),)) for at in sorted(order.tolist())]
        return SeriesScores(expected, score, tuple(found))

    def as_of(self, panel: Panel, index: int, delay: int) -> SeriesScores:
        """Against level and season of what came before; a point is told at once."""
        values, first = np.array(panel.series(index)), int(panel.starts[index])
        season = next(iter(panel.axis.step.whole_seasons), 1)
        expected, score = np.full(len(values), np.nan), np.full(len(values), np.nan)
        begin, every = max(_BEGIN * season, 12), max(season, 12)
        for start in range(begin, len(values), every):
            known, part = values[:start], slice(start, min(start + every, len(values)))
            usual = level_and_season(known, season, first)
            off = known - usual
            phase = (first + np.arange(len(values))) % season
            level = float(np.nanmedian(known[-_LEVEL * season :])) if np.isfinite(known).any() else np.nan
            expected[part] = level + by_phase(usual - _around(known, season), phase[:start], season)[phase[part]]
            there = off[np.isfinite(off)]
            spread = _NORMAL * float(np.median(np.abs(there))) if len(there) else np.nan
            score[part] = _in_spreads(np.abs(values[part] - expected[part]), max(spread, _least(known)))
        found = [
            Candidate(at, at + 1, "spike", ((at, float(score[at])),))
            for at in np.flatnonzero(np.nan_to_num(score, nan=0.0) > self.limits.least).tolist()
        ]
        return SeriesScores(expected, score, tuple(found))

    def extremes(self, score: Floats) -> int:
        """How many of the largest scores (n_points,) are extreme: the last that its own test rejects (Rosner 1983,
        eq. 2.5)."""
        ranked = np.sort(score[np.isfinite(score)])[::-1]
        points, last = len(ranked), 0
        for number in range(1, min(int(self.share * points), points - 2) + 1):
            left = points - number
            share = 1 - self.significance / (2 * (left + 1))
            t = float(stdtrit(left - 1, share))
            if ranked[number - 1] > left * t / np.sqrt((left - 1 + t * t) * (left + 1)):
                last = number
        return last


def level_and_season(values: Floats, season: int, first: int) -> Floats:
    """Medians of a few seasons around, and of what each phase usually adds, (n_points,)."""
    level = _around(values, season)
    if season < 2 or len(values) < 2 * season:
        return level
    phase = (first + np.arange(len(values))) % season
    return np.asarray(level + by_phase(values - level, phase, season)[phase])


def _around(values: Floats, season: int) -> Floats:
    return levels(values, max(_LEVEL * season, 12))


def _studentised(off: Floats) -> Floats:
    there = off[np.isfinite(off)]
    if not len(there):
        return np.full(len(off), np.nan)
    centred = np.abs(off - np.median(there))
    return _in_spreads(centred, max(_NORMAL * float(np.median(centred[np.isfinite(centred)])), _least(there)))


def _in_spreads(off: Floats, spread: float) -> Floats:
    """How many spreads; a million at most."""
    return np.minimum(off, _MOST * spread) / spread


def _least(values: Floats) -> float:
    """A spread that is not nothing."""
    there = np.abs(values[np.isfinite(values)])
    return max(1e-9 * float(there.max(initial=0.0)), 1e-300)
