"""Least-squares straight line in time."""

from typing import ClassVar, Literal

import numpy as np

from proteron.core.flatten.stage import Stage, StageState, require
from proteron.core.panel import Floats
from proteron.core.timeline import Ints, TimeAxis


class LinearTrend(Stage):
    """Take out the least-squares line of the known points; it runs on straight beyond the cutoff."""

    title: ClassVar[str] = "linear trend"
    kind: Literal["linear_trend"] = "linear_trend"
    needs: ClassVar[int] = 2

    def fit(self, values: Floats, positions: Ints, axis: TimeAxis) -> StageState:
        require(values, self.needs, self.title)
        present = np.isfinite(values)
        at, known = positions[present].astype(np.float64), values[present]
        centre, level = np.float64(at.mean()), np.float64(known.mean())
        slope = ((at - centre) * (known - level)).sum() / ((at - centre) ** 2).sum()
        return StageState({"slope": slope, "level": level, "centre": centre})

    def removed(self, state: StageState, positions: Ints, axis: TimeAxis) -> Floats:
        line = state.number("level") + state.number("slope") * (positions - state.number("centre"))
        return np.asarray(line, dtype=np.float64)

    def apply(self, state: StageState, values: Floats, positions: Ints, axis: TimeAxis) -> Floats:
        return values - self.removed(state, positions, axis)

    def undo(self, state: StageState, values: Floats, positions: Ints, axis: TimeAxis) -> Floats:
        return values + self.removed(state, positions, axis)
