"""Odd windows: how far the nearest other stretch of the same length is, in shape (Yeh et al. 2016)."""

from typing import ClassVar

import numpy as np
from pydantic import Field

from proteron.core.anomalies.flags import Candidate, SeriesScores
from proteron.core.compiled import kernel
from proteron.core.detection.scores import Limits
from proteron.core.documents import Settings
from proteron.core.panel import Floats, Panel

_NORMAL = 1.4826
_FLAT = 1e-9  # of the largest value so far, below which a spread is what rounding leaves
_LATELY = 8  # windows' worth of distances that tell what is usual
_FIRST = 4  # windows that are compared with before a distance says anything


class OddWindows(Settings):
    """Stretches whose shape is like no other's, whatever their level and size: distance to the nearest one."""

    title: ClassVar[str] = "odd windows"
    limits: ClassVar[Limits] = Limits(6.0, 3.0)
    alone: ClassVar[bool] = True
    window: int | None = Field(None, ge=4, title="Window", description="Points; empty: two of the shortest seasons.")

    def look_back(self, panel: Panel, index: int) -> SeriesScores:
        """Against all others."""
        return self._scored(panel, index, earlier_only=False, delay=0)

    def as_of(self, panel: Panel, index: int, delay: int) -> SeriesScores:
        """Against those that ended before; told when a window is complete, so `delay` moves nothing."""
        return self._scored(panel, index, earlier_only=True, delay=delay)

    def _scored(self, panel: Panel, index: int, earlier_only: bool, delay: int) -> SeriesScores:
        values = np.array(panel.series(index))
        season = next(iter(panel.axis.step.whole_seasons), 6)
        window = min(self.window or max(2 * season, 8), max(len(values) // 4, 4))
        distances = nearest_distances(values, window, earlier_only)
        score = usual_spreads(distances, window if earlier_only else None)
        return SeriesScores(
            np.full(len(values), np.nan), np.concatenate([np.full(len(values) - len(score), np.nan), score]),
            tuple(_peaks_as_of(score, window) if earlier_only else _peaks(score, window, len(values))),
        )  # fmt: skip


def nearest_distances(values: Floats, window: int, earlier_only: bool = False) -> Floats:
    """The distance of every window to the nearest that does not overlap it, (n_points - window + 1,).

    Between windows less their mean over their standard deviation, from 0 to 2 √window. NaN where a value is missing, or
    nothing is compared with; windows of one value are at √window from all others, and at 0 from each other.
    """
    count = len(values) - window + 1
    if count < 2:
        return np.full(max(count, 0), np.nan)
    known = np.isfinite(values)
    if not known.any():
        return np.full(count, np.nan)
    # As of every moment nothing may depend on what comes later, not even the last bit: no mean or scale of all.
    centre = values[known][0] if earlier_only else float(np.mean(values[known]))
    centred = np.where(known, values - centre, 0.0)
    centred /= 1.0 if earlier_only else max(float(np.abs(centred).max()), 1e-300)
    missing = np.concatenate([[0], np.cumsum(~known)])
    whole = missing[window:] == missing[:-window]
    windows = np.lib.stride_tricks.sliding_window_view(centred, window)
    with np.errstate(over="ignore", invalid="ignore"):
        means, spreads = windows.mean(axis=1), windows.std(axis=1)
        so_far = np.maximum.accumulate(np.abs(centred))[window - 1 :]
        spreads = np.where(spreads > _FLAT * so_far, spreads, 0.0)
        best = _closest(centred, means, spreads, whole, window, earlier_only)
    return np.where(best > -2, np.sqrt(np.maximum(2 * window * (1 - best), 0.0)), np.nan)


@kernel
def _closest(values: Floats, means: Floats, spreads: Floats, whole: Floats, window: int, earlier_only: bool) -> Floats:
    """The highest correlation of every window with one that does not overlap it; -9 where there is none."""
    count = len(means)
    best = np.full(count, -9.0)
    for apart in range(window, count):
        product = 0.0
        for k in range(window):
            product += values[k] * values[k + apart]
        for i in range(count - apart):
            j = i + apart
            if i > 0:
                product += values[i + window - 1] * values[j + window - 1] - values[i - 1] * values[j - 1]
            if not (whole[i] and whole[j]):
                continue
            if spreads[i] > 0 and spreads[j] > 0:
                alike = (product / window - means[i] * means[j]) / (spreads[i] * spreads[j])
            else:
                alike = 0.5 if spreads[i] > 0 or spreads[j] > 0 else 1.0
            if alike > best[j]:
                best[j] = alike
            if not earlier_only and alike > best[i]:
                best[i] = alike
    return best


def usual_spreads(distances: Floats, before: int | None) -> Floats:
    """How many robust spreads distances lie above the usual one; as of every moment where `before`, a window, is
    given: of the latest ones, after a few windows."""
    if before is None:
        there = distances[np.isfinite(distances)]
        if not len(there):
            return np.full(len(distances), np.nan)
        return _over(distances, float(np.median(there)), float(np.median(np.abs(there - np.median(there)))))
    out, seen = np.full(len(distances), np.nan), list[float]()
    middle = spread = np.nan
    for at, distance in enumerate(distances.tolist()):
        if len(seen) >= _FIRST * before:
            if len(seen) % before == 0 or np.isnan(middle):
                lately = np.array(seen[-_LATELY * before :])
                middle = float(np.median(lately))
                spread = float(np.median(np.abs(lately - middle)))
            out[at] = float(_over(np.array([distance]), middle, spread)[0])
        if np.isfinite(distance):
            seen.append(distance)
    return out


def _over(distances: Floats, middle: float, spread: float) -> Floats:
    return np.maximum(distances - middle, 0.0) / max(_NORMAL * spread, 0.05 * middle, 1e-9)


def _peaks(score: Floats, window: int, points: int) -> list[Candidate]:
    """Windows that are odder than any that overlaps them."""
    found, taken = list[Candidate](), np.zeros(len(score) + window, dtype=bool)
    for at in np.argsort(-np.nan_to_num(score, nan=-1.0), kind="stable").tolist():
        if not score[at] > OddWindows.limits.least:
            break
        if not taken[at]:
            taken[max(at - window + 1, 0) : at + window] = True
            found.append(Candidate(at, at + window, "shape", ((points - 1, float(score[at])),)))
    return sorted(found, key=lambda each: each.start)


def _peaks_as_of(score: Floats, window: int) -> list[Candidate]:
    """The oddest of windows that overlap the first odd one, with how their scores grew."""
    found, begun, course = list[Candidate](), -1, list[tuple[int, float]]()
    for at in [*np.flatnonzero(np.nan_to_num(score, nan=0.0) > OddWindows.limits.least).tolist(), len(score) + window]:
        if course and at >= begun + window:
            start = course[-1][0] - window + 1
            found.append(Candidate(start, start + window, "shape", tuple(course)))
            course = []
        if at < len(score) and (not course or score[at] > course[-1][1]):
            begun = begun if course else at
            course.append((at + window - 1, float(score[at])))
    return found
