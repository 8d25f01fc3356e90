"""Difference against the same phase of the cycle before."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.compiled import kernel
from proteron.core.flatten.stage import Calendar, Group, Stage, StageState, require
from proteron.core.panel import Floats
from proteron.core.phases import previous_of_phase
from proteron.core.timeline import Ints


@kernel
def _integrate(flat: Floats, heads: Floats, fallback: float) -> Floats:
    """Undo of the difference over a whole series: running sums per phase, gaps carried over."""
    period = len(heads)
    latest = np.empty(period)
    for phase in range(period):
        latest[phase] = fallback if np.isnan(heads[phase]) else heads[phase]
    out = np.empty(len(flat))
    for i in range(len(flat)):
        if i < period:
            out[i] = heads[i]
            continue
        phase = i % period
        out[i] = flat[i] + latest[phase]
        if not np.isnan(out[i]):
            latest[phase] = out[i]
    return out


class SeasonalDifference(Stage):
    """Each value minus the last known value of the same phase; the first cycle is kept as heads.

    Where the same phase was missing one cycle ago, the last known one before it is used (at first
    the median), so that nothing is lost over gaps.
    """

    title: ClassVar[str] = "seasonal difference"
    group: ClassVar[Group] = "difference"
    shareable: ClassVar[bool] = False
    from_start: ClassVar[bool] = True
    kind: Literal["seasonal_difference"] = "seasonal_difference"
    period: int = Field(1, ge=1, title="Period", description="Steps in a cycle; 1 is the plain difference.")

    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState:
        """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` or `UnitsError`."""
        require(np.ones(len(values)), self.period + 1, self.title)
        require(values, 1, self.title)
        fallback = np.median(values[np.isfinite(values)])
        return StageState(
            {"heads": values[: self.period].copy(), "fallback": fallback, "first": np.float64(positions[0])}
        )

    def apply(self, state: StageState, values: Floats, positions: Ints, calendar: Calendar) -> Floats:
        """`values` is a whole series from its first point on; the first cycle becomes missing."""
        flat = values - self._references(state, values)[: len(values)]
        flat[: self.period] = np.nan
        return flat

    def _references(self, state: StageState, values: Floats) -> Floats:
        references = previous_of_phase(np.ascontiguousarray(values), self.period)
        return np.where(np.isnan(references), state.number("fallback"), references)

    def undo(self, state: StageState, values: Floats, positions: Ints, calendar: Calendar) -> Floats:
        """Original units from flat `values` at `positions`; the inverse of `apply`."""
        return _integrate(np.ascontiguousarray(values), state.array("heads"), state.number("fallback"))

    def undo_ahead(
        self, state: StageState, flat: Floats, origins: Ints, first: int, inputs: Floats, calendar: Calendar
    ) -> Floats:
        """Forecasts (…, n_origins, horizon) back to original units, reading inputs before each origin only."""
        horizon = flat.shape[-1]
        references = self._references(state, inputs)
        ahead = (origins - first)[:, None] + np.arange(min(self.period, horizon))
        out = np.empty(flat.shape)
        out[..., : self.period] = flat[..., : self.period] + references[ahead]
        for step in range(self.period, horizon):
            out[..., step] = flat[..., step] + out[..., step - self.period]
        return out

    def facts(self, state: StageState) -> dict[str, float]:
        """What was learned, as numbers by name."""
        return {"heads kept": float(len(state.array("heads")))}
