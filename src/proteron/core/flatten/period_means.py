"""One mean per phase of a period: hour of the week, month of the year, or every n-th step."""

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.flatten.stage import Stage, StageState, require
from proteron.core.panel import Floats
from proteron.core.timeline import CYCLES, CalendarField, Ints, TimeAxis, calendar_codes


class PeriodMeans(Stage):
    """Take out the mean deviation of each phase from the mean of all phases; the level stays.

    A phase without a known point keeps the effect zero and is named in the state.
    """

    title: ClassVar[str] = "period means"
    kind: Literal["period_means"] = "period_means"
    needs: ClassVar[int] = 2
    period: Annotated[int, Field(ge=2)] | CalendarField = Field(
        "hour_of_week",
        title="Period",
        description="Steps in a cycle, or a calendar field such as hour_of_week or month.",
    )

    @property
    def phases(self) -> int:
        return self.period if isinstance(self.period, int) else int(CYCLES[self.period])

    def _codes(self, positions: Ints, axis: TimeAxis) -> Ints:
        if isinstance(self.period, int):
            return positions % self.period
        return calendar_codes(self.period, axis.local(positions))

    def fit(self, values: Floats, positions: Ints, axis: TimeAxis) -> StageState:
        require(values, self.needs, self.title)
        present = np.isfinite(values)
        codes = self._codes(positions[present], axis)
        counts = np.bincount(codes, minlength=self.phases)
        sums = np.bincount(codes, weights=values[present], minlength=self.phases)
        seen = counts > 0
        means = sums[seen] / counts[seen]
        effects = np.zeros(self.phases)
        effects[seen] = means - means.mean()
        unseen = int((~seen).sum())
        notes: tuple[str, ...] = (
            (f"{unseen} of {self.phases} phases have no known point yet: left as they are",) if unseen else ()
        )
        if 0 < len(values) < 2 * self.phases and not isinstance(self.period, str):
            notes += (f"{len(values) / self.phases:.1f} cycles known, 2 are needed to trust the season",)
        return StageState({"effects": effects}, notes)

    def removed(self, state: StageState, positions: Ints, axis: TimeAxis) -> Floats:
        return state.array("effects")[self._codes(positions, axis)]

    def apply(self, state: StageState, values: Floats, positions: Ints, axis: TimeAxis) -> Floats:
        return values - self.removed(state, positions, axis)

    def undo(self, state: StageState, values: Floats, positions: Ints, axis: TimeAxis) -> Floats:
        return values + self.removed(state, positions, axis)
