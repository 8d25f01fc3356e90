"""Logit between a floor and a ceiling, so that forecasts stay between them."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.errors import SettingsError
from proteron.core.flatten.curve import CurveStage, refuse
from proteron.core.flatten.stage import Calendar, StageState, require
from proteron.core.panel import Floats
from proteron.core.timeline import Ints

_EDGE = 1e-6


class Logit(CurveStage):
    """log((x - floor) / (ceiling - x)); a bound not given lies a tenth of the known range outside it."""

    title: ClassVar[str] = "logit"
    kind: Literal["logit"] = "logit"
    floor: float | None = Field(None, title="Floor", description="Values lie above it; nothing: chosen.")
    ceiling: float | None = Field(None, title="Ceiling", description="Values lie below it; nothing: chosen.")

    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState:
        """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` or `UnitsError`."""
        require(values, self.needs, self.title)
        present = np.isfinite(values)
        known = values[present]
        room = 0.1 * (float(np.ptp(known)) or max(abs(float(known[0])), 1.0))
        floor = known.min() - room if self.floor is None else self.floor
        ceiling = known.max() + room if self.ceiling is None else self.ceiling
        if not floor < ceiling:
            raise SettingsError("The floor lies below the ceiling.", field="ceiling")
        wrong = (known <= floor) | (known >= ceiling)
        if wrong.any():
            needed = f"values between {floor:.6g} and {ceiling:.6g}"
            remedy = "Leave a bound empty and it is chosen outside the known values."
            raise refuse(self.title, needed, known[wrong], positions[present][wrong], calendar, remedy)
        edge = _EDGE * (ceiling - floor)
        bounds = {"floor": floor, "ceiling": ceiling, "low": floor + edge, "high": ceiling - edge}
        bounds["low"], bounds["high"] = min(bounds["low"], known.min()), max(bounds["high"], known.max())
        return StageState({name: np.float64(bound) for name, bound in bounds.items()})

    def _forward(self, state: StageState, x: Floats) -> Floats:
        return np.asarray(np.log((x - state.number("floor")) / (state.number("ceiling") - x)))

    def _backward(self, state: StageState, y: Floats) -> Floats:
        floor, ceiling = state.number("floor"), state.number("ceiling")
        share = 1 / (1 + np.exp(-np.abs(y)))  # nearer to its bound, so that no digits are lost
        away = (ceiling - floor) * np.exp(-np.abs(y)) * share
        return np.where(y < 0, floor + away, ceiling - away)

    def _slope(self, state: StageState, x: Floats) -> Floats:
        floor, ceiling = state.number("floor"), state.number("ceiling")
        return np.asarray((ceiling - floor) / ((x - floor) * (ceiling - x)))

    def facts(self, state: StageState) -> dict[str, float]:
        """What was learned, as numbers by name."""
        return {"floor": state.number("floor"), "ceiling": state.number("ceiling")}
