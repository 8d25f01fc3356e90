"""Box–Cox transform with a chosen or given exponent."""

from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.flatten.curve import CurveStage, positive
from proteron.core.flatten.stage import Calendar, Figure, StageState, require
from proteron.core.panel import Floats
from proteron.core.powers.box_cox import box_cox_lambda, likelihood_curve
from proteron.core.timeline import Ints

_ROOM, _NEAR = 1e3, 2.0


class BoxCox(CurveStage):
    """(z^λ - 1) / λ of z = (value + offset) / geometric mean (Box & Cox 1964).

    λ maximises the profile likelihood or evens out the spread of cycles (Guerrero 1993), between 0 and 1: outside,
    what is forecast runs off; or it is given.
    Dividing by the geometric mean leaves λ as it is and keeps the inverse exact for any unit.
    """

    title: ClassVar[str] = "Box–Cox"
    version: ClassVar[int] = 2
    kind: Literal["box_cox"] = "box_cox"
    needs: ClassVar[int] = 4
    exponent: Annotated[float, Field(ge=-5, le=5)] | Literal["likelihood", "guerrero"] = Field(
        "likelihood", title="λ", description="A number, or how to choose it: likelihood or guerrero."
    )
    period: int | None = Field(None, ge=2, title="Cycle", description="Steps in a cycle, for guerrero.")
    offset: float = Field(0.0, title="Offset", description="Added before, in the series' unit.")

    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState:
        """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` or `UnitsError`."""
        require(values, self.needs, self.title)
        known = positive(values, self.offset, self.title, positions, calendar)
        unit = np.exp(np.log(known).mean())
        arrays: dict[str, Any] = {"unit": unit}
        if isinstance(self.exponent, str):
            cycle = self.period or max(calendar.axis.step.season, 2)
            exponent = float(np.clip(box_cox_lambda(values + self.offset, self.exponent, cycle), 0.0, 1.0))
            arrays["exponents"], arrays["likelihood"] = likelihood_curve(known)
        else:
            exponent = self.exponent
        # Beyond 1 the curve lies flat near zero, below 0 it lies flat far up: there its tangent is taken early.
        below, above = (_NEAR if exponent > 1 else _ROOM), (_NEAR if exponent < 0 else _ROOM)
        arrays |= {"low": known.min() / below - self.offset, "high": known.max() * above - self.offset}
        return StageState({name: np.asarray(array) for name, array in (arrays | {"exponent": exponent}).items()})

    def domain(self) -> tuple[float, float]:
        """Values whose sum with the offset is not negative."""
        return -self.offset, np.inf

    def _scaled(self, state: StageState, x: Floats) -> Floats:
        return np.maximum((x + self.offset) / state.number("unit"), 1e-300)

    def _forward(self, state: StageState, x: Floats) -> Floats:
        exponent, logs = state.number("exponent"), np.log(self._scaled(state, x))
        return logs if abs(exponent) < 1e-8 else np.expm1(exponent * logs) / exponent

    def _backward(self, state: StageState, y: Floats) -> Floats:
        exponent = state.number("exponent")
        logs = y if abs(exponent) < 1e-8 else np.log1p(np.maximum(exponent * y, -1 + 1e-16)) / exponent
        return np.exp(logs) * state.number("unit") - self.offset

    def _slope(self, state: StageState, x: Floats) -> Floats:
        return self._scaled(state, x) ** (state.number("exponent") - 1) / state.number("unit")

    def facts(self, state: StageState) -> dict[str, float]:
        """What was learned, as numbers by name."""
        return {"λ": state.number("exponent"), "geometric mean": state.number("unit")}

    def figures(self, state: StageState, calendar: Calendar) -> list[Figure]:
        """What was learned, as pictures."""
        if "likelihood" not in state.arrays:
            return []
        labels = tuple(f"{exponent:.1f}" for exponent in state.array("exponents"))
        return [Figure("log-likelihood by λ", labels, tuple(state.array("likelihood").tolist()), "curve")]
