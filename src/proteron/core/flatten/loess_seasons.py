"""Trend and nested seasons by loess decomposition."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.flatten.decomposition import decompose
from proteron.core.flatten.path import follow, last_slope
from proteron.core.flatten.seasons import phase_labels, season_name, too_short
from proteron.core.flatten.stage import AdditiveStage, Calendar, Figure, Group, StageState, require
from proteron.core.panel import Floats
from proteron.core.timeline import Ints
from proteron.core.words import counted


class LoessSeasons(AdditiveStage):
    """Take out a trend and one or several seasons at once (loess, nested seasons, robust weights).

    Beyond the cutoff the trend runs on with its last slope and every season repeats its last figure. A
    season that fewer than two cycles are known of is named and left in what remains.
    """

    title: ClassVar[str] = "trend and seasons, loess"
    group: ClassVar[Group] = "season"
    kind: Literal["loess_seasons"] = "loess_seasons"
    needs: ClassVar[int] = 8
    shareable: ClassVar[bool] = False
    periods: tuple[int, ...] = Field(
        (), max_length=4, title="Seasons", description="Steps in a cycle of each; nothing: those the step implies."
    )
    robust: bool = Field(True, title="Robust", description="Spikes cannot bend it.")
    take: Literal["with trend", "seasons only"] = Field("with trend", title="Take out")
    season_window: int | None = Field(
        None, ge=3, title="Season window", description="Cycles a figure may change over; nothing: it never changes."
    )
    trend_window: int | None = Field(None, ge=3, title="Trend window", description="Points; nothing: chosen.")

    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState:
        """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` or `UnitsError`."""
        require(values, self.needs, self.title)
        periods = self.periods or tuple(round(length) for length in calendar.axis.step.seasons)
        found = decompose(
            values, periods, season_window=self.season_window, trend_window=self.trend_window, robust=self.robust
        )
        window = min(found.trend_window, len(values))
        arrays: dict[str, Floats | np.float64] = {
            "first": np.float64(positions[0]), "trend": found.trend,
            "slope": np.float64(last_slope(found.trend, max(window // 2, 2))), "window": np.float64(window),
        }  # fmt: skip
        for season in found.seasons:
            arrays[f"figure {season.period}"] = season.figure
            if self.season_window is not None:
                arrays[f"path {season.period}"] = season.path
        notes = tuple(too_short(period, len(values), calendar) for period in found.unlearned)
        if self.robust:
            refused = int((np.isfinite(values) & (found.weights < 0.01)).sum())
            notes += (f"{counted(refused, 'point')} had no say",) if refused else ()
        return StageState(arrays, notes)

    def parts(self, state: StageState, positions: Ints, calendar: Calendar) -> dict[str, Floats]:
        """What is taken out at `positions`, (n_positions,) by name."""
        first = int(state.number("first"))
        at = np.asarray(positions, dtype=np.int64) - first
        out = {}
        if self.take == "with trend":
            out["trend"] = follow(state.array("trend"), first, state.number("slope"), positions)
        for period in _periods(state):
            figure = state.array(f"figure {period}")
            part = figure[at % period]
            if f"path {period}" in state.arrays:
                path = state.array(f"path {period}")
                inside = (at >= 0) & (at < len(path))
                part = np.where(inside, path[np.clip(at, 0, len(path) - 1)], part)
            out[season_name(period, calendar)] = part
        return out or {"seasons": np.zeros(np.shape(positions))}

    def facts(self, state: StageState) -> dict[str, float]:
        """What was learned, as numbers by name."""
        facts = {"trend window": state.number("window"), "slope per step beyond": state.number("slope")}
        for period in _periods(state):
            facts[f"swing of {period}"] = float(np.ptp(state.array(f"figure {period}")))
        return facts

    def figures(self, state: StageState, calendar: Calendar) -> list[Figure]:
        """What was learned, as pictures."""
        first, figures = int(state.number("first")), []
        for period in _periods(state):
            labels, order = phase_labels(period, first, calendar)
            figure = state.array(f"figure {period}")[order]
            figures.append(Figure(season_name(period, calendar), labels, tuple(figure.tolist())))
        return figures


def _periods(state: StageState) -> list[int]:
    return [int(name.split()[1]) for name in state.arrays if name.startswith("figure ")]
