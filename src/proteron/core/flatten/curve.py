"""Transforms by a rising curve, continued as straight lines outside anything that was known."""

from abc import abstractmethod
from typing import ClassVar

import numpy as np

from proteron.core.errors import UnitsError
from proteron.core.flatten.stage import Calendar, Group, Stage, StageState
from proteron.core.panel import Floats
from proteron.core.timeline import Ints


class CurveStage(Stage):
    """y = f(x) for a rising f between `low` and `high` of the state, its tangents outside.

    So later values that f cannot take (zero or negative under a logarithm, beyond a ceiling) still
    map there and back exactly, and the order of quantiles survives in both directions.
    """

    group: ClassVar[Group] = "transform"

    @abstractmethod
    def _forward(self, state: StageState, x: Floats) -> Floats: ...

    @abstractmethod
    def _backward(self, state: StageState, y: Floats) -> Floats: ...

    @abstractmethod
    def _slope(self, state: StageState, x: Floats) -> Floats: ...

    def _ends(self, state: StageState) -> tuple[Floats, Floats, Floats]:
        """The two ends of the curve, their images and the slopes there, (2,) each."""
        ends = np.array([state.number("low"), state.number("high")])
        return ends, self._forward(state, ends), self._slope(state, ends)

    def apply(self, state: StageState, values: Floats, positions: Ints, calendar: Calendar) -> Floats:
        """Flatten `values` at `positions`, also beyond the cutoff; any shape."""
        (low, high), (bottom, top), (first, last) = self._ends(state)
        curve = self._forward(state, np.clip(values, low, high))
        curve = np.where(values < low, bottom + (values - low) * first, curve)
        return np.where(values > high, top + (values - high) * last, curve)

    def undo(self, state: StageState, values: Floats, positions: Ints, calendar: Calendar) -> Floats:
        """Original units from flat `values` at `positions`; the inverse of `apply`."""
        (low, high), (bottom, top), (first, last) = self._ends(state)
        curve = self._backward(state, np.clip(values, bottom, top))
        curve = np.where(values < bottom, low + (values - bottom) / first, curve)
        return np.where(values > top, high + (values - top) / last, curve)

    def domain(self) -> tuple[float, float]:
        """The values that f itself can take; a forecast never leaves them."""
        return -np.inf, np.inf

    def undo_forecast(self, state: StageState, values: Floats, calendar: Calendar) -> Floats:
        """As `undo`, clamped where the domain of f ends."""
        return np.clip(self.undo(state, values, np.zeros(1, dtype=np.int64), calendar), *self.domain())

    def undo_ahead(
        self, state: StageState, flat: Floats, origins: Ints, first: int, inputs: Floats, calendar: Calendar
    ) -> Floats:
        """Forecasts back to original units, clamped where the domain of f ends."""
        return self.undo_forecast(state, flat, calendar)


def refuse(what: str, needed: str, wrong: Floats, positions: Ints, calendar: Calendar, remedy: str) -> UnitsError:
    """The error for values a transform cannot take: how many, the worst, the first time, and what fits."""
    where = np.datetime_as_string(calendar.axis.local(positions[:1]), unit="m")[0].replace("T", " ")
    count = f"{len(wrong)} known value{' is' if len(wrong) == 1 else 's are'} not"
    return UnitsError(
        f"{what} needs {needed}; {count} (lowest {wrong.min():.6g}, first at {where}). {remedy}", field="offset"
    )


def positive(values: Floats, offset: float, what: str, positions: Ints, calendar: Calendar) -> Floats:
    """The known values plus `offset`, all positive; raises `UnitsError` naming those that are not."""
    present = np.isfinite(values)
    known = values[present] + offset
    wrong = known <= 0
    if wrong.any():
        least = float(-(known.min() - offset))
        remedy = f"Yeo–Johnson takes any value; or give an offset above {least:.6g}."
        raise refuse(what, "positive values", values[present][wrong], positions[present][wrong], calendar, remedy)
    return np.asarray(known)
