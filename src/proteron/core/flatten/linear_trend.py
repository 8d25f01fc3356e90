"""A straight line in time, by least squares or robust."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.flatten.robust_lines import LineMethod, fit_line
from proteron.core.flatten.stage import AdditiveStage, Calendar, Group, StageState, require
from proteron.core.panel import Floats
from proteron.core.timeline import Ints
from proteron.core.words import counted


class LinearTrend(AdditiveStage):
    """Take out a line through the known points; it runs on straight beyond the cutoff."""

    title: ClassVar[str] = "linear trend"
    group: ClassVar[Group] = "trend"
    kind: Literal["linear_trend"] = "linear_trend"
    needs: ClassVar[int] = 2
    method: LineMethod = Field(
        "least_squares", title="Method", description="All but least squares cannot be bent by spikes."
    )

    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState:
        """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` or `UnitsError`."""
        require(values, self.needs, self.title)
        line = fit_line(positions, values, self.method)
        arrays = {"slope": line.slope, "level": line.level, "centre": line.centre}
        left_out = int((line.weights <= 0).sum())
        notes: tuple[str, ...] = (f"{counted(left_out, 'point')} had no say in the line",) if left_out else ()
        if not line.converged:
            notes += ("the reweighting did not settle",)
        return StageState({name: np.float64(value) for name, value in arrays.items()}, notes)

    def parts(self, state: StageState, positions: Ints, calendar: Calendar) -> dict[str, Floats]:
        """What is taken out at `positions`, (n_positions,) by name."""
        line = state.number("level") + state.number("slope") * (positions - state.number("centre"))
        return {"trend": np.asarray(line, dtype=np.float64)}

    def facts(self, state: StageState) -> dict[str, float]:
        """What was learned, as numbers by name."""
        return {"slope per step": state.number("slope"), "level in the middle": state.number("level")}
