"""What a point is expected to be, from the points before it, and by how much it usually differs: learned robustly."""

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from proteron.core.compiled import kernel
from proteron.core.panel import Floats
from proteron.core.timeline import Ints

_ROUNDS, _MORE_ROUNDS = 4, 2  # of reweighting, and where it was learned before
_PRIOR = 4.0  # rows that a coefficient's prior counts for
_MASKED_LAG = 0.05  # weight of a row that reads what was masked
_HUBER, _CUT = 2.0, 5.0  # spreads from which an error counts less, and not at all
_FIRST_PAIRS, _SECOND_PAIRS = 6, 4  # harmonics of the shorter and of the longer season
_BEFORE = 1.5  # times wider where what is read lies before the first point
_SLOT_TRUST, _PLACE_TRUST = 12.0, 40.0  # errors by which a slot's, a place's own spread counts half
_NORMAL = 1.4826
_ROUNDING = 1e-9  # of the largest value: an error below it is what rounding leaves


@dataclass(frozen=True)
class Expectation:
    """A regression on the points `lags` (k,) before and on the season: weights (k,), and base (n_points,) for the rest.

    `spread` says how large an error usually is.
    """

    lags: Ints
    weights: Floats
    waves: Floats
    base: Floats
    errors: Floats
    spreads: "Spreads"
    seasons: tuple[int, ...]

    @property
    def spread(self) -> Floats:
        """The usual size of an error at every point, (n_points,)."""
        return self.spreads.values

    @property
    def without_past(self) -> "Expectation":
        """The same without what it says of the points it was learned from."""
        nothing = np.zeros(0)
        return replace(self, base=nothing, errors=nothing, spreads=replace(self.spreads, values=nothing))

    @property
    def taps(self) -> tuple[Ints, Floats]:
        """The filter from values to errors: lags from 0 on, and what a value at each counts."""
        return np.concatenate([[0], self.lags]), np.concatenate([[1.0], -self.weights])

    def base_at(self, first: int, points: int) -> Floats:
        """What is expected (n_points,) besides what points before say, from position `first` on."""
        out = np.zeros(points)
        for weight, wave in zip(self.waves.tolist(), harmonics(points, first, self.seasons), strict=True):
            out += weight * wave  # one after the other, so that a point's is the same however many are asked for
        return out


@dataclass(frozen=True)
class Spreads:
    """The usual size of an error: `values` (n_points,) by slot and neighbourhood, `slots` (season,) by slot alone."""

    values: Floats
    slots: Floats
    floor: float


def usable_seasons(known: int, seasons: tuple[int, ...]) -> tuple[int, ...]:
    """Those of the seasons in points that a series with so many known points can tell of."""
    return tuple(each for each in seasons if each > 1 and known >= 3 * each + 8)


def lags_for(known: int, seasons: tuple[int, ...]) -> Ints:
    """Which points before are read: the last three, and those around one season ago."""
    found = {1, 2, 3}
    for season in usable_seasons(known, seasons):
        found |= {season - 1, season, season + 1}
    found = {each for each in found if each > 0 and known >= 3 * each + 5} or {1}
    return np.array(sorted(found), dtype=np.int64)


def harmonics(points: int, first: int, seasons: tuple[int, ...]) -> Floats:
    """A row of ones, and cosines and sines of the seasons' phases, (n_waves, n_points), from position `first` on."""
    at, done, rows = np.arange(first, first + points), set[float](), [np.ones(points)]
    for season, pairs in zip(seasons, (_FIRST_PAIRS, _SECOND_PAIRS), strict=False):
        for number in range(1, min(pairs, season // 2) + 1):
            if number / season in done:
                continue
            done.add(number / season)
            angle = 2 * np.pi * ((number * np.arange(season)) % season) / season
            phase = at % season
            rows.append(np.cos(angle)[phase])
            if 2 * number != season:
                rows.append(np.sin(angle)[phase])
    return np.array(rows)


def padded(values: Floats, reach: int, season: int) -> Floats:
    """Values with `reach` ones before the first: those of the same phase in the first seasons."""
    at = np.arange(-reach, 0)
    if season > len(values):
        season = 1
    return np.concatenate([values[at % season if season > 1 else np.zeros(reach, dtype=np.int64)], values])


class Design:
    """What values of one series are explained by; fixed, however much of it is masked."""

    def __init__(self, points: int, known: int, first: int, seasons: tuple[int, ...]) -> None:
        self.points, self.first = points, first
        self.seasons, self.lags = usable_seasons(known, seasons), lags_for(known, seasons)
        self.waves = harmonics(points, first, self.seasons)
        self.reach = int(self.lags.max())

    @property
    def longest(self) -> int:
        """The longest season that is used, in points."""
        return self.seasons[-1] if self.seasons else 1

    def table(self, whole: Floats) -> Floats:
        """Waves and earlier points (n_columns, n_points) of padded values."""
        out = np.empty((len(self.waves) + len(self.lags), self.points))
        out[: len(self.waves)] = self.waves
        for row, lag in enumerate(self.lags.tolist(), start=len(self.waves)):
            out[row] = whole[self.reach - lag : self.reach - lag + self.points]
        return out


def expect(values: Floats, masked: NDArray[np.bool_], design: Design, before: Expectation | None = None) -> Expectation:
    """Learn from values (n_points,) without gaps, of which the masked ones stand in for what was not there or wrong;
    quicker where almost the same was learned `before`."""
    lags, reach = design.lags, design.reach
    hidden = np.concatenate([np.ones(reach, dtype=bool), masked])
    reads = np.zeros(len(values), dtype=bool)
    for lag in lags.tolist():
        reads |= hidden[reach - lag : reach - lag + len(values)]
    importance = np.where(masked, 0.0, np.where(reads, _MASKED_LAG, 1.0))
    table = design.table(padded(values, reach, design.longest))
    weights, errors, spreads = _fitted(table, values, importance, design, before)
    nearest = int(lags[min(2, len(lags) - 1)])
    early = hidden[reach - nearest : reach - nearest + len(values)] & (np.arange(len(values)) < reach)
    spreads = replace(spreads, values=spreads.values * np.where(early, _BEFORE, 1.0))
    base = weights[: -len(lags)] @ design.waves
    return Expectation(lags, weights[-len(lags) :], weights[: -len(lags)], base, errors, spreads, design.seasons)


def _fitted(
    table: Floats, values: Floats, importance: Floats, design: Design, before: Expectation | None
) -> tuple[Floats, Floats, Spreads]:
    """Coefficients, errors and spreads, by reweighted ridge whose prior is the last value."""
    lags, used = len(design.lags), importance == 1
    middle = float(np.median(values))
    table[-lags:] -= middle
    target = values - middle
    prior = np.zeros(len(table))
    prior[-lags] = 1.0
    penalty = _PRIOR * np.maximum(np.einsum("ij,ij->i", table, table) / len(values), 1e-24)
    penalty[0] = 1e-9
    least = _ROUNDING * max(float(np.abs(values).max()), 1e-100)
    change = np.abs(np.diff(values))
    scale = max(float(np.median(change[change > 0])) if (change > 0).any() else 1.0, least)
    errors, spreads = target - prior @ table, None
    if before is not None:
        errors, spreads = before.errors, before.spreads
    for _ in range(_ROUNDS if before is None else _MORE_ROUNDS):
        if spreads is None:
            weight = importance / np.maximum(1.0, np.abs(errors) / (3 * scale))
        else:
            weight = importance * _robust(errors / spreads.values)
            weight /= np.maximum((spreads.values / np.median(spreads.values)) ** 2, 1e-4)
        weighed = table * weight
        square = weighed @ table.T
        square[np.diag_indices_from(square)] += penalty
        coefficients = np.linalg.solve(square, weighed @ target + penalty * prior)
        errors = target - coefficients @ table
        spreads = spread_of(errors, ~used, design.first, design.seasons, least)
    assert spreads is not None
    coefficients[0] += middle * (1 - coefficients[-lags:].sum())
    return coefficients, errors, spreads


def _robust(off: Floats) -> Floats:
    """Weights by how many spreads errors are off: one, then less, then none (Huber 1964, cut)."""
    size = np.abs(off)
    return np.where(size > _CUT, 0.0, np.minimum(1.0, _HUBER / np.maximum(size, 1e-300)))


def spread_of(
    errors: Floats, left_out: NDArray[np.bool_], first: int, seasons: tuple[int, ...], least: float
) -> Spreads:
    """The usual size of an error at every point (n_points,): of its slot, times that of its neighbourhood, and
    never below the `least`, which is what rounding leaves."""
    sizes = np.abs(errors)
    used = ~left_out if (~left_out).sum() >= 8 else np.ones(len(errors), dtype=bool)
    whole = _NORMAL * float(np.median(sizes[used]))
    floor = max(float(np.quantile(sizes[used], 0.99)) / 6, 1e-9 * float(sizes.max(initial=0.0)), least)
    whole = max(whole, floor)
    season = seasons[0] if seasons else 1
    slots = (first + np.arange(len(errors))) % season
    by_slot = whole * (_slot_factors(sizes / whole, used, slots, season) if seasons else np.ones(1))
    out = by_slot[slots]
    width = max(48, 2 * seasons[0] if seasons else 48)
    out *= _place_factors(sizes / out, used, width)
    return Spreads(np.maximum(out, floor), by_slot, floor)


def _slot_factors(sizes: Floats, used: NDArray[np.bool_], slots: Ints, season: int) -> Floats:
    """Relative spread of every slot of a season, with its neighbours', shrunk towards one."""
    order = np.argsort(slots[used], kind="stable")
    edges = np.searchsorted(slots[used][order], np.arange(season + 1))
    out = _shrunk_medians(sizes[used][order], edges[:-1], edges[1:], 4, _SLOT_TRUST)
    if season >= 12:
        out = (np.roll(out, 1) + 2 * out + np.roll(out, -1)) / 4
    return np.clip(out, 0.2, 5.0)


def _place_factors(sizes: Floats, used: NDArray[np.bool_], width: int) -> Floats:
    """Relative spread of every neighbourhood of about `width` points, shrunk towards one."""
    count = max(len(sizes) // width, 1)
    edges = np.linspace(0, len(sizes), count + 1).astype(np.int64)
    before = np.concatenate([[0], np.cumsum(used)])[edges]
    low, high = before[np.maximum(np.arange(count) - 1, 0)], before[np.minimum(np.arange(count) + 2, count)]
    factors = _shrunk_medians(sizes[used], low, high, 8, _PLACE_TRUST)
    return np.interp(np.arange(len(sizes)), (edges[:-1] + edges[1:]) / 2, np.clip(factors, 0.3, 4.0))


@kernel
def _shrunk_medians(sizes: Floats, low: Ints, high: Ints, least: int, trust: float) -> Floats:
    """Normal spreads of groups (n,) by their medians, drawn towards one as if by `trust` further errors."""
    out = np.ones(len(low))
    for place in range(len(low)):
        count = high[place] - low[place]
        if count >= least:
            ordered = np.partition(sizes[low[place] : high[place]], count // 2)
            middle = ordered[count // 2]
            if count % 2 == 0:
                middle = (ordered[: count // 2].max() + middle) / 2
            out[place] = (count * _NORMAL * middle + trust) / (count + trust)
    return out


@kernel
def errors_between(whole: Floats, lags: Ints, weights: Floats, base: Floats, start: int, stop: int) -> Floats:
    """Errors (stop - start,) of padded values from one place to another, with what was learned."""
    reach = len(whole) - len(base)
    out = np.empty(stop - start)
    for t in range(start, stop):
        expected = base[t]
        for k in range(len(lags)):
            expected += weights[k] * whole[t + reach - lags[k]]
        out[t - start] = whole[t + reach] - expected
    return out
