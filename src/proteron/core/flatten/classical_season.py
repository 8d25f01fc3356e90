"""Classical decomposition by moving averages: one season, added or multiplied."""

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import BeforeValidator, Field

from proteron.core.documents import whole_word
from proteron.core.errors import TooShortError
from proteron.core.flatten.curve import positive
from proteron.core.flatten.moving_average import centred_average
from proteron.core.flatten.seasons import phase_labels, season_name, too_short
from proteron.core.flatten.stage import Calendar, Figure, Group, Stage, StageState, require
from proteron.core.panel import Floats
from proteron.core.timeline import Ints


class ClassicalSeason(Stage):
    """Take out the mean figure around a centred moving average of one cycle; the trend stays.

    additive: the figure sums to zero and is subtracted; multiplicative: it averages one and divides, for
    positive values whose swing grows with the level.
    """

    title: ClassVar[str] = "classical season"
    group: ClassVar[Group] = "season"
    kind: Literal["classical_season"] = "classical_season"
    needs: ClassVar[int] = 4
    period: int | None = Field(None, ge=2, title="Period", description="Steps in a cycle; nothing: the shortest.")
    form: Annotated[Literal["additive", "multiplicative"], BeforeValidator(whole_word)] = Field(
        "additive", title="Form"
    )

    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState:
        """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` or `UnitsError`."""
        require(values, self.needs, self.title)
        period = self.period or max(calendar.axis.step.season, 2)
        if len(values) < 2 * period:
            raise TooShortError(too_short(period, len(values), calendar), field="period")
        if self.form == "multiplicative":
            positive(values, 0.0, f"{self.title}, multiplied,", positions, calendar)
        trend = centred_average(np.ascontiguousarray(values), period)
        half = period // 2
        apart = values / trend if self.form == "multiplicative" else values - trend
        apart[:half] = np.nan
        apart[len(apart) - half :] = np.nan
        phases = positions % period
        present = np.isfinite(apart)
        counts = np.bincount(phases[present], minlength=period)
        seen = counts > 0
        neutral = 1.0 if self.form == "multiplicative" else 0.0
        figure = np.full(period, neutral)
        figure[seen] = (np.bincount(phases[present], apart[present], minlength=period) / np.maximum(counts, 1))[seen]
        centre = figure[seen].mean() if seen.any() else neutral
        figure[seen] = figure[seen] / centre if self.form == "multiplicative" else figure[seen] - centre
        unseen = int((~seen).sum())
        notes = (f"{unseen} of {period} phases have no known point yet: left as they are",) if unseen else ()
        return StageState({"figure": figure}, notes)

    def _figure(self, state: StageState, positions: Ints) -> Floats:
        figure = state.array("figure")
        return figure[np.asarray(positions) % len(figure)]

    def apply(self, state: StageState, values: Floats, positions: Ints, calendar: Calendar) -> Floats:
        """Flatten `values` at `positions`, also beyond the cutoff; any shape."""
        figure = self._figure(state, positions)
        return values / figure if self.form == "multiplicative" else values - figure

    def undo(self, state: StageState, values: Floats, positions: Ints, calendar: Calendar) -> Floats:
        """Original units from flat `values` at `positions`; the inverse of `apply`."""
        figure = self._figure(state, positions)
        return values * figure if self.form == "multiplicative" else values + figure

    def parts(self, state: StageState, positions: Ints, calendar: Calendar) -> dict[str, Floats]:
        """What is taken out at `positions`, (n_positions,) by name."""
        if self.form == "multiplicative":
            return {}
        return {season_name(len(state.array("figure")), calendar): self._figure(state, positions)}

    def facts(self, state: StageState) -> dict[str, float]:
        """What was learned, as numbers by name."""
        return {"swing": float(np.ptp(state.array("figure")))}

    def figures(self, state: StageState, calendar: Calendar) -> list[Figure]:
        """What was learned, as pictures."""
        figure = state.array("figure")
        labels, order = phase_labels(len(figure), 0, calendar)
        return [Figure(season_name(len(figure), calendar), labels, tuple(figure[order].tolist()))]
