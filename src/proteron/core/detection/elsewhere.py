"""Stretches that follow what is usual elsewhere better than what is usual here: slips of the clock, and other units."""

from dataclasses import dataclass

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.detection.bridging import by_phase, levels
from proteron.core.panel import Floats
from proteron.core.timeline import Ints

_NORMAL = 1.4826
_CYCLES, _LOCAL = 4, 8  # cycles that are needed at least; of a stretch whose profile is that of the three around it
_MOST_LAG = 24
_FACTORS = (2.0, 3.6, 10.0, 60.0, 100.0, 1000.0)  # between units that are mistaken for each other
_LEVEL = 5  # seasons that a level is the median of
_SHORTEST, _LONGEST = 6, 2  # points, seasons
_PRICE, _NEAR_PRICE = 34.0, 64.0  # evidence that a stretch costs; one that is hardly late, as on a holiday
_LEAST = 15.0  # what must be left of it
_NEAR = 12  # of a season, up to which a lag is near
_CAP = 16.0  # what one point says at most, in squared spreads
_OVER = 16.0  # how far evidence may fall before a stretch is over
_BETTER = 0.4  # of the squared errors that may be left
_LEAST_SPREAD = 0.3  # of the usual one, that of a phase at least
_UNLIKE = 3.5  # usual variations of a season that a factor must exceed
_SURELY = 4.0  # times what chance makes of it, how much two phases differ
_CLEAR = 0.3  # of the mean size of all values, from which on a factor shows
_MOST_ALIKE = 0.95  # that one error is the next


@dataclass(frozen=True)
class Elsewhere:
    """From `start` to before `stop`, values are those usual `lag` points before, or `factor` times the usual; `net` is
    the evidence less the price."""

    start: int
    stop: int
    lag: int
    factor: float
    net: float

    @property
    def kind(self) -> str:
        """What it is called."""
        return "slip" if self.lag else "unit change"


def found_elsewhere(values: Floats, first: int, seasons: tuple[int, ...], logged: bool = False) -> list[Elsewhere]:
    """Stretches of values (n_points,), which may be logarithms, in time order; none overlap. What goes on for more than
    two seasons is none."""
    season = seasons[0] if seasons else 1
    cycle = seasons[1] if len(seasons) > 1 and seasons[1] % season == 0 else season
    if season < 4 or np.isfinite(values).sum() < _CYCLES * cycle:
        return []
    usual, ways = _Usual(values, levels(values, _LEVEL * season), first, season, cycle), _ways(season, logged)
    rows, found = usual.best(ways, _LONGEST * season), list[Elsewhere]()
    for gain, start, stop, way in rows[np.argsort(-rows[:, 0], kind="stable")]:
        lag, factor = ways[int(way)]
        net = float(gain) - (_NEAR_PRICE if 0 < abs(lag) <= season // _NEAR else _PRICE)
        one = Elsewhere(int(start), int(stop), lag, factor, net)
        free = not any(each.start < one.stop and one.start < each.stop for each in found)
        if net > _LEAST and free and usual.shows(one):
            found.append(one)
    return sorted(found, key=lambda each: each.start)


def _ways(season: int, logged: bool) -> list[tuple[int, float]]:
    """Lags and factors that are tried; of logarithms, a factor is a level."""
    lags = [(lag, 1.0) for each in range(1, min(season // 2, _MOST_LAG) + 1) for lag in (each, -each)]
    return lags if logged else lags + [(0, factor) for each in _FACTORS for factor in (each, 1 / each)]


class _Usual:
    """What is usual at each point (n_points,): a level and what its phase adds; and how much errors scatter."""

    def __init__(self, values: Floats, level: Floats, first: int, season: int, cycle: int) -> None:
        self.values, self.level = values, level
        self.added = _by_stretch(values - level, first, cycle)
        error = values - level - self.added
        self.alike = _alike(error)
        left = np.abs(error - self.alike * np.concatenate([[0.0], np.nan_to_num(error[:-1])]))
        self.spread = np.maximum(_NORMAL * _by_stretch(left, first, cycle, _LEAST_SPREAD), 1e-12)
        cycles = min(len(values) / cycle, 3 * _LOCAL)
        self.doubt = np.pi / 2 * self.spread**2 / cycles  # the variance of the medians that `added` is
        self.varies = _variety(values, level + self.added, season)

    def best(self, ways: list[tuple[int, float]], longest: int) -> Floats:
        """Rows of evidence, start, stop, and which of the ways (lag, factor)."""
        lags, factors = np.array([lag for lag, _ in ways]), np.array([factor for _, factor in ways])
        return np.asarray(_best(self.values, self.level, self.added, self.spread, lags, factors, self.alike, longest))

    def shows(self, found: Elsewhere) -> bool:
        """Whether a stretch looks like it: a slip whatever its level, a factor where there is enough to multiply."""
        at = np.arange(found.start, found.stop)
        observed, usual = self.values[at], self.level[at] + self.added[at]
        if found.lag:
            moved = self.level[at] + self.added[at - found.lag]
            if float(((moved - usual) ** 2).mean()) < _SURELY * 2 * float(self.doubt[at].mean()):
                return False
            return _scatter(observed - moved) < _BETTER * _scatter(observed - usual)
        if abs(found.factor - 1) < _UNLIKE * self.varies:
            return False
        clear = (np.abs(usual) > _CLEAR * float(np.nanmean(np.abs(self.values)))) & (observed != 0)
        error = (observed - found.factor * usual)[clear]
        return clear.sum() >= _SHORTEST and float(np.nansum(error**2)) < _BETTER * _scatter((observed - usual)[clear])


def _variety(values: Floats, usual: Floats, season: int) -> float:
    """How much whole seasons vary, as multiples of what is usual."""
    there = np.isfinite(values)
    edges = np.arange(0, len(values), season)
    total = np.add.reduceat(np.where(there, values, 0.0), edges)
    expected = np.add.reduceat(np.where(there, usual, 0.0), edges)
    ratio = total[expected != 0] / expected[expected != 0]
    return _NORMAL * float(np.median(np.abs(ratio - np.median(ratio)))) if len(ratio) else 0.0


def _scatter(error: Floats) -> float:
    there = error[np.isfinite(error)]
    return float(((there - there.mean()) ** 2).sum()) if len(there) else 0.0


def _by_stretch(flat: Floats, first: int, cycle: int, least: float = 0.0) -> Floats:
    """Medians of each phase around a point, (n_points,); at least a share of their mean."""
    out, stretch = np.empty(len(flat)), _LOCAL * cycle
    for start in range(0, len(flat), stretch):
        low, high = max(start - stretch, 0), min(start + 2 * stretch, len(flat))
        low = max(min(low, high - _CYCLES * cycle), 0)
        usual = by_phase(flat[low:high], (first + np.arange(low, high)) % cycle, cycle)
        usual = np.maximum(usual, least * usual.mean()) if least else usual
        part = np.arange(start, min(start + stretch, len(flat)))
        out[part] = usual[(first + part) % cycle]
    return out


def _alike(error: Floats) -> float:
    """How much one error resembles the next, by medians."""
    there = error[np.isfinite(error)]
    if len(there) < 8:
        return 0.0
    scatter, change = float(np.median(np.abs(there))), float(np.median(np.abs(np.diff(there)))) / np.sqrt(2)
    return min(max(1 - (change / scatter) ** 2, 0.0), _MOST_ALIKE) if scatter > 0 else 0.0


@kernel
def _best(
    values: Floats, level: Floats, added: Floats, spread: Floats, lags: Ints, times: Floats, alike: float,
    longest: int,
) -> Floats:  # fmt: skip
    """For each way the stretches that gain most: rows of gain, start, stop, way. Errors are those the one before does
    not tell."""
    out = np.zeros((len(lags) * (len(values) // _SHORTEST + 1), 4))
    number = 0
    for k in range(len(lags)):
        lag = lags[k]
        total, start, high, stop = 0.0, 0, 0.0, 0
        here, there, here_at, there_at = 0.0, 0.0, 0.0, 0.0
        for t in range(len(values) + 1):
            if 0 < t < len(values) and 0 < t - lag < len(values) and not np.isnan(values[t] + values[t - 1]):
                before = values[t - 1] - level[t - 1] - added[t - 1]
                own = min(((values[t] - level[t] - added[t] - alike * before) / spread[t]) ** 2, _CAP)
                before = values[t - 1] - times[k] * (level[t - 1] + added[t - lag - 1])
                error = values[t] - times[k] * (level[t] + added[t - lag]) - alike * before
                moved = min((error / (spread[t - lag] * max(times[k], 0.5))) ** 2, _CAP)
                total += own - moved
                here += own
                there += moved
            if total > high:
                high, stop, here_at, there_at = total, t + 1, here, there
            if total <= 0.0 or t == len(values) or total < high - _OVER:
                if _SHORTEST <= stop - start <= longest and there_at < _BETTER * here_at and number < len(out):
                    out[number, 0], out[number, 1], out[number, 2], out[number, 3] = high, start, stop, k
                    number += 1
                total, start, high, stop, here, there = 0.0, t + 1, 0.0, t + 1, 0.0, 0.0
    return out[:number]
