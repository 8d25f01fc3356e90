"""Natural logarithm, continued as a straight line below anything that was known."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.errors import UnitsError
from proteron.core.flatten.stage import Stage, StageState, require
from proteron.core.panel import Floats
from proteron.core.timeline import Ints, TimeAxis

_FLOOR_SHARE = 1e-6


class Log(Stage):
    """Logarithm of the value plus an offset; all known values plus the offset must be positive.

    Below a millionth of the smallest known value the curve goes on as its tangent, so that later
    values which are zero or negative still map there and back exactly.
    """

    title: ClassVar[str] = "log"
    kind: Literal["log"] = "log"
    offset: float = Field(0.0, title="Offset", description="Added before taking the logarithm, in the series' unit.")

    def fit(self, values: Floats, positions: Ints, axis: TimeAxis) -> StageState:
        require(values, self.needs, self.title)
        shifted = values[np.isfinite(values)] + self.offset
        if shifted.min() <= 0:
            count = int((shifted <= 0).sum())
            raise UnitsError(
                f"log needs positive values; {count} known values plus the offset are not.", field="offset"
            )
        return StageState({"floor": shifted.min() * _FLOOR_SHARE})

    def apply(self, state: StageState, values: Floats, positions: Ints, axis: TimeAxis) -> Floats:
        floor = state.number("floor")
        shifted = values + self.offset
        curve = np.log(np.maximum(shifted, floor))
        return np.where(shifted < floor, np.log(floor) + (shifted - floor) / floor, curve)

    def undo(self, state: StageState, values: Floats, positions: Ints, axis: TimeAxis) -> Floats:
        floor = state.number("floor")
        lowest = np.log(floor)
        curve = np.exp(np.minimum(values, 709.0))
        return np.where(values < lowest, floor + floor * (values - lowest), curve) - self.offset
