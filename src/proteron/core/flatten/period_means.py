"""One mean or median per phase of a period: hour of the week, month of the year, or every n-th step."""

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.flatten.seasons import field_labels, phase_labels, season_name
from proteron.core.flatten.stage import AdditiveStage, Calendar, Figure, Group, StageState, require
from proteron.core.panel import Floats
from proteron.core.timeline import CYCLES, CalendarField, Ints, calendar_codes


class PeriodMeans(AdditiveStage):
    """Take out the deviation of each phase from the mean of all phases; the level stays.

    A phase without a known point keeps the effect zero and is named in the state.
    """

    title: ClassVar[str] = "period means"
    group: ClassVar[Group] = "season"
    kind: Literal["period_means"] = "period_means"
    needs: ClassVar[int] = 2
    period: Annotated[int, Field(ge=2)] | CalendarField = Field(
        "hour_of_week",
        title="Period",
        description="Steps in a cycle, or a calendar field such as hour_of_week or month.",
    )
    statistic: Literal["mean", "median"] = Field("mean", title="Statistic", description="Medians ignore spikes.")

    @property
    def phases(self) -> int:
        return self.period if isinstance(self.period, int) else int(CYCLES[self.period])

    def _codes(self, positions: Ints, calendar: Calendar) -> Ints:
        if isinstance(self.period, int):
            return positions % self.period
        return calendar_codes(self.period, calendar.axis.local(positions))

    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState:
        """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` or `UnitsError`."""
        require(values, self.needs, self.title)
        present = np.isfinite(values)
        codes, known = self._codes(positions[present], calendar), values[present]
        counts = np.bincount(codes, minlength=self.phases)
        seen = counts > 0
        middles = _middles(known, codes, counts, self.statistic)[seen]
        effects = np.zeros(self.phases)
        effects[seen] = middles - middles.mean()
        unseen = int((~seen).sum())
        notes: tuple[str, ...] = (
            (f"{unseen} of {self.phases} phases have no known point yet: left as they are",) if unseen else ()
        )
        if 0 < len(values) < 2 * self.phases and not isinstance(self.period, str):
            notes += (f"{len(values) / self.phases:.1f} cycles known, 2 are needed to trust the season",)
        return StageState({"effects": effects}, notes)

    def parts(self, state: StageState, positions: Ints, calendar: Calendar) -> dict[str, Floats]:
        """What is taken out at `positions`, (n_positions,) by name."""
        name = self.period.replace("_", " ") if isinstance(self.period, str) else season_name(self.period, calendar)
        return {name: state.array("effects")[self._codes(positions, calendar)]}

    def facts(self, state: StageState) -> dict[str, float]:
        """What was learned, as numbers by name."""
        return {"phases": float(self.phases), "swing": float(np.ptp(state.array("effects")))}

    def figures(self, state: StageState, calendar: Calendar) -> list[Figure]:
        """What was learned, as pictures."""
        effects = state.array("effects")
        if isinstance(self.period, int):
            labels, order = phase_labels(self.period, 0, calendar)
        else:
            order = np.arange(self.phases)
            labels = field_labels(self.period) or tuple(str(code) for code in order)
        (name,) = self.parts(state, np.zeros(1, dtype=np.int64), calendar)
        return [Figure(f"by {name}", labels, tuple(effects[order].tolist()))]


def _middles(known: Floats, codes: Ints, counts: Ints, statistic: str) -> Floats:
    """Mean or median of the values of each code, (n_codes,)."""
    if statistic == "mean":
        return np.asarray(np.bincount(codes, known, minlength=len(counts)) / np.maximum(counts, 1))
    ordered = known[np.lexsort((known, codes))]
    ends = np.cumsum(counts)
    last = max(len(ordered) - 1, 0)
    low = np.clip(ends - counts + (counts - 1) // 2, 0, last)
    high = np.clip(ends - counts + counts // 2, 0, last)
    return np.asarray(0.5 * (ordered[low] + ordered[high]))
