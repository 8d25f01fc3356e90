"""Centre and scale by the mean and standard deviation of the known points."""

from typing import ClassVar, Literal

import numpy as np

from proteron.core.flatten.stage import Stage, StageState, require
from proteron.core.panel import Floats
from proteron.core.timeline import Ints, TimeAxis


class ZScore(Stage):
    """Subtract the mean and divide by the standard deviation; a constant series is only centred."""

    title: ClassVar[str] = "z-score"
    kind: Literal["z_score"] = "z_score"

    def fit(self, values: Floats, positions: Ints, axis: TimeAxis) -> StageState:
        require(values, self.needs, self.title)
        known = values[np.isfinite(values)]
        mean, spread = known.mean(), known.std()
        if spread <= 1e-12 * max(abs(mean), 1e-300):
            return StageState({"mean": mean, "spread": np.float64(1.0)}, ("constant so far: only centred",))
        return StageState({"mean": mean, "spread": spread})

    def apply(self, state: StageState, values: Floats, positions: Ints, axis: TimeAxis) -> Floats:
        return (values - state.number("mean")) / state.number("spread")

    def undo(self, state: StageState, values: Floats, positions: Ints, axis: TimeAxis) -> Floats:
        return values * state.number("spread") + state.number("mean")
