"""Forecasts that were made elsewhere: nothing is learned, what was brought is looked up."""

from collections.abc import Sequence
from functools import cached_property
from typing import ClassVar, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from proteron.core.documents import Settings
from proteron.core.forecasters.forecaster import Forecaster, ForecasterState, Work
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints


class SeriesForecasts(Settings):
    """Forecasts of one series: where on the grid, how many points were known when each was made (0: not said)."""

    positions: tuple[int, ...]
    made: tuple[int, ...]
    values: tuple[float, ...]
    lower: tuple[tuple[float, ...], ...] = ()
    upper: tuple[tuple[float, ...], ...] = ()

    @model_validator(mode="after")
    def _alike(self) -> Self:
        lengths = {len(each) for each in (self.positions, self.made, self.values, *self.lower, *self.upper)}
        if len(lengths) > 1 or len(self.lower) != len(self.upper):
            raise ValueError("a series' positions, origins, values and bounds are equally many")
        if any(made < 0 for made in self.made):
            raise ValueError("points known are counted from 0")
        return self

    @cached_property
    def _table(self) -> tuple[Ints, int, Floats]:
        """Codes of place and origin in their order, what a place counts in them, and the values with bounds beside."""
        positions, made = np.array(self.positions, dtype=np.int64), np.array(self.made, dtype=np.int64)
        width = int(made.max(initial=0)) + 2
        order = np.argsort(positions * width + made, kind="stable")
        columns = np.array([self.values, *self.lower, *self.upper], dtype=float)
        return (positions * width + made)[order], width, columns[:, order]

    def at(self, positions: Ints, known: Ints) -> Floats:
        """Value, lower and upper ends (1 + 2 n_levels, …) for places (…): the latest made with no more than `known`."""
        codes, width, columns = self._table
        wanted = positions * width + np.minimum(known, width - 1)
        found = np.searchsorted(codes, wanted, side="right") - 1
        there = (found >= 0) & (codes[np.maximum(found, 0)] // width == positions)
        return np.where(there, columns[:, np.maximum(found, 0)], np.nan)


class MadeElsewhere(Forecaster):
    """A table of forecasts as a contender: judged on the same points, though nothing proves what it knew."""

    title: ClassVar[str] = "made elsewhere"
    family: ClassVar[str] = "elsewhere"
    listed: ClassVar[bool] = False
    can: ClassVar[tuple[str, ...]] = ("ranges",)
    cost: ClassVar[float] = 0.1

    kind: Literal["made_elsewhere"] = "made_elsewhere"
    source: str = Field("", title="Source", description="Where they come from.")
    levels: tuple[float, ...] = Field((), title="Ranges", description="Levels of the bounds.")
    forecasts: dict[str, SeriesForecasts] = Field(default_factory=dict, description="By series.")

    @model_validator(mode="after")
    def _bounded(self) -> Self:
        if any(len(each.lower) != len(self.levels) for each in self.forecasts.values()):
            raise ValueError("every series has bounds of every level")
        return self

    def learn(self, known: Panel, work: Work) -> ForecasterState:
        """Nothing."""
        return ForecasterState(known.keys)

    def declined(self, state: ForecasterState) -> dict[str, str]:
        """Series that nothing was brought for."""
        return {key: "No forecast of it was brought." for key in state.keys if key not in self.forecasts}

    def unsuited(self, known: Panel) -> str | None:
        """Why there is nothing to look up, for a panel of one series."""
        return None if known.keys[0] in self.forecasts else "No forecast of it was brought."

    def means(self, state: ForecasterState, panel: Panel, origins: Ints, horizon: int) -> Floats:
        """Forecasts (n_series, n_origins, horizon), each the latest one made by its origin."""
        return self._looked_up(panel, origins, horizon)[:, 0]

    def ranges(
        self, state: ForecasterState, panel: Panel, origins: Ints, horizon: int, levels: Sequence[float]
    ) -> Floats:
        """Bounds that were brought (n_levels, 2, n_series, n_origins, horizon); NaN at other levels."""
        found = self._looked_up(panel, origins, horizon)
        out = np.full((len(levels), 2, len(panel), len(origins), horizon), np.nan)
        for place, level in enumerate(self.levels):
            for at in [at for at, wanted in enumerate(levels) if abs(wanted - level) < 1e-9]:
                out[at, 0], out[at, 1] = found[:, 1 + place], found[:, 1 + len(self.levels) + place]
        return out

    def _looked_up(self, panel: Panel, origins: Ints, horizon: int) -> Floats:
        """(n_series, 1 + 2 n_levels, n_origins, horizon)."""
        out = np.full((len(panel), 1 + 2 * len(self.levels), len(origins), horizon), np.nan)
        positions = origins[:, None] + np.arange(horizon)
        known = np.broadcast_to(origins[:, None], positions.shape)
        for place, key in enumerate(panel.keys):
            if key in self.forecasts:
                out[place] = self.forecasts[key].at(positions, known)
        return out

    def summary(self, state: ForecasterState, key: str) -> str:
        """What was brought, in one sentence."""
        mine = self.forecasts.get(key)
        many = 0 if mine is None else len(mine.values)
        said = "as of their origins" if mine is not None and any(mine.made) else "of unsaid origin"
        return (
            f"{many:,} forecasts {said}{f' from {self.source}' if self.source else ''}; nothing proves what they knew."
        )
