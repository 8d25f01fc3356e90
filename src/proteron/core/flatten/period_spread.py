"""One spread per stretch of the calendar, such as the standard deviation of each year."""

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field, model_validator

from proteron.core.flatten.stage import Calendar, Figure, Group, Stage, StageState, require
from proteron.core.panel import Floats
from proteron.core.timeline import Ints

_UNITS = {"year": "Y", "month": "M"}


class PeriodSpread(Stage):
    """Divide by the standard deviation of each year, quarter, month or week around its own mean.

    A stretch with fewer than `least` known points, and everything beyond the last one, takes the
    spread of the stretch before it.
    """

    title: ClassVar[str] = "spread per period"
    group: ClassVar[Group] = "scale"
    kind: Literal["period_spread"] = "period_spread"
    needs: ClassVar[int] = 2
    shareable: ClassVar[bool] = False
    period: Literal["year", "quarter", "month", "week"] = Field("year", title="One spread per")
    least: int = Field(
        8, ge=2, title="Least points", description="Known points a stretch needs for a spread of its own."
    )

    @model_validator(mode="before")
    @classmethod
    def _of_older_files(cls, given: Any) -> Any:
        """`period` was called `each`."""
        if isinstance(given, dict) and "each" in given and "period" not in given:
            return {name if name != "each" else "period": value for name, value in given.items()}
        return given

    def _stretches(self, positions: Ints, calendar: Calendar) -> Ints:
        local = calendar.axis.local(positions)
        if self.period == "week":
            return (local.astype("datetime64[D]").astype(np.int64) + 3) // 7
        if self.period == "quarter":
            return local.astype("datetime64[M]").astype(np.int64) // 3
        return local.astype(f"datetime64[{_UNITS[self.period]}]").astype(np.int64)

    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState:
        """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` or `UnitsError`."""
        require(values, self.needs, self.title)
        present = np.isfinite(values)
        known, codes = values[present], self._stretches(positions[present], calendar)
        first = int(codes.min())
        codes = codes - first
        counts = np.bincount(codes).astype(np.float64)
        full = np.maximum(counts, 1)
        means = np.bincount(codes, known) / full
        spreads = np.sqrt(np.bincount(codes, (known - means[codes]) ** 2) / full)
        overall = float(known.std())
        floor = 1e-12 * max(float(np.abs(known).max()), 1e-300)
        usable = (counts >= self.least) & (spreads > floor)
        if not usable.any():
            alone = np.float64(overall if overall > floor else 1.0)
            note = f"no {self.period} has {self.least} known points that vary: one spread for all"
            return StageState({"spreads": np.array([alone]), "first": np.float64(first)}, (note,))
        place = np.maximum.accumulate(np.where(usable, np.arange(len(spreads)), -1))
        place[place < 0] = int(np.argmax(usable))
        short = int((~usable).sum())
        notes = (
            (f"{short} of {len(spreads)} {self.period}s are too short and take a neighbour's spread",) if short else ()
        )
        return StageState({"spreads": spreads[place], "first": np.float64(first)}, notes)

    def _spreads(self, state: StageState, positions: Ints, calendar: Calendar) -> Floats:
        spreads = state.array("spreads")
        codes = self._stretches(positions, calendar) - int(state.number("first"))
        return spreads[np.clip(codes, 0, len(spreads) - 1)]

    def apply(self, state: StageState, values: Floats, positions: Ints, calendar: Calendar) -> Floats:
        """Flatten `values` at `positions`, also beyond the cutoff; any shape."""
        return values / self._spreads(state, positions, calendar)

    def undo(self, state: StageState, values: Floats, positions: Ints, calendar: Calendar) -> Floats:
        """Original units from flat `values` at `positions`; the inverse of `apply`."""
        return values * self._spreads(state, positions, calendar)

    def facts(self, state: StageState) -> dict[str, float]:
        """What was learned, as numbers by name."""
        spreads = state.array("spreads")
        return {"smallest spread": float(spreads.min()), "largest spread": float(spreads.max())}

    def figures(self, state: StageState, calendar: Calendar) -> list[Figure]:
        """What was learned, as pictures."""
        spreads, first = state.array("spreads"), int(state.number("first"))
        codes = first + np.arange(len(spreads))
        if self.period == "week":
            labels = (codes * 7 - 3).astype("datetime64[D]").astype(str).tolist()
        elif self.period == "quarter":
            labels = [f"{1970 + code // 4} Q{code % 4 + 1}" for code in codes]
        else:
            labels = codes.astype(f"datetime64[{_UNITS[self.period]}]").astype(str).tolist()
        return [Figure(f"spread per {self.period}", tuple(labels), tuple(spreads.tolist()))]
