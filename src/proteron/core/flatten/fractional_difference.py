"""Fractional differencing: as much memory taken out as needed, and no more."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.compiled import kernel
from proteron.core.flatten.stage import Calendar, Group, Stage, StageState, require
from proteron.core.panel import Floats
from proteron.core.timeline import Ints


def weights_of(order: float, count: int) -> Floats:
    """The first `count` weights of (1 - L)^order after the leading one (Hosking 1981), (count,)."""
    k = np.arange(1, count + 1)
    return np.asarray(np.cumprod((k - 1 - order) / k))


@kernel
def _walk(entered: Floats, weights: Floats, level: float, undo: bool) -> Floats:
    """Differences of a whole series, or the series from them; in gaps the last known value stands in."""
    past = np.zeros(len(entered))
    out = np.full(len(entered), np.nan)
    reference = 0.0
    for i in range(len(entered)):
        if not np.isnan(entered[i]):
            memory = 0.0
            for k in range(min(i, len(weights))):
                memory += weights[k] * past[i - 1 - k]
            if undo:
                reference = entered[i] - memory
                out[i] = reference + level
            else:
                reference = entered[i] - level
                out[i] = reference + memory
        past[i] = reference
    return out


@kernel
def _ahead(flat: Floats, inputs: Floats, origins: Ints, weights: Floats, level: float) -> Floats:
    """Forecasts (n_lead, n_origins, horizon) back to values; only inputs before each origin are read."""
    lead, rows, horizon = flat.shape
    out = np.empty(flat.shape)
    past = np.zeros(len(inputs))
    reference = 0.0
    for i in range(len(inputs)):
        if not np.isnan(inputs[i]):
            reference = inputs[i] - level
        past[i] = reference
    for row in range(rows):
        origin = origins[row]
        known = np.zeros(horizon)
        for step in range(horizon):
            for k in range(step, min(origin + step, len(weights))):
                known[step] += weights[k] * past[origin + step - 1 - k]
        for each in range(lead):
            for step in range(horizon):
                memory = known[step]
                for k in range(min(step, len(weights))):
                    memory += weights[k] * (out[each, row, step - 1 - k] - level)
                out[each, row, step] = flat[each, row, step] - memory + level
    return out


class FractionalDifference(Stage):
    """(1 - L)^d of the deviations from the median, d between 0 and 1, with a memory of so many steps."""

    title: ClassVar[str] = "fractional difference"
    group: ClassVar[Group] = "difference"
    from_start: ClassVar[bool] = True
    kind: Literal["fractional_difference"] = "fractional_difference"
    order: float = Field(0.4, gt=0, lt=1, title="Order d", description="0 leaves everything, 1 is the difference.")
    memory: int = Field(500, ge=1, le=5000, title="Memory", description="Steps back that are looked at.")

    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState:
        """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` or `UnitsError`."""
        require(values, self.needs, self.title)
        return StageState({"level": np.float64(np.median(values[np.isfinite(values)]))})

    def apply(self, state: StageState, values: Floats, positions: Ints, calendar: Calendar) -> Floats:
        """`values` is a whole series from its first point on."""
        weights = weights_of(self.order, self.memory)
        return _walk(np.ascontiguousarray(values), weights, state.number("level"), False)

    def undo(self, state: StageState, values: Floats, positions: Ints, calendar: Calendar) -> Floats:
        """Original units from flat `values` at `positions`; the inverse of `apply`."""
        return _walk(np.ascontiguousarray(values), weights_of(self.order, self.memory), state.number("level"), True)

    def undo_ahead(
        self, state: StageState, flat: Floats, origins: Ints, first: int, inputs: Floats, calendar: Calendar
    ) -> Floats:
        """Forecasts (…, n_origins, horizon) back to original units, reading inputs before each origin only."""
        weights = weights_of(self.order, self.memory)
        stacked = np.ascontiguousarray(flat).reshape(-1, *flat.shape[-2:])
        back = _ahead(stacked, np.ascontiguousarray(inputs), origins - first, weights, state.number("level"))
        return back.reshape(flat.shape)
