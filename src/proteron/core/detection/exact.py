"""Tests that need no expectation: gaps, zeros, stuck values, clipped values and blocks that came before."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from proteron.core.compiled import kernel
from proteron.core.panel import Floats
from proteron.core.timeline import Ints

_UNLIKELY = 0.02  # probability below which a run is not the series' own habit
_RARE, _RARE_APART = 0.03, 0.08  # share of zeros that are faults, and where other values keep away from zero
_LEAST_STUCK, _LEAST_COPIED, LEAST_CLIPPED = 4, 5, 4
_RESTS = 0.2  # share of zeros from which on a series rests at zero
_GAP = 1.5  # times the next shorter run that one beyond the habit is at least
LEAST_CHANCE = 0.02  # of two values to be equal, above which a limit cannot be told
_GROUPED = 3  # equal neighbours that a copy is first found by
_CROWD = 12  # places with the same neighbours, above which none is compared


@dataclass(frozen=True)
class Span:
    """Local positions start ≤ p < stop that a test found, and as what."""

    start: int
    stop: int
    kind: str


def exact_faults(values: Floats, seasons: tuple[int, ...]) -> list[Span]:
    """What the exact tests find in values (n_points,), in time order, each point at most once."""
    taken = np.zeros(len(values), dtype=bool)
    found: list[Span] = []
    for each in (gaps(values), zeros(values), clipped(values, seasons[0] if seasons else 1), stuck(values)):
        found += _untaken(each, taken)
    found += _untaken(copies(values, seasons), taken)
    return sorted(found, key=lambda each: each.start)


def _untaken(spans: list[Span], taken: NDArray[np.bool_]) -> list[Span]:
    free = [each for each in spans if not taken[each.start : each.stop].any()]
    for each in free:
        taken[each.start : each.stop] = True
    return free


def runs_of(where: NDArray[np.bool_]) -> list[tuple[int, int]]:
    """Spans of consecutive true places."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], where, [False]]).astype(np.int8)))
    return list(zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True))


def gaps(values: Floats) -> list[Span]:
    """Missing values between known ones."""
    known = np.flatnonzero(np.isfinite(values))
    if not len(known):
        return []
    missing = ~np.isfinite(values)
    return [Span(*each, "gap") for each in runs_of(missing) if known[0] < each[0] and each[1] <= known[-1]]


def zeros(values: Floats) -> list[Span]:
    """Zeros, where they are rare and what lies around them is not near zero."""
    known = values[np.isfinite(values)]
    zero, others = values == 0, np.abs(known[known != 0])
    if not zero.any() or not zeros_are_faults(known):
        return []
    typical = float(np.median(others))
    found = []
    for start, stop in runs_of(zero):
        around = np.concatenate([values[max(start - 3, 0) : start], values[stop : stop + 3]])
        around = np.abs(around[np.isfinite(around)])
        if len(around) and np.median(around) > 0.15 * typical:
            found.append(Span(start, stop, "zeros"))
    return found


def zeros_are_faults(known: Floats) -> bool:
    """Whether zeros are rare among known values (n,), the more so where others come near zero."""
    others = np.abs(known[known != 0])
    if len(others) < 8:
        return False
    apart = np.quantile(others, 0.02) > 0.2 * np.median(others)
    return bool(1 - len(others) / len(known) <= (_RARE_APART if apart else _RARE))


def stuck(values: Floats) -> list[Span]:
    """Runs of one value that are longer than the series' own habit."""
    starts, lengths = _equal_runs(values)
    chosen = _beyond_habit(lengths, len(values), _LEAST_STUCK)
    return [Span(int(starts[each]), int(starts[each] + lengths[each]), "flat-line") for each in chosen]


def _equal_runs(values: Floats) -> tuple[Ints, Ints]:
    """Starts and lengths of all runs of equal neighbours, single values included."""
    same = np.concatenate([[False], values[1:] == values[:-1]])
    starts = np.flatnonzero(~same & np.isfinite(values))
    ends = np.flatnonzero(np.concatenate([~same[1:], [True]]) & np.isfinite(values))
    return starts, ends - starts + 1


def _beyond_habit(lengths: Ints, points: int, least: int) -> list[int]:
    """Places of the longest runs above a gap in lengths, as many as chance would hardly make the shortest of."""
    order = np.argsort(-lengths, kind="stable")
    ranked = lengths[order]
    if not len(ranked) or ranked[0] < least:
        return []
    most = min(len(ranked), max(3, points // 100))
    following = np.append(ranked[1:], 1)[:most]
    for count in range(most, 0, -1):
        shortest, rest = int(ranked[count - 1]), ranked[count:]
        if shortest < least or shortest < _GAP * following[count - 1]:
            continue
        repeats = float((rest - 1).sum() + 0.5) / max(float(rest.sum()) + 1.0, 2.0)
        if points * (1 - repeats) * repeats ** (shortest - 1) < _UNLIKELY:
            return sorted(order[:count].tolist())
    return []


def clipped(values: Floats, season: int) -> list[Span]:
    """Stretches whose highest (or lowest) value comes again and again, where values hardly ever repeat."""
    known = values[np.isfinite(values)]
    if len(known) < 30 or repeat_chance(known[known != 0]) > LEAST_CHANCE:  # no limit is told at zero
        return []
    found: list[Span] = []
    rests = float(np.mean(known == 0)) > _RESTS  # which look like a lower limit once their level has moved
    distinct, counts = np.unique(known, return_counts=True)
    for limit in distinct[(counts >= LEAST_CLIPPED) & (distinct != 0)].tolist():
        at = np.flatnonzero(values == limit)
        for group in np.split(at, np.flatnonzero(np.diff(at) > max(2 * season, 24)) + 1):
            inside = values[group[0] : group[-1] + 1]
            there = inside[np.isfinite(inside)]
            one_sided = (there <= limit).all() or (not rests and (there >= limit).all())
            neighbours = int((np.diff(group) == 1).sum())
            apart = inside[np.isfinite(inside) & (inside != limit)]
            if len(group) >= LEAST_CLIPPED and neighbours and one_sided and len(apart):
                found.append(Span(int(group[0]), int(group[-1]) + 1, "clipping"))
    return found


def repeat_chance(known: Floats) -> float:
    """The chance that two known values are equal."""
    _, counts = np.unique(known, return_counts=True)
    return float(((counts / len(known)) ** 2).sum())


def copies(values: Floats, seasons: tuple[int, ...]) -> list[Span]:
    """Blocks that equal an earlier block to the last digit, at a lag that is no season."""
    known = values[np.isfinite(values)]
    if len(known) < 4 * _LEAST_COPIED:
        return []
    chance = repeat_chance(known)
    if chance > 0.2:
        return []
    _, codes = np.unique(values, return_inverse=True)
    starts, lengths, lags = _matches(np.where(np.isfinite(values), codes, -1 - np.arange(len(values))), _CROWD)
    found = []
    for start, length, lag in zip(starts.tolist(), lengths.tolist(), lags.tolist(), strict=True):
        if any(lag % season == 0 for season in seasons if season > 1):
            continue
        pairs = len(known) ** 2 / 2
        if length < _LEAST_COPIED or len(np.unique(values[start : start + length])) < 3:
            continue
        if pairs * chance**length < _UNLIKELY:
            found.append(_at_fault(values, start, length, lag))
    return sorted(found, key=lambda each: each.start - each.stop)


def _at_fault(values: Floats, start: int, length: int, lag: int) -> Span:
    """The later copy, unless the jumps at the earlier one's ends are the larger by far."""

    def jumps(begin: int) -> float:
        edges = [abs(values[at] - values[at - 1]) for at in (begin, begin + length) if 0 < at < len(values)]
        edges = [each for each in edges if np.isfinite(each)]
        return max(edges, default=0.0)

    if jumps(start - lag) > 2 * jumps(start):
        return Span(start - lag, start - lag + length, "slip")
    return Span(start, start + length, "slip")


@kernel
def _matches(codes: Ints, crowd: int) -> tuple[Ints, Ints, Ints]:
    """Maximal blocks of codes (n_points,) that came before: their starts, lengths and lags. Found by triples."""
    n = len(codes)
    most = codes.max() + 2
    keys = np.empty(max(n - _GROUPED + 1, 0), dtype=np.int64)
    for t in range(len(keys)):
        key = 0
        for k in range(_GROUPED):
            key = (key * 1000003 + codes[t + k] % most + 7) & 0x7FFFFFFFFFFFFF
        keys[t] = key
    order = np.argsort(keys, kind="mergesort")
    starts, lengths, lags = [0 for _ in range(0)], [0 for _ in range(0)], [0 for _ in range(0)]
    first = 0
    while first < len(order):
        last = first + 1
        while last < len(order) and keys[order[last]] == keys[order[first]]:
            last += 1
        if 2 <= last - first <= crowd:
            for late in range(first + 1, last):
                for early in range(first, late):
                    a, b = order[early], order[late]
                    if a > 0 and codes[a - 1] == codes[b - 1]:
                        continue  # begins before
                    size = 0
                    while b + size < n and a + size < b and codes[a + size] == codes[b + size]:
                        size += 1
                    if size >= _GROUPED:
                        starts.append(b)
                        lengths.append(size)
                        lags.append(b - a)
        first = last
    return np.array(starts, dtype=np.int64), np.array(lengths, dtype=np.int64), np.array(lags, dtype=np.int64)
