"""Relative change against the last known value."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.compiled import kernel
from proteron.core.flatten.curve import positive
from proteron.core.flatten.stage import Calendar, Group, Stage, StageState, require
from proteron.core.panel import Floats
from proteron.core.timeline import Ints

_FLOOR_SHARE = 1e-3


@kernel
def _to_return(value: float, reference: float, floor: float, logarithmic: bool) -> float:
    base = max(reference, floor)
    if not logarithmic:
        return (value - reference) / base
    if value < floor:  # below anything known the logarithm goes on as its tangent
        return np.log(floor) + (value - floor) / floor - np.log(base)
    return np.log(value) - np.log(base)


@kernel
def _from_return(flat: float, reference: float, floor: float, logarithmic: bool) -> float:
    base = max(reference, floor)
    if not logarithmic:
        return reference + flat * base
    logs = flat + np.log(base)
    if logs < np.log(floor):
        return floor + (logs - np.log(floor)) * floor
    return np.exp(min(logs, 700.0))


@kernel
def _walk(entered: Floats, head: float, floor: float, logarithmic: bool, undo: bool) -> Floats:
    """Returns of a whole series, or the series from them; the first known point is kept in `head`."""
    out = np.full(len(entered), np.nan)
    reference = np.nan
    for i in range(len(entered)):
        if undo and np.isnan(reference) and not np.isnan(entered[i]):
            reference = head
        if np.isnan(entered[i]):
            continue
        if undo:
            out[i] = _from_return(entered[i], reference, floor, logarithmic)
            reference = out[i]
        else:
            out[i] = _to_return(entered[i], head if np.isnan(reference) else reference, floor, logarithmic)
            reference = entered[i]
    return out


@kernel
def _ahead(flat: Floats, references: Floats, floor: float, logarithmic: bool) -> Floats:
    """Forecast returns (n_rows, horizon) back to values, from one reference per row (n_rows,)."""
    out = np.empty(flat.shape)
    for row in range(len(flat)):
        reference = references[row]
        for step in range(flat.shape[1]):
            reference = _from_return(flat[row, step], reference, floor, logarithmic)
            out[row, step] = reference
    return out


class Returns(Stage):
    """Percent or logarithmic change against the last known value; for positive levels such as prices.

    The first known value changes against itself, so it becomes zero and is kept as the head.
    """

    title: ClassVar[str] = "returns"
    group: ClassVar[Group] = "difference"
    from_start: ClassVar[bool] = True
    kind: Literal["returns"] = "returns"
    shareable: ClassVar[bool] = False
    form: Literal["percent", "log"] = Field("log", title="Form", description="percent: change ÷ level, as a share.")

    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState:
        """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` or `UnitsError`."""
        require(values, self.needs, self.title)
        known = positive(values, 0.0, self.title, positions, calendar)
        return StageState({"head": np.float64(known[0]), "floor": np.float64(known.min() * _FLOOR_SHARE)})

    def _run(self, state: StageState, values: Floats, undo: bool) -> Floats:
        entered = np.ascontiguousarray(values)
        return _walk(entered, state.number("head"), state.number("floor"), self.form == "log", undo)

    def apply(self, state: StageState, values: Floats, positions: Ints, calendar: Calendar) -> Floats:
        """`values` is a whole series from its first point on."""
        return self._run(state, values, False)

    def undo(self, state: StageState, values: Floats, positions: Ints, calendar: Calendar) -> Floats:
        """Original units from flat `values` at `positions`; the inverse of `apply`."""
        return self._run(state, values, True)

    def undo_ahead(
        self, state: StageState, flat: Floats, origins: Ints, first: int, inputs: Floats, calendar: Calendar
    ) -> Floats:
        """Forecasts (…, n_origins, horizon) back to original units, reading inputs before each origin only."""
        references = last_known(inputs, origins - first, state.number("head"))
        rows = np.ascontiguousarray(flat).reshape(-1, flat.shape[-1])
        of_rows = np.broadcast_to(references, flat.shape[:-1]).ravel()
        return _ahead(rows, of_rows, state.number("floor"), self.form == "log").reshape(flat.shape)


def last_known(values: Floats, counts: Ints, fallback: float) -> Floats:
    """The last known of the first `counts` values, (n_origins,); `fallback` where none is."""
    present = np.isfinite(values)
    latest = np.maximum.accumulate(np.where(present, np.arange(len(values)), -1))
    at = np.where(counts > 0, latest[np.maximum(counts - 1, 0)], -1)
    return np.where(at >= 0, values[np.maximum(at, 0)], fallback)
