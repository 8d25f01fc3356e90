"""Scale to the range of the known points."""

from typing import ClassVar, Literal

import numpy as np

from proteron.core.flatten.stage import Calendar, ScalingStage, StageState, require, scaled_by
from proteron.core.panel import Floats
from proteron.core.timeline import Ints


class MinMax(ScalingStage):
    """The smallest known value becomes 0, the largest 1; later values may lie outside."""

    title: ClassVar[str] = "min–max"
    kind: Literal["min_max"] = "min_max"

    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState:
        """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` or `UnitsError`."""
        require(values, self.needs, self.title)
        known = values[np.isfinite(values)]
        return scaled_by(known.min(), np.ptp(known))
