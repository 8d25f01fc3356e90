"""Known faults to plant: what each does to a stretch of values, by size."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from proteron.core.errors import SettingsError
from proteron.core.panel import Floats

SIZES = (2.0, 3.0, 4.0, 6.0, 9.0)  # in units
MOST_SHAPES, MOST_POINTS, MOST_LETTERS = 8, 200, 40  # of one's own shapes
LENGTHS = (4, 8, 16, 32)  # of faults that have no size but a length, in points


@dataclass(frozen=True)
class Fault:
    """A kind of fault: `make` gives the spoiled stretch of values that start at a place, for a size.

    A size is in units of the series' usual change where `sized`, else in points. `points` is the usual length.
    """

    kind: str
    sized: bool
    points: int
    make: Callable[[Floats, int, float, float, np.random.Generator], Floats]

    @property
    def sizes(self) -> tuple[float, ...]:
        """What is drilled by default."""
        return SIZES if self.sized else tuple(float(each) for each in LENGTHS)

    def length(self, size: float) -> int:
        """Points of a fault of a size."""
        return self.points if self.sized else round(size)


def _added(points: int, shape: Callable[[int], Floats]) -> Callable[..., Floats]:
    def make(values: Floats, at: int, size: float, unit: float, rng: np.random.Generator) -> Floats:
        return values[at : at + points] + rng.choice([-1.0, 1.0]) * size * unit * shape(points)

    return make


def _burst(values: Floats, at: int, size: float, unit: float, rng: np.random.Generator) -> Floats:
    return values[at : at + 8] + size * unit * rng.normal(size=8)


def _stuck(values: Floats, at: int, size: float, unit: float, rng: np.random.Generator) -> Floats:
    return np.full(round(size), values[at])


def _zeros(values: Floats, at: int, size: float, unit: float, rng: np.random.Generator) -> Floats:
    return np.zeros(round(size))


def _moved(values: Floats, at: int, size: float, unit: float, rng: np.random.Generator) -> Floats:
    late = int(rng.integers(2, _BACK))
    return values[at - late : at - late + round(size)].copy()


def _clipped(values: Floats, at: int, size: float, unit: float, rng: np.random.Generator) -> Floats:
    part = values[at : at + round(size)]
    return np.minimum(part, np.quantile(part, 0.5))


FAULTS = {
    each.kind: each
    for each in (
        Fault("spike", True, 1, _added(1, np.ones)),
        Fault("level shift", True, 24, _added(24, np.ones)),
        Fault("burst", True, 8, _burst),
        Fault("drift", True, 48, _added(48, lambda points: np.linspace(0, 1, points))),
        Fault("flat-line", False, 0, _stuck),
        Fault("zeros", False, 0, _zeros),
        Fault("slip", False, 0, _moved),
        Fault("clipping", False, 0, _clipped),
    )
}


def drawn(kind: str, heights: Sequence[float]) -> Fault:
    """A fault of one's own: `heights` (n_points,) are what it adds, point by point; its highest, up or down, is one
    size. Raises `SettingsError` for a name that is taken or none, or for what is no shape."""
    shape = np.asarray(heights, dtype=float)
    if not 0 < len(kind.strip()) <= MOST_LETTERS or kind in FAULTS:
        raise SettingsError(f"A shape needs a name of its own, of at most {MOST_LETTERS} letters.", field="shapes")
    if shape.ndim != 1 or not 0 < len(shape) <= MOST_POINTS or not np.isfinite(shape).all() or not shape.any():
        raise SettingsError(f"“{kind}” is no shape: 1 to {MOST_POINTS} heights, not all zero.", field="shapes")
    shape = shape / np.abs(shape).max()

    def make(values: Floats, at: int, size: float, unit: float, rng: np.random.Generator) -> Floats:
        return values[at : at + len(shape)] + size * unit * shape

    return Fault(kind, True, len(shape), make)


def faults_with(shapes: Mapping[str, Sequence[float]] | None) -> dict[str, Fault]:
    """All faults, one's own shapes last."""
    own = shapes or {}
    if len(own) > MOST_SHAPES:
        raise SettingsError(f"At most {MOST_SHAPES} shapes are planted at once.", field="shapes")
    return FAULTS | {kind: drawn(kind, heights) for kind, heights in own.items()}


_STILL = 0.25  # of all changes that are none, from which on they are left out
_BACK = 13  # points before a place that a fault may take values from


def unit_of(values: Floats, season: int) -> float:
    """The usual size of a change of values (n_points,) over a season, of one of its two ends: a normal spread by the
    median, of what moves at all where more than a quarter stands still, as at night."""
    lag = season if len(values) > 3 * season else 1
    change = np.abs(values[lag:] - values[:-lag])
    change = change[np.isfinite(change)]
    moved = change[change > 0]
    if len(moved) < (1 - _STILL) * len(change):
        change = moved
    return 1.4826 * float(np.median(change)) / np.sqrt(2) if len(change) else 0.0


def places_for(free: NDArray[np.bool_], lengths: list[int], rng: np.random.Generator, apart: int) -> list[int]:
    """Where stretches of some lengths may begin among free points (n_points,), `apart` from each other; -1: nowhere."""
    left, found = free.copy(), []
    left[:_BACK] = False
    for length in lengths:
        blocked = np.concatenate([[0], np.cumsum(~left)])
        room = np.flatnonzero(blocked[length:] == blocked[:-length]) if length < len(blocked) else np.zeros(0, int)
        if not len(room):
            found.append(-1)
            continue
        at = int(rng.choice(room))
        left[max(at - apart, 0) : at + length + apart] = False
        found.append(at)
    return found
