"""As-of: every point is decided on some points after it came, by what was learned before it; nothing is taken back.

The regression and its spread are learned now and then from the latest part of the past, looked back at and cleaned;
between, each arrival decides on the point `delay` before it, from the errors since: alone, part of a block, a step, or
nothing. What is flagged is replaced by what was expected, so that it spoils nothing that comes after.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.detection.arrivals import Arrivals, Habits
from proteron.core.detection.evidence import BLOCK_POINT_PRICE, BLOCK_PRICE, POINT_PRICE, STEP_PRICE, step_response
from proteron.core.detection.expectation import Expectation
from proteron.core.detection.joint import Scale, look_back
from proteron.core.panel import Floats
from proteron.core.timeline import Ints

REMEMBERED = 2000  # points that are learned from
_FIRST, _GROWS, _MOST_BETWEEN = 24, 0.2, 500  # points before the first, share and points until the next learning
_MASKS = 15.0  # net evidence from which a value is replaced
_GOES_ON = 10.0  # by how much less does after a point that was
_BELIEVED = 24  # replaced points in a row after which their level is the new one
_FOLLOWS = 0.02  # by which the spread of the neighbourhood follows each error
_SHORT = 100  # points of a season that is waited for before anything is decided
_CALM = 3.0  # times the usual that a neighbourhood's spread may be
_ROOM = 256
ARRAYS = ("raw", "scaled", "clean", "base", "weights", "net", "expected", "kinds")
CLEAN, POINT, STEP, BLOCK, EXACT = 0, 1, 2, 3, 4


@dataclass(frozen=True)
class Learned:
    """What the past says at a moment: the filter, what it expects besides, and how large errors are."""

    expectation: Expectation
    scale: Scale
    tail: float
    habits: Habits


class Watch:
    """One series as it comes: `add` takes points in any portions, with the same result to the bit.

    A point is decided when `delay` more are there. Positions are local; `first` is that of the first point.
    """

    def __init__(self, first: int, seasons: tuple[int, ...], delay: int = 2) -> None:
        self.first, self.seasons, self.delay = first, seasons, delay
        self.points = self.decided = 0
        self._room = {name: np.empty(_ROOM, dtype=np.int64 if name == "kinds" else np.float64) for name in ARRAYS}
        self.state = np.array([0.0, 1.0, 0.0, 0.0])  # shift, neighbourhood's factor, replaced in a row, condemned
        self.learned: Learned | None = None
        self.arrivals = Arrivals(seasons)
        season = seasons[0] if seasons and seasons[0] <= _SHORT else 1
        self.moments: list[int] = []  # after how many points it learned
        self.next_learning = max(_FIRST, 3 * season + 8 if season > 1 else 0)

    def __getattr__(self, name: str) -> Any:
        """Arrays (n_points,) of all points so far: `raw` as they came, `scaled` as they are looked at, `clean` without
        what was found, `base` and `weights` of the filter, `net` evidence, `expected` values, and `kinds`."""
        if name in ARRAYS:
            return self.__dict__["_room"][name][: self.__dict__["points"]]
        raise AttributeError(name)

    def restore(self, arrays: dict[str, Any], state: Floats) -> None:
        """Take arrays and state that another watch had, instead of points."""
        self._room, self.points = {name: np.array(arrays[name]) for name in ARRAYS}, len(arrays["raw"])
        self.state = np.array(state)

    def add(self, values: Floats) -> None:
        """Take further points, NaN where missing, and decide on what can be decided."""
        given = 0
        while given < len(values):
            part = values[given : given + self.next_learning - self.points]
            self._take(part)
            given += len(part)
            if self.points == self.next_learning:
                self._learn()

    def _take(self, part: Floats) -> None:
        start, self.points = self.points, self.points + len(part)
        if self.points > len(self._room["raw"]):
            self._room = {name: np.resize(each, max(2 * len(each), self.points)) for name, each in self._room.items()}
        self.raw[start:] = part
        self.scaled[start:] = self.clean[start:] = self.base[start:] = self.weights[start:] = 0.0
        self.kinds[start:] = CLEAN
        self.net[start:] = self.expected[start:] = np.nan
        habits = None if self.learned is None else self.learned.habits
        for at, value in enumerate(part.tolist(), start=start):
            if self.arrivals.add(at, value, habits):
                self.kinds[at] = EXACT
        if self.learned is not None:
            self._decide(start)

    def _learn(self) -> None:
        """Learn from the latest part of the past, looked back at; what lies before it is never read again."""
        low = max(self.points - REMEMBERED, 0)
        looked = look_back(self.raw[low:], self.first + low, self.seasons)
        self.next_learning = self.points + min(max(round(_GROWS * self.points), 8), _MOST_BETWEEN)
        if looked.expectation is None:
            return
        self.moments.append(self.points)
        self.learned = Learned(
            looked.expectation.without_past, looked.scale, max(looked.tail, 1.0),
            Habits.learn(self.raw[low:], self.points),
        )  # fmt: skip
        self.state = np.array([looked.shift[-1], looked.place, 0.0, 0.0])
        self.clean[low:], self.scaled[low:] = looked.clean, looked.scale.into(self.raw[low:])
        self.base[low:], self.weights[low:] = looked.expectation.base, looked.weights
        self.decided = max(self.decided, self.points - self.delay)
        for at in range(self.decided, self.points):  # not decided yet, so as they came
            if np.isfinite(self.scaled[at]) and self.kinds[at] != EXACT:
                self.clean[at] = self.scaled[at] - self.state[0]

    def _decide(self, start: int) -> None:
        learned = self.learned
        assert learned is not None
        found, count = learned.expectation, self.points - start
        self.scaled[start:] = learned.scale.into(self.raw[start:])
        self.base[start:] = found.base_at(self.first + start, count)
        slots = found.spreads.slots[(self.first + start + np.arange(count)) % len(found.spreads.slots)]
        taps, filter_ = found.taps
        dense = np.array([filter_[taps == each].sum() for each in range(self.delay + 1)])
        response = step_response(taps, filter_, self.delay + 1)
        before = self.decided
        self.decided = _watch(
            start, self.points, before, self.delay, self.scaled, self.clean, self.base, self.weights, slots,
            found.spreads.floor, found.lags, found.weights, dense, response, learned.tail, self.kinds, self.net,
            self.expected, self.state,
        )  # fmt: skip
        self.expected[before : self.decided] = learned.scale.out_of(self.expected[before : self.decided])


@kernel
def _error_at(t: int, clean: Floats, base: Floats, lags: Ints, weights: Floats) -> float:
    expected = base[t]
    for k in range(len(lags)):
        expected += weights[k] * clean[max(t - lags[k], 0)]
    return clean[t] - expected


@kernel
def _watch(  # noqa: C901
    start: int, stop: int, decided: int, delay: int, scaled: Floats, clean: Floats, base: Floats, weights: Floats,
    slots: Floats, floor: float, lags: Ints, by_lag: Floats, dense: Floats, response: Floats, tail: float,
    kinds: Ints, net: Floats, expected: Floats, state: Floats,
) -> int:  # fmt: skip
    """Take points from `start` to `stop` and decide on those that `delay` more have followed; returns how far it is."""
    rows = delay + 1
    errors, strength = np.zeros(rows), np.zeros(rows)
    for t in range(start, stop):
        clean[t] = scaled[t] - state[0]
        missing = np.isnan(clean[t]) or kinds[t] == EXACT
        if missing:
            clean[t] = 0.0
            clean[t] -= _error_at(t, clean, base, lags, by_lag)
        spread = max(slots[t - start] * state[1], floor)
        weights[t] = 0.0 if missing else 1 / spread**2
        j = t - delay
        if j < decided or j < 0:
            continue
        decided = j + 1
        for r in range(rows):
            errors[r] = _error_at(j + r, clean, base, lags, by_lag)
            strength[r] = weights[j + r] / tail**2
        expected[j] = clean[j] - errors[0]
        if kinds[j] == EXACT or weights[j] == 0.0:
            expected[j] += state[0]
            continue
        first, kind, size, other = _best_here(errors, strength, dense, response)
        alone = _alone(0, errors, strength, dense) - POINT_PRICE
        net[j] = first if first >= other else min(first, alone, _MASKS - 1)
        expected[j] += state[0]
        condemned = state[3] > 0
        needed = _MASKS - (_GOES_ON if state[2] > 0 else 0.0)
        if condemned or (first >= other and first > needed):
            if kind == STEP and not condemned:
                kinds[j] = STEP
                state[0] += size
                for r in range(rows):
                    clean[j + r] -= size
                state[2] = 0.0
                continue
            kinds[j] = BLOCK if kind >= BLOCK or state[2] > 0 else POINT
            if condemned:
                state[3] -= 1
            elif kind >= BLOCK:
                state[3] = kind - BLOCK
            clean[j] -= errors[0]
            state[2] += 1
            if state[2] >= _BELIEVED:  # that many in a row are a new level
                moved = 0.0
                for r in range(8):
                    moved += (scaled[j - r] - state[0] - clean[j - r]) / 8
                state[0] += moved
                for r in range(1, rows):
                    clean[j + r] -= moved
                kinds[j] = STEP
                state[2] = state[3] = 0.0
            continue
        state[2] = 0.0
        off = errors[0] * np.sqrt(weights[j]) * state[1]  # in spreads of its slot
        follows = min(off * off, (_CALM * state[1]) ** 2)
        state[1] = min(max(np.sqrt(state[1] ** 2 + _FOLLOWS * (follows - state[1] ** 2)), 1 / _CALM), _CALM)
    return decided


@kernel
def _alone(at: int, errors: Floats, strength: Floats, dense: Floats) -> float:
    """Evidence that one point of the window is off."""
    above, below = 0.0, 0.0
    for r in range(at, len(errors)):
        above += dense[r - at] * errors[r] * strength[r]
        below += dense[r - at] ** 2 * strength[r]
    return above * above / below if below > 0 else 0.0


@kernel
def _best_here(errors: Floats, strength: Floats, dense: Floats, response: Floats) -> tuple[float, int, float, float]:
    """Net evidence of the best explanation that begins at the window's first point, its kind (BLOCK and how many more
    points, for a block), a step's height, and the net evidence of the best that begins later."""
    rows = len(errors)
    first, kind, size, other = -np.inf, POINT, 0.0, 0.0
    for a in range(rows):
        above, below = 0.0, 0.0
        for r in range(a, rows):
            above += response[r - a] * errors[r] * strength[r]
            below += response[r - a] ** 2 * strength[r]
        worth = above * above / below - STEP_PRICE if below > 0 else -np.inf
        if a > 0:
            other = max(other, worth)
        elif worth > first:
            first, kind, size = worth, STEP, above / below
        square, right = np.zeros((rows, rows)), np.zeros(rows)
        cap = _alone(a - 1, errors, strength, dense) if a > 0 else 0.0
        for b in range(1, rows - a + 1):
            i = b - 1
            cap += _alone(a + i, errors, strength, dense)
            for r in range(a + i, rows):
                right[i] += dense[r - a - i] * errors[r] * strength[r]
                for m in range(b):
                    square[i, m] += dense[r - a - i] * dense[r - a - m] * strength[r]
            for m in range(i):
                square[m, i] = square[i, m]
            square[i, i] = square[i, i] * (1 + 1e-9) + 1e-300
            solved = np.linalg.solve(square[:b, :b], right[:b])
            evidence = 0.0
            for m in range(b):
                evidence += solved[m] * right[m]
            beside = _alone(a + b, errors, strength, dense) if a + b < rows else np.inf
            price = POINT_PRICE if b == 1 else BLOCK_PRICE + BLOCK_POINT_PRICE * b
            worth = min(evidence, cap + beside) - price
            if a > 0:
                other = max(other, worth)
            elif worth > first:
                first, kind = worth, POINT if b == 1 else BLOCK + b - 1
    return first, kind, size, other
