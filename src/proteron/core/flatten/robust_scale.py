"""Centre and scale by the median and the interquartile range of the known points."""

from typing import ClassVar, Literal

import numpy as np

from proteron.core.flatten.stage import Calendar, ScalingStage, StageState, require, scaled_by
from proteron.core.panel import Floats
from proteron.core.timeline import Ints


class RobustScale(ScalingStage):
    """Subtract the median and divide by the interquartile range, which a quarter of outliers cannot move."""

    title: ClassVar[str] = "median and IQR"
    kind: Literal["robust_scale"] = "robust_scale"

    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState:
        """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` or `UnitsError`."""
        require(values, self.needs, self.title)
        low, middle, high = np.quantile(values[np.isfinite(values)], (0.25, 0.5, 0.75))
        return scaled_by(middle, high - low)
