"""Yeo–Johnson transform: like Box–Cox, for values of either sign."""

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.flatten.curve import CurveStage
from proteron.core.flatten.stage import Calendar, Figure, StageState, require
from proteron.core.panel import Floats
from proteron.core.powers.yeo_johnson import yeo_johnson, yeo_johnson_curve, yeo_johnson_lambda
from proteron.core.timeline import Ints

_ROOM = 1e3


class YeoJohnson(CurveStage):
    """Yeo & Johnson 2000 on values divided by their median size; λ by likelihood, or given."""

    title: ClassVar[str] = "Yeo–Johnson"
    kind: Literal["yeo_johnson"] = "yeo_johnson"
    needs: ClassVar[int] = 4
    exponent: float | None = Field(None, ge=-5, le=5, title="λ", description="Nothing: chosen by likelihood.")

    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState:
        """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` or `UnitsError`."""
        require(values, self.needs, self.title)
        known = values[np.isfinite(values)]
        unit = float(np.median(np.abs(known))) or float(np.abs(known).max()) or 1.0
        reach = _ROOM * float(np.abs(known).max() or 1.0)
        arrays: dict[str, Any] = {"unit": unit, "low": -reach, "high": reach, "exponent": self.exponent}
        if self.exponent is None:
            arrays["exponent"] = yeo_johnson_lambda(known / unit)
            arrays["exponents"], arrays["likelihood"] = yeo_johnson_curve(known / unit)
        return StageState({name: np.asarray(array, dtype=np.float64) for name, array in arrays.items()})

    def _forward(self, state: StageState, x: Floats) -> Floats:
        return yeo_johnson(x / state.number("unit"), state.number("exponent"))

    def _backward(self, state: StageState, y: Floats) -> Floats:
        exponent, size = state.number("exponent"), np.abs(y)
        above = np.expm1(size) if abs(exponent) < 1e-8 else np.expm1(_log_power(size, exponent))
        other = 2 - exponent
        below = np.expm1(size) if abs(other) < 1e-8 else np.expm1(_log_power(size, other))
        return np.where(y >= 0, above, -below) * state.number("unit")

    def _slope(self, state: StageState, x: Floats) -> Floats:
        exponent, z = state.number("exponent"), x / state.number("unit")
        size = 1 + np.abs(z)
        return np.where(z >= 0, size ** (exponent - 1), size ** (1 - exponent)) / state.number("unit")

    def facts(self, state: StageState) -> dict[str, float]:
        """What was learned, as numbers by name."""
        return {"λ": state.number("exponent"), "median size": state.number("unit")}

    def figures(self, state: StageState, calendar: Calendar) -> list[Figure]:
        """What was learned, as pictures."""
        if "likelihood" not in state.arrays:
            return []
        labels = tuple(f"{exponent:.1f}" for exponent in state.array("exponents"))
        return [Figure("log-likelihood by λ", labels, tuple(state.array("likelihood").tolist()), "curve")]


def _log_power(size: Floats, exponent: float) -> Floats:
    """log(1 + exponent · size) / exponent, held where the curve ends."""
    return np.asarray(np.log1p(np.maximum(exponent * size, -1 + 1e-16)) / exponent)
