"""Centre and scale by the mean and standard deviation of the known points."""

from typing import ClassVar, Literal

import numpy as np

from proteron.core.flatten.stage import Calendar, ScalingStage, StageState, require, scaled_by
from proteron.core.panel import Floats
from proteron.core.timeline import Ints


class ZScore(ScalingStage):
    """Subtract the mean and divide by the standard deviation; a constant series is only centred."""

    title: ClassVar[str] = "z-score"
    kind: Literal["z_score"] = "z_score"

    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState:
        """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` or `UnitsError`."""
        require(values, self.needs, self.title)
        known = values[np.isfinite(values)]
        return scaled_by(known.mean(), known.std())
