"""Trend and several nested seasons by loess, plain or robust."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from proteron.core.compiled import kernel
from proteron.core.flatten.loess import loess
from proteron.core.panel import Floats

_INNER = 2
_OUTER = 8
_LEAST_CYCLES = 2
_FEW_CYCLES = 12  # a season with fewer cycles resembles a trend
_MOST_DEGREE = 8
_MOST_WAVES = 40
_MOST_CELLS = 2_000_000  # of the table of waves of one season
_OUTLYING = 0.05


@dataclass(frozen=True)
class Season:
    """One season: what it takes from each known point (n_points,), and the figure that goes on, by phase (period,).

    Phases count from the first point; `waves` is how many describe a fixed figure.
    """

    period: int
    path: Floats
    figure: Floats
    waves: int = -1


@dataclass(frozen=True)
class Decomposition:
    """values = trend + seasons + remainder; `weights` are those of the robust rounds, `unlearned` too long periods."""

    trend: Floats
    seasons: tuple[Season, ...]
    weights: Floats
    trend_window: int
    unlearned: tuple[int, ...]

    def remainder(self, values: Floats) -> Floats:
        return np.asarray(values - self.trend - sum((season.path for season in self.seasons), np.zeros(len(values))))


def odd(length: float) -> int:
    """The next odd number at or above `length`, at least 3."""
    whole = max(int(np.ceil(length)), 3)
    return whole + (whole + 1) % 2


def decompose(
    values: Floats,
    periods: Sequence[float],
    *,
    season_window: int | None = None,
    trend_window: int | None = None,
    robust: bool = True,
) -> Decomposition:
    """Loess decomposition (Cleveland et al. 1990) into trend and nested seasons (Bandara et al. 2021).

    `values` (n_points,) may have gaps. Seasons are taken short to long, each from what the others and
    the trend leave, and again until nothing moves. With a `season_window` (cycles) a figure may change
    from cycle to cycle; without one it is the same in all, described by as many waves as the criterion of
    Hannan & Quinn 1979 asks for. Without a `trend_window` the trend is the better, by that criterion, of
    loess (of several widths, never narrower than one and a half of the longest season, its trace counting
    as columns) and of a polynomial fitted together with the long seasons. Robust rounds weight points by
    the bisquare of their remainder in six MADs.
    """
    present = np.isfinite(values)
    lengths = sorted({round(period) for period in periods if period >= 2})
    usable = [p for p in lengths if len(values) >= _LEAST_CYCLES * p and int(present.sum()) >= p]
    unlearned = tuple(p for p in lengths if p not in usable)
    centre = float(np.median(values[present]))
    work = np.where(present, values - centre, 0.0)
    unit = float(np.abs(work).max()) or 1.0
    weights = present.astype(np.float64)
    parts = _Parts(work, usable, season_window, trend_window)
    for round_ in range(_OUTER if robust else 1):
        moved = parts.round(round_, weights, settles=round_ >= 1 or not robust)
        if robust:
            weights, spread = _bisquare(work - parts.trend - parts.total, present)
            if spread <= 1e-12 * unit or (round_ > 2 and moved < 0.05 * spread):
                break
    return Decomposition(parts.trend + centre, parts.seasons(), weights, parts.trend_window, unlearned)


class _Parts:
    """The parts while they are being found; `total` is the sum of the seasons."""

    def __init__(self, values: Floats, periods: list[int], season_window: int | None, trend_window: int | None) -> None:
        self.values, self.periods, self.season_window = values, periods, season_window
        self.base = odd(1.5 * periods[-1] if periods else max(len(values) / 4, 7))
        self.trend_window = trend_window or self.base
        self.settled = False
        self.given = trend_window is not None
        self.trend, self.total = np.zeros(len(values)), np.zeros(len(values))
        self.paths = [np.zeros(len(values)) for _ in periods]
        self.figures = [np.zeros(period) for period in periods]
        self.waves: list[int] = [-1] * len(periods)
        self.joint: _Joint | None = None
        self.bases: dict[int, Floats] = {}
        self.phases = [np.arange(len(values)) % period for period in periods]

    def round(self, number: int, weights: Floats, settles: bool) -> float:
        """One round at fixed weights, the first two of several passes; returns how far the whole has moved."""
        before = self.trend + self.total
        passes = 1 if number >= 2 else _INNER + (2 if number == 0 and len(self.periods) > 1 else 0)
        for _ in range(passes):
            self.again(weights)
        if settles and not self.settled:
            self.settle(weights)
            self.again(weights)
        return float(np.abs(self.trend + self.total - before).max())

    def again(self, weights: Floats) -> None:
        """Take every part again from what the others leave, seasons first, the shortest before the longer."""
        for index in range(len(self.periods)):
            if self.joint is None or index not in self.joint.slow:
                self._take_season(index, weights)
        if self.joint is None:
            self.trend = _loess_trend(self.values - self.total, weights, self.trend_window)
            return
        slow = sum((self.paths[index] for index in self.joint.slow), np.zeros(len(self.values)))
        left = self.values - (self.total - slow)
        self.trend, figures = self.joint.fit(left, weights)
        for index, figure in zip(self.joint.slow, figures, strict=True):
            self._put(index, figure[self.phases[index]], figure)

    def _put(self, index: int, path: Floats, figure: Floats) -> None:
        self.total += path - self.paths[index]
        self.paths[index], self.figures[index] = path, figure

    def _fixed(self, index: int) -> bool:
        return self.season_window is None or len(self.values) // self.periods[index] < 3

    def _take_season(self, index: int, weights: Floats) -> None:
        left = self.values - self.trend - self.total + self.paths[index]
        period = self.periods[index]
        if not self._fixed(index):
            assert self.season_window is not None
            self._put(index, *_changing(left, weights, period, self.season_window))
            return
        figure, squares = _phase_means(left, weights, period)
        if self.settled:
            basis = self._basis(index)
            figure = basis @ (basis.T @ figure)
        else:
            total = float(weights.sum())
            variance = squares / max(total - period, 1.0)
            figure, self.waves[index] = _fewest_waves(figure, variance, total / period, self._taken(index))
        self._put(index, figure[self.phases[index]], figure)

    def _basis(self, index: int) -> Floats:
        """The waves of a season as orthonormal columns, (period, n_columns), kept once the number is settled."""
        if index not in self.bases:
            waves = _waves_of(self.periods[index], self.waves[index], self._taken(index))
            norms = np.sqrt((waves**2).sum(axis=0))
            self.bases[index] = waves[:, norms > 1e-9] / norms[norms > 1e-9]
        return self.bases[index]

    def _taken(self, index: int) -> frozenset[int]:
        """Waves of this season that are those of a shorter one nested in it."""
        period = self.periods[index]
        nested = [shorter for shorter in self.periods[:index] if period % shorter == 0]
        return frozenset(k * period // shorter for shorter in nested for k in range(1, shorter // 2 + 1))

    def settle(self, weights: Floats) -> None:
        """Choose how the trend is drawn, once.

        Outliers are left out, but the others count alike: their robust weights come from a fit with
        one of the candidates and would favour it.
        """
        self.settled = True
        if self.given:
            return
        weights = (weights > _OUTLYING).astype(np.float64)
        slow = [
            i for i, period in enumerate(self.periods) if len(self.values) < _FEW_CYCLES * period and self._fixed(i)
        ]
        active = max(float(weights.sum()), 3.0)
        left = self.values - self.total
        self.trend_window, score = _best_window(left, weights, self.base, active, 2 * sum(self.waves[i] for i in slow))
        left = left + sum((self.paths[i] for i in slow), np.zeros(len(left)))
        found = {i: min(self.waves[i], max(_MOST_CELLS // 8 // self.periods[i], 1), _MOST_WAVES) for i in slow}
        joint = self._joint(found)
        joint.degree, polynomial = joint.best_degree(left, weights, active)
        for index in slow:  # how many waves are left once the trend is told apart
            found[index] = joint.fewer_waves(slow.index(index), left, weights, active)
            degree, joint = joint.degree, self._joint(found)
            joint.degree = degree
        if slow:
            joint.degree, polynomial = joint.best_degree(left, weights, active)
        if polynomial < score:
            self.joint = joint
            for index in slow:
                self.waves[index] = found[index]

    def _joint(self, waves: dict[int, int]) -> "_Joint":
        seasons = [(self.periods[index], number, self._taken(index)) for index, number in waves.items()]
        return _Joint(len(self.values), list(waves), seasons)

    def seasons(self) -> tuple[Season, ...]:
        together = zip(self.periods, self.paths, self.figures, self.waves, strict=True)
        return tuple(Season(*each) for each in together)


class _Joint:
    """The waves of slow seasons and a polynomial trend, fitted together because they resemble each other."""

    def __init__(self, size: int, slow: list[int], seasons: list[tuple[int, int, frozenset[int]]]) -> None:
        self.slow, self.seasons, self.degree = slow, seasons, _MOST_DEGREE
        self.bases = [_waves_of(*season) for season in seasons]
        columns = [np.resize(basis, (size, basis.shape[1])) for basis in self.bases]
        self.design = np.concatenate([*columns, _polynomials(size)], axis=1)
        self.before = self.design.shape[1] - _MOST_DEGREE - 1  # columns of the waves

    def _rest(self, columns: Floats, left: Floats, weights: Floats) -> Floats:
        """Weighted squares left after the first 1, 2, … of `columns`: one factorisation tells all of them."""
        root = np.sqrt(weights)
        q, _ = np.linalg.qr(columns * root[:, None])
        return float(weights @ left**2) - np.cumsum((q.T @ (root * left)) ** 2)

    def best_degree(self, left: Floats, weights: Floats, active: float) -> tuple[int, float]:
        """The degree from 1 up with the least BIC (Schwarz 1978), and its Hannan–Quinn criterion."""
        rest = self._rest(self.design, left, weights)[self.before + 1 :] / active
        columns = self.before + 2 + np.arange(_MOST_DEGREE)
        best = int(np.argmin(_criterion(rest, active, columns, np.log(active))))
        return best + 1, float(_criterion(rest, active, columns)[best])

    def fewer_waves(self, place: int, left: Floats, weights: Floats, active: float) -> int:
        """How many waves the season at `place` needs beside the trend and the other slow seasons."""
        own = _waves_of(*self.seasons[place])
        waves = self.seasons[place][1]
        pairs = own.shape[1] // 2
        order = np.arange(2 * pairs).reshape(2, pairs).T.ravel()  # wave by wave
        size = len(left)
        others = [np.resize(each, (size, each.shape[1])) for i, each in enumerate(self.bases) if i != place]
        trend = self.design[:, self.before : self.before + self.degree + 1]
        mine = np.resize(own[:, order], (size, 2 * pairs))
        before = np.concatenate([trend, *others], axis=1)
        rest = self._rest(np.concatenate([before, mine], axis=1), left, weights)
        columns = before.shape[1] + 2 * np.arange(pairs + 1)
        best = int(np.argmin(_criterion(rest[columns - 1] / active, active, columns)))
        return waves if best == pairs else best

    def fit(self, left: Floats, weights: Floats) -> tuple[Floats, list[Floats]]:
        """Trend (n_points,) and one figure (period,) per slow season, by weighted least squares."""
        design = self.design[:, : self.before + self.degree + 1]
        weighted = design * weights[:, None]
        found = np.linalg.lstsq(weighted.T @ design, weighted.T @ left, rcond=None)[0]
        figures, at = [], 0
        for basis in self.bases:
            figures.append(basis @ found[at : at + basis.shape[1]])
            at += basis.shape[1]
        return design[:, self.before :] @ found[self.before :], figures


@lru_cache(maxsize=4)
def _polynomials(size: int) -> Floats:
    """Legendre polynomials up to the highest degree tried, (n_points, degree + 1)."""
    return np.asarray(np.polynomial.legendre.legvander(np.linspace(-1, 1, size), _MOST_DEGREE), dtype=np.float64)


def _waves_of(period: int, waves: int, taken: frozenset[int]) -> Floats:
    """Cosines and sines of a period's first waves but those `taken`, (period, n_columns)."""
    kept = [k for k in range(1, waves + 1) if k not in taken]
    angles = 2 * np.pi * np.outer(np.arange(period), kept) / period
    return np.concatenate([np.cos(angles), np.sin(angles)], axis=1)


@kernel
def _bisquare(remainder: Floats, present: NDArray[np.bool_]) -> tuple[Floats, float]:
    """Weights (1 - (r / 6 MAD)²)² of the points that are there, and the MAD; all ones where that is nothing."""
    sizes = np.abs(remainder)
    spread = float(np.median(sizes[present]))
    out = np.zeros(len(remainder))
    for i in range(len(remainder)):
        if present[i]:
            ratio = sizes[i] / (6 * spread) if spread > 0 else 0.0
            out[i] = (1 - ratio * ratio) ** 2 if ratio < 1 else 0.0
    return out, spread


@kernel
def _phase_means(left: Floats, weights: Floats, period: int) -> tuple[Floats, float]:
    """Weighted mean of every phase, and the weighted squares around the means.

    A phase without any weight takes the mean of the nearest phases that have some.
    """
    sums, mass = np.zeros(period), np.zeros(period)
    for i in range(len(left)):
        sums[i % period] += weights[i] * left[i]
        mass[i % period] += weights[i]
    figure = np.zeros(period)
    for phase in range(period):
        reach = 0
        while reach <= period:
            before, after = (phase - reach) % period, (phase + reach) % period
            if mass[before] + mass[after] > 1e-9:
                figure[phase] = (sums[before] + sums[after]) / (mass[before] + mass[after])
                break
            reach += 1
    squares = 0.0
    for i in range(len(left)):
        gap = left[i] - figure[i % period]
        squares += weights[i] * gap * gap
    return figure, squares


def _fewest_waves(figure: Floats, variance: float, cycles: float, taken: frozenset[int]) -> tuple[Floats, int]:
    """The figure by its first waves, as many as Hannan & Quinn's criterion asks for, and that number.

    Waves in `taken` belong to a shorter season and are left out.
    """
    period = len(figure)
    waves = np.fft.rfft(figure)
    waves[0] = 0.0
    for k in taken:
        waves[k] = 0.0
    columns = np.full(len(waves), 2.0)
    if period % 2 == 0:
        columns[-1] = 1.0
    energy = columns * np.abs(waves) ** 2 / period * cycles  # what leaving a wave out costs in squared error
    columns[0] = 0.0
    columns[list(taken)] = 0.0
    price = 2 * np.log(np.log(max(cycles * period, 16.0)))
    costs = energy.sum() - np.cumsum(energy) + price * variance * np.cumsum(columns)
    most = int(np.argmin(costs[: 1 + _MOST_CELLS // period]))
    waves[most + 1 :] = 0.0
    return np.fft.irfft(waves, period), most


def _loess_trend(values: Floats, weights: Floats, window: int) -> Floats:
    return loess(values, weights, window, max(min(window, len(values)) // 10, 1), 0, 0)[0]


def _criterion(variance: Floats | float, active: float, columns: Floats | float, price: float | None = None) -> Floats:
    """log variance + price · columns / points; the price is Hannan & Quinn's (1979) unless it is given."""
    price = 2 * np.log(np.log(max(active, 16.0))) if price is None else price
    return np.asarray(np.log(np.maximum(variance, 1e-300)) + price * np.asarray(columns) / active)


def _best_window(values: Floats, weights: Floats, base: int, active: float, waves: int) -> tuple[int, float]:
    """Of `base` and wider trend windows the one with the least Hannan–Quinn criterion, and that."""
    size = len(values)
    candidates = [odd(base * factor) for factor in (1, 1.5, 2.2, 3.3, 5, 8, 12, 20, 40)]
    best, lowest = base, np.inf
    for window in [each for each in candidates if each <= 2 * size] or [base]:
        path, trace = loess(values, weights, window, max(min(window, size) // 10, 1), 0, 0)
        score = float(_criterion(float(weights @ (values - path) ** 2) / active, active, trace + waves))
        if score < lowest:
            best, lowest = window, score
    return best, lowest


# a figure that changes from cycle to cycle


@kernel
def _smooth_phases(left: Floats, weights: Floats, period: int, window: int, jump: int) -> Floats:
    """Every phase smoothed over its cycles, from one cycle before the first to one after the last point."""
    size = len(left)
    out = np.empty(size + 2 * period)
    for phase in range(period):
        count = (size - phase + period - 1) // period
        values, mass = np.empty(count), np.empty(count)
        for cycle in range(count):
            values[cycle] = left[phase + cycle * period]
            mass[cycle] = weights[phase + cycle * period]
        smoothed, _ = loess(values, mass, window, jump, 1, 1)
        for cycle in range(count + 2):
            at = phase + cycle * period
            if at < len(out):
                out[at] = smoothed[cycle]
    return out


@kernel
def _running_mean(values: Floats, window: int) -> Floats:
    """Plain running means of `window` values, (n_points - window + 1,)."""
    out = np.empty(len(values) - window + 1)
    total = values[:window].sum()
    out[0] = total / window
    for i in range(1, len(out)):
        total += values[i + window - 1] - values[i - 1]
        out[i] = total / window
    return out


def _changing(left: Floats, weights: Floats, period: int, window: int) -> tuple[Floats, Floats]:
    """Path of a season that may change, and the figure that goes on by phase from the first point."""
    size = len(left)
    window = odd(window)
    cycled = _smooth_phases(left, weights, period, window, max(window // 10, 1))
    slow = _running_mean(_running_mean(_running_mean(cycled, period), period), 3)
    low_window = odd(period)
    low, _ = loess(slow, np.ones(len(slow)), low_window, max(low_window // 10, 1), 0, 0)
    path = cycled[period : period + size] - low
    last = path[-period:]
    figure = np.empty(period)
    figure[np.arange(size - period, size) % period] = last - last.mean()
    return path, figure
