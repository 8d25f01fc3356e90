"""What an arrival tells by itself, given the habits of the past: missing, zero, stuck, or a copy."""

import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from proteron.core.detection.exact import LEAST_CHANCE, LEAST_CLIPPED, repeat_chance, zeros_are_faults
from proteron.core.panel import Floats

_STUCK_FROM = 5
_UNLIKELY = 0.02
_REMEMBERED = 20_000  # points that a copy may be of, at least
_GROUPED = 5  # equal neighbours that make a copy
_LEAST_DISTINCT = 3
_MOST_CHANCE = 0.1  # of two values to be equal


@dataclass(frozen=True)
class Habits:
    """What a series does by itself: whether its zeros are faults, from how many repeats on it is stuck, and from how
    many equal points on a block is a copy of an earlier one; 0 where values repeat too often to tell."""

    zeros: bool
    near_zero: float
    stuck_from: int
    copied_from: int
    repeats: float = 1.0  # the chance that two values are equal

    @classmethod
    def learn(cls, values: Floats, points: int) -> "Habits":
        """From the latest values (n_points,), NaN where missing, of so many that came."""
        known = values[np.isfinite(values)]
        if len(known) < 8:
            return cls(False, 0.0, _STUCK_FROM, 0)
        same = values[1:] == values[:-1]
        repeats = float(same.sum() + 0.5) / (len(known) + 1.0)
        needed = 1 + math.log(_UNLIKELY / (len(known) * (1 - repeats))) / math.log(repeats)
        habit = _second_longest(same)
        others = np.abs(known[known != 0])
        near = 0.15 * float(np.median(others)) if len(others) else 0.0
        chance, copied = repeat_chance(known), 0
        if chance < _MOST_CHANCE:
            copied = max(_GROUPED, math.ceil(math.log(2 * _UNLIKELY / points**2) / math.log(chance)))
        return cls(zeros_are_faults(known), near, max(_STUCK_FROM, math.ceil(needed), habit + 2), copied, chance)


def _second_longest(same: np.ndarray) -> int:
    """Points of the second longest run of equal neighbours: what a series does more than once is its habit."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], same, [False]]).astype(np.int8)))
    lengths = np.sort(edges[1::2] - edges[::2] + 1)
    return int(lengths[-2]) if len(lengths) > 1 else 1


class Copies:
    """Finds blocks that came before, to the last digit, as points come."""

    def __init__(self, seasons: tuple[int, ...]) -> None:
        self._seasons = [each for each in seasons if each > 1]
        self._places: dict[tuple[float, ...], int] = {}
        self._values: list[float] = []
        self._first = 0  # position of the first of the values that are remembered
        self._source, self._length = -1, 0  # where the block began before, and how long it is

    def add(self, value: float) -> int:
        """How many of the latest points, this one among them, equal a block before; 0 where none do."""
        self._values.append(value)
        at = self._first + len(self._values) - 1
        if self._length and value == self._values[self._source + self._length - self._first]:
            self._length += 1
        else:
            self._length = 0
        if len(self._values) == 2 * _REMEMBERED:
            self._forget()
        group = tuple(self._values[-_GROUPED:])
        if len(group) < _GROUPED or not all(math.isfinite(each) for each in group):
            return self._length
        before = self._places.get(group)
        self._places[group] = at
        if not self._length and before is not None and len(set(group)) >= _LEAST_DISTINCT:
            lag = at - before
            if not any(lag % season == 0 for season in self._seasons):
                self._source, self._length = before - _GROUPED + 1, _GROUPED
        return self._length

    def restore(self, values: list[float], first: int, source: int, length: int) -> None:
        """What was remembered, and the block that goes on."""
        self._values, self._first, self._source, self._length = values, first, source, length
        for at in range(_GROUPED - 1, len(values)):
            group = tuple(values[at - _GROUPED + 1 : at + 1])
            if all(math.isfinite(each) for each in group):
                self._places[group] = first + at

    def _forget(self) -> None:
        """Of the older half."""
        del self._values[:_REMEMBERED]
        self._first += _REMEMBERED
        self._places = {group: at for group, at in self._places.items() if at - _GROUPED + 1 >= self._first}
        if self._source < self._first:
            self._length = 0


@dataclass
class Arrival:
    """A span that an arrival made a fault of: `raised` is the position at which it was told."""

    kind: str
    start: int
    stop: int
    raised: int


class Arrivals:
    """Tells arrivals that are faults by themselves; `found` are spans of them, of which the last may still grow."""

    def __init__(self, seasons: tuple[int, ...]) -> None:
        self.found: list[Arrival] = []
        self._copies = Copies(seasons)
        self._within = min(max(2 * (seasons[0] if seasons else 1), 24), 400)
        self._run, self._last = 1, math.nan
        self._around: list[float] = []

    def add(self, at: int, value: float, habits: Habits | None) -> bool:
        """Whether the point at a position, the next after the last, is at fault; nothing is before habits are known."""
        self._run = self._run + 1 if value == self._last else 1
        self._last = value
        copied = self._copies.add(value)
        if habits is None:
            return False
        if not math.isfinite(value):
            return self._tell("gap", at, at)
        if value == 0 and habits.zeros and self._is_far_from_zero(habits):
            return self._tell("zeros", at, at)
        since = self._clipped_since(value, habits) if self._run > 1 and value != 0 else 0
        if since:
            return self._tell("clipping", at - since, at)
        if self._run >= habits.stuck_from and value != 0:
            return self._tell("flat-line", at - self._run + 1, at)
        if habits.copied_from and copied >= habits.copied_from:
            return self._tell("slip", at - copied + 1, at)
        if value != 0:
            self._around = [*self._around[-2:], abs(value)]
        return False

    def arrays(self) -> dict[str, NDArray[np.float64]]:
        """What the next arrivals are told by, besides `found`."""
        copies = self._copies
        place = [copies._first, copies._source, copies._length, self._run, self._last]
        return {"values": np.array(copies._values), "place": np.array(place), "around": np.array(self._around)}

    @classmethod
    def restored(
        cls, seasons: tuple[int, ...], found: list[Arrival], arrays: Mapping[str, NDArray[np.float64]]
    ) -> "Arrivals":
        """From what `arrays` told."""
        out, place = cls(seasons), arrays["place"].tolist()
        out.found, out._around = found, arrays["around"].tolist()
        out._copies.restore(arrays["values"].tolist(), *(int(each) for each in place[:3]))
        out._run, out._last = int(place[3]), float(place[4])
        return out

    def _clipped_since(self, value: float, habits: Habits) -> int:
        """How many points ago a limit held first that the latest points stand at, where values hardly ever repeat; 0
        where there is none."""
        if habits.repeats > LEAST_CHANCE:
            return 0
        latest = np.array(self._copies._values[-self._within :])
        at = np.flatnonzero(latest == value)
        inside = latest[at[0] :]
        inside = inside[np.isfinite(inside)]
        one_sided = (inside <= value).all() or (inside >= value).all()
        return len(latest) - 1 - int(at[0]) if len(at) >= LEAST_CLIPPED and one_sided and len(inside) > len(at) else 0

    def _is_far_from_zero(self, habits: Habits) -> bool:
        return bool(self._around) and sorted(self._around)[len(self._around) // 2] > habits.near_zero

    def _tell(self, kind: str, start: int, at: int) -> bool:
        last = self.found[-1] if self.found else None
        if last is not None and last.kind == kind and last.stop >= start:
            last.stop = at + 1
        else:
            self.found.append(Arrival(kind, start, at + 1, at))
        return True
