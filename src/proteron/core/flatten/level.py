"""A constant level."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.flatten.stage import AdditiveStage, Calendar, Group, StageState, require
from proteron.core.panel import Floats
from proteron.core.timeline import Ints


class Level(AdditiveStage):
    """Take out the mean or the median of the known points."""

    title: ClassVar[str] = "level"
    group: ClassVar[Group] = "trend"
    kind: Literal["level"] = "level"
    statistic: Literal["mean", "median"] = Field("mean", title="Statistic")

    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState:
        """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` or `UnitsError`."""
        require(values, self.needs, self.title)
        known = values[np.isfinite(values)]
        return StageState({"level": np.float64(known.mean() if self.statistic == "mean" else np.median(known))})

    def parts(self, state: StageState, positions: Ints, calendar: Calendar) -> dict[str, Floats]:
        """What is taken out at `positions`, (n_positions,) by name."""
        return {"level": np.full(np.shape(positions), state.number("level"))}
