"""Slips of the clock: stretches that follow what is usual some points earlier or later, better than where they are."""

from dataclasses import dataclass

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.detection.bridging import by_phase, levels
from proteron.core.panel import Floats
from proteron.core.timeline import Ints

_NORMAL = 1.4826
_CYCLES, _LOCAL = 4, 8  # cycles that are needed at least; of a stretch whose profile is that of the three around it
_MOST_LAG = 24
_SHORTEST = 6  # points
_PRICE, _LEAST = 18.0, 15.0  # evidence that a slip costs, and what must be left of it
_CAP = 16.0  # what one point says at most, in squared spreads
_BETTER = 0.4  # of the squared errors that may be left
_LEAST_SPREAD = 0.3  # of the usual one, that of a phase at least
_MOST_ALIKE = 0.95  # that one error is the next


@dataclass(frozen=True)
class Slip:
    """From `start` to before `stop`, values are those usual `lag` points before; `net` is its evidence less the price."""

    start: int
    stop: int
    lag: int
    net: float


def slips(values: Floats, first: int, seasons: tuple[int, ...]) -> list[Slip]:
    """Slips in values (n_points,), in time order; none overlap. What goes on for more than two seasons is none."""
    season = seasons[0] if seasons else 1
    if season < 4 or len(values) < _CYCLES * season:
        return []
    cycle = season
    if len(seasons) > 1 and seasons[1] % season == 0:
        cycle = seasons[1]
    if np.isfinite(values).sum() < _CYCLES * cycle:
        return []
    level, most = levels(values, season), min(season // 2, _MOST_LAG)
    flat = values - level
    lags = np.array([lag for each in range(1, most + 1) for lag in (each, -each)])
    usual = _by_stretch(flat, first, cycle, 0.0)
    like = _alike(flat - usual)
    left = _next(flat - usual, like)
    spread = np.maximum(_NORMAL * _by_stretch(np.abs(left), first, cycle, _LEAST_SPREAD), 1e-12)
    found = _best(flat, usual, spread, lags, like, 2 * season)
    taken = np.zeros(len(values), dtype=bool)
    out = list[Slip]()
    for at in np.argsort(-found[:, 0], kind="stable"):
        gain, start, stop, lag = found[at, 0], *found[at, 1:].astype(int).tolist()
        if gain - _PRICE <= _LEAST:
            break
        if not taken[start:stop].any() and _follows(flat, usual, start, stop, lag):
            taken[start:stop] = True
            out.append(Slip(start, stop, int(lag), float(gain) - _PRICE))
    return sorted(out, key=lambda each: each.start)


def _follows(flat: Floats, usual: Floats, start: int, stop: int, lag: int) -> bool:
    """Whether a stretch looks like what is usual so many points before, whatever its level."""
    at = np.arange(start, stop)
    here, moved = flat[at] - usual[at], flat[at] - usual[at - lag]
    return _scatter(moved) < _BETTER * _scatter(here)


def _scatter(error: Floats) -> float:
    there = error[np.isfinite(error)]
    return float(((there - there.mean()) ** 2).sum())


def _next(error: Floats, like: float) -> Floats:
    """What of each error (n_points,) the one before does not tell."""
    return error - like * np.concatenate([[0.0], np.nan_to_num(error[:-1])])


def _by_stretch(flat: Floats, first: int, cycle: int, least: float) -> Floats:
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
def _best(flat: Floats, usual: Floats, spread: Floats, lags: Ints, like: float, longest: int) -> Floats:
    """For each lag the stretches that gain most: rows of gain, start, stop, lag."""
    out = np.zeros((len(lags) * (len(flat) // _SHORTEST + 1), 4))
    number = 0
    for k in range(len(lags)):
        lag = lags[k]
        total, start, high, stop = 0.0, 0, 0.0, 0
        here, there = 0.0, 0.0
        here_at, there_at = 0.0, 0.0
        for t in range(len(flat) + 1):
            gain = 0.0
            if 0 < t < len(flat) and 0 < t - lag < len(flat) and not np.isnan(flat[t] + flat[t - 1]):
                at, before = flat[t], flat[t - 1]
                own = min(((at - usual[t] - like * (before - usual[t - 1])) / spread[t]) ** 2, _CAP)
                error = at - usual[t - lag] - like * (before - usual[t - lag - 1])
                moved = min((error / spread[t - lag]) ** 2, _CAP)
                gain = own - moved
                here += own
                there += moved
            total += gain
            if total > high:
                high, stop, here_at, there_at = total, t + 1, here, there
            if total <= 0.0 or t == len(flat) or total < high - 8.0:
                if _SHORTEST <= stop - start <= longest and there_at < _BETTER * here_at and number < len(out):
                    out[number, 0], out[number, 1], out[number, 2], out[number, 3] = high, start, stop, lag
                    number += 1
                total, start, high, stop, here, there = 0.0, t + 1, 0.0, t + 1, 0.0, 0.0
    return out[:number]
