"""Shifts of level and of spread: a penalised partition of what is known, or cumulated sums as it comes."""

import itertools
from typing import ClassVar

import numpy as np

from proteron.core.anomalies.flags import Candidate, SeriesScores
from proteron.core.compiled import kernel
from proteron.core.detection.bridging import by_phase, levels
from proteron.core.detection.scores import Limits
from proteron.core.documents import Settings
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints

_NORMAL = 1.4826
_SHORTEST = 4  # points of a piece
_LONGEST = 96  # points whose sums are looked at as they come
_BEGIN = 3  # seasons before anything is told as it comes, or 24 points
_GROWS = 12  # points after an alarm within which its sum may grow
_ALONE = 5.0  # spreads beyond which a single point tells no shift
_MOST_LIKE = 0.95  # that one error is the next


class LevelShifts(Settings):
    """Where the level, less what the season usually adds, moves and stays: pieces of one level each (Killick, Fearnhead
    & Eckley 2012); as of every moment the largest sum of the latest errors over the root of their number (Page 1954;
    Lai 1995)."""

    title: ClassVar[str] = "level shifts"
    limits: ClassVar[Limits] = Limits(7.0, 5.5)
    alone: ClassVar[bool] = True
    kind: ClassVar[str] = "level shift"

    def look_back(self, panel: Panel, index: int) -> SeriesScores:
        """By all points."""
        values, first = np.array(panel.series(index)), int(panel.starts[index])
        season = next(iter(panel.axis.step.whole_seasons), 1)
        expected, score = np.full(len(values), np.nan), np.full(len(values), np.nan)
        at = np.flatnonzero(np.isfinite(values))
        if len(at) < 3 * _SHORTEST:
            return SeriesScores(expected, score, ())
        flat = values - _season(values, season, first, values)
        signal = self.signal(flat[at], flat)
        pieces = partition(signal, self.limits.least**2)
        edges = [0, *pieces.tolist(), len(signal)]
        sums = np.concatenate([[0.0], np.cumsum(signal)])
        score[at] = 0.0
        found = []
        for before, change, after in zip(edges, edges[1:-1], edges[2:], strict=False):
            means = (sums[change] - sums[before]) / (change - before), (sums[after] - sums[change]) / (after - change)
            weight = (change - before) * (after - change) / (after - before)
            gain = min(float(np.sqrt(weight)) * abs(means[1] - means[0]), 1e6)
            place = int(at[change])
            score[place] = gain
            found.append(Candidate(place, place + 1, self.kind, ((len(values) - 1, gain),)))
        for start, stop in itertools.pairwise(edges):
            expected[at[start:stop]] = float(np.median(flat[at[start:stop]]))
        expected += values - flat
        return SeriesScores(expected, score, tuple(found))

    def as_of(self, panel: Panel, index: int, delay: int) -> SeriesScores:
        """By the points so far; season and spread are learned anew with every season."""
        values, first = np.array(panel.series(index)), int(panel.starts[index])
        season = next(iter(panel.axis.step.whole_seasons), 1)
        expected, score = np.full(len(values), np.nan), np.full(len(values), np.nan)
        begin, every, moved = max(_BEGIN * season, 24), max(season, 24), 0
        found, goes_on = list[Candidate](), False
        for start in range(begin, len(values), every):
            known, stop = values[:start], min(start + every, len(values))
            usual = known - _season(known, season, first, known)
            part = values[start:stop]
            flat = part - _season(known, season, first + start, part, first)
            base = usual[moved:] if np.isfinite(usual[moved:]).sum() >= _SHORTEST else usual
            signal = self.signal(np.concatenate([base, flat]), base)
            before = signal[: len(base)][-_LONGEST:]
            reached, lengths = sums_of(np.concatenate([before, signal[len(base) :]]), len(before), self.limits.least)
            score[start:stop] = np.minimum(reached, 1e6)
            score[start:stop][~np.isfinite(part)] = np.nan
            level = float(np.nanmedian(base)) if np.isfinite(base).any() else np.nan
            expected[start:stop] = level + part - flat
            for alarm in _alarms(reached, lengths):
                change = max(start + alarm[0][0] - int(lengths[alarm[0][0]]) + 1, moved)
                course = tuple((start + place, min(grown, 1e6)) for place, grown in alarm)
                if goes_on and change < found[-1].course[0][0]:  # the alarm of the stretch before
                    earlier = found.pop()
                    course = earlier.course + tuple(each for each in course if each[1] > earlier.score)
                    change = earlier.start
                found.append(Candidate(change, change + 1, self.kind, course))
                goes_on = lengths[-1] > 0 and len(lengths) - alarm[0][0] <= _GROWS
                if not goes_on:
                    moved = change
        return SeriesScores(expected, score, tuple(found))

    def signal(self, flat: Floats, known: Floats) -> Floats:
        """What shifts show in, in spreads of what is `known`: (n_points,), of the first."""
        return _in_spreads(flat, known)


class SpreadShifts(LevelShifts):
    """Where values begin to scatter more, or less, around level and season, by the same means: of the logarithm of how
    far they are off."""

    title: ClassVar[str] = "spread shifts"
    kind: ClassVar[str] = "burst"

    def signal(self, flat: Floats, known: Floats) -> Floats:
        """What shifts show in, in spreads of what is `known`: (n_points,), of the first."""
        width = 24
        level = levels(known, width)
        off, usual = np.abs(known - level), np.abs(flat - _carried(level, len(flat)))
        there = off[np.isfinite(off)]
        least = max(0.05 * float(np.median(there)) if len(there) else 0.0, 1e-12)
        return _in_spreads(np.log(usual + least), np.log(off + least))


def _alarms(reached: Floats, lengths: Ints) -> list[list[tuple[int, float]]]:
    """For each alarm the points with which its sum grew, and to what."""
    alarms = list[list[tuple[int, float]]]()
    before = (-2, 0)  # the last point of an alarm, and where its sum begins
    for place in np.flatnonzero(lengths > 0).tolist():
        begins = place - int(lengths[place]) + 1
        if (place - 1, begins) != before:
            alarms.append([(place, float(reached[place]))])
        elif reached[place] > alarms[-1][-1][1]:
            alarms[-1].append((place, float(reached[place])))
        before = (place, begins)
    return alarms


def _carried(level: Floats, count: int) -> Floats:
    """A level (n_known,) that goes on as it ended, (count,)."""
    return np.concatenate([level, np.full(max(count - len(level), 0), level[-1] if len(level) else 0.0)])[:count]


def _season(known: Floats, season: int, first: int, values: Floats, known_first: int | None = None) -> Floats:
    """What each phase usually adds by what is known, at values (n_points,) that begin at a grid position."""
    if season < 2 or len(known) < 2 * season:
        return np.zeros(len(values))
    begins = first if known_first is None else known_first
    usual = by_phase(known - levels(known, season), (begins + np.arange(len(known))) % season, season)
    return np.asarray(usual[(first + np.arange(len(values))) % season])


def _in_spreads(flat: Floats, known: Floats) -> Floats:
    """Off the median, in spreads of a mean of errors that follow each other as the known ones do; what is missing, or
    far beyond, says no more than `_ALONE`."""
    there = known[np.isfinite(known)]
    if len(there) < _SHORTEST:
        return np.zeros(len(flat))
    change = np.diff(there)
    spread = _NORMAL * float(np.median(np.abs(change - np.median(change)))) / np.sqrt(2)
    around = there - levels(there, 24)
    scatter = _NORMAL * float(np.median(np.abs(around)))
    spread = max(spread, 1e-9 * float(np.abs(there).max()), 1e-300)
    # Errors that resemble their neighbours change less than they scatter.
    like = min(max(1 - (spread / scatter) ** 2, 0.0), _MOST_LIKE) if scatter > 0 else 0.0
    wide = max(spread, scatter) * np.sqrt((1 + like) / (1 - like))
    most = _ALONE * wide
    return np.asarray(np.clip(np.nan_to_num(flat - np.median(there), posinf=most, neginf=-most), -most, most) / wide)


@kernel
def partition(signal: Floats, price: float) -> Ints:
    """Places at which pieces of one mean each begin, but the first: of all partitions of a signal (n_points,) the one
    of the least squares, a piece costing `price`; none is shorter than a few points. Optimal, pruned (PELT)."""
    count = len(signal)
    sums, squares = np.zeros(count + 1), np.zeros(count + 1)
    for i in range(count):
        sums[i + 1] = sums[i] + signal[i]
        squares[i + 1] = squares[i] + signal[i] ** 2
    best, last = np.full(count + 1, np.inf), np.zeros(count + 1, np.int64)
    best[0] = -price
    open_, kept = np.zeros(count + 1, np.int64), 1
    for stop in range(_SHORTEST, count + 1):
        for k in range(kept):
            start = open_[k]
            if stop - start < _SHORTEST:
                continue
            total = sums[stop] - sums[start]
            cost = best[start] + squares[stop] - squares[start] - total * total / (stop - start) + price
            if cost < best[stop]:
                best[stop], last[stop] = cost, start
        left = 0
        for k in range(kept):
            start = open_[k]
            total = sums[stop] - sums[start]
            cost = best[start] + squares[stop] - squares[start] - total * total / (stop - start)
            if stop - start < _SHORTEST or cost <= best[stop]:
                open_[left] = start
                left += 1
        kept = left
        if np.isfinite(best[stop - _SHORTEST + 1]) and stop - _SHORTEST + 1 >= _SHORTEST:
            open_[kept] = stop - _SHORTEST + 1
            kept += 1
    found, stop = np.zeros(count, np.int64), count
    number = 0
    while stop > 0 and last[stop] > 0:
        stop = last[stop]
        found[number] = stop
        number += 1
    return found[:number][::-1].copy()


@kernel
def sums_of(signal: Floats, begin: int, threshold: float) -> tuple[Floats, Ints]:
    """For each point of a signal from `begin` on, the largest sum of the latest ones over the root of their number;
    and how many those are, from where it rises above a threshold until a few points later. Sums then begin anew around
    their mean."""
    count = len(signal) - begin
    reached, lengths = np.zeros(count), np.zeros(count, np.int64)
    shift, since, start, told = 0.0, 0, -1, 0
    for at in range(begin, len(signal)):
        total, best, length = 0.0, 0.0, 0
        for back in range(min(at + 1 - since, _LONGEST)):
            total += signal[at - back] - shift
            size = abs(total) / np.sqrt(back + 1.0)
            right = back + 1 >= _SHORTEST if start < 0 else at - back == start
            if right and size > best:
                best, length = size, back + 1
        reached[at - begin] = best
        if start < 0 and best > threshold:
            start, told = at - length + 1, at
        if start >= 0:
            lengths[at - begin] = at - start + 1
            if at - told >= _GROWS:
                total = 0.0
                for place in range(start, at + 1):
                    total += signal[place] / (at - start + 1)
                shift, since, start = total, at + 1, -1
    return reached, lengths
