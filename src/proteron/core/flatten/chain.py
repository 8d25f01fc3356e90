"""Chain: an ordered list of reversible stages, fitted on the past of the cutoff only."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import Field, ValidationError

from proteron.core.documents import Settings, settings_error
from proteron.core.errors import InputError, ProteronError
from proteron.core.flatten.linear_trend import LinearTrend
from proteron.core.flatten.log import Log
from proteron.core.flatten.period_means import PeriodMeans
from proteron.core.flatten.seasonal_difference import SeasonalDifference
from proteron.core.flatten.stage import Stage, StageState
from proteron.core.flatten.z_score import ZScore
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints, Moment, TimeAxis

STAGES: tuple[type[Stage], ...] = (Log, LinearTrend, PeriodMeans, SeasonalDifference, ZScore)
AnyStage = Annotated[
    Log | LinearTrend | PeriodMeans | SeasonalDifference | ZScore, Field(discriminator="kind")
]  # one line per stage file


class Chain(Settings):
    """Ordered stages; `Chain([])` leaves everything as it is."""

    schema_version: Literal[1] = 1
    stages: tuple[AnyStage, ...] = ()

    def __init__(self, stages: Sequence[Any] = (), **rest: Any) -> None:
        try:
            super().__init__(**{"stages": tuple(stages), **rest})
        except ValidationError as error:
            raise settings_error(error) from error

    def document(self) -> dict[str, Any]:
        document = super().document()
        for entry, stage in zip(document["stages"], self.stages, strict=True):
            entry["version"] = stage.version
        return document

    @classmethod
    def from_document(cls, document: dict[str, Any]) -> "Chain":
        """Read a stored or posted chain; stage versions are checked, not trusted."""
        stages = []
        for entry in document.get("stages", ()):
            if not isinstance(entry, dict):
                raise InputError("A stage is an object with a “kind”.", field="stages")
            stages.append({name: value for name, value in entry.items() if name != "version"})
        return cls(stages)

    @property
    def text(self) -> str:
        return " · ".join(stage.title for stage in self.stages) or "none"

    def fit(self, panel: Panel, until: Moment | None = None) -> "FittedChain":
        """Learn every stage of every series from the points known at `until`.

        Raises a `ProteronError` naming the series and the stage that cannot be fitted.
        """
        known = panel.cut_at(until).learnable()
        states = []
        for index, key in enumerate(panel.keys):
            values, positions = known.series(index), known.positions(index)
            of_series = []
            for stage in self.stages:
                try:
                    state = stage.fit(values, positions, panel.axis)
                except ProteronError as error:
                    raise type(error)(f"{key}: {error.message}", field=error.field) from error
                of_series.append(state)
                values = stage.apply(state, values, positions, panel.axis)
            states.append(tuple(of_series))
        return FittedChain(self, panel.axis, panel.keys, panel.known(until), tuple(states))


@dataclass(frozen=True)
class FittedChain:
    """A chain with what it learned per series as of `until` (known grid positions)."""

    chain: Chain
    axis: TimeAxis
    keys: tuple[str, ...]
    until: int
    states: tuple[tuple[StageState, ...], ...]

    @cached_property
    def _row(self) -> dict[str, int]:
        return {key: row for row, key in enumerate(self.keys)}

    def states_of(self, key: str) -> tuple[StageState, ...]:
        if key not in self._row:
            raise InputError(f"The chain was not fitted on a series “{key}”.", field="series")
        return self.states[self._row[key]]

    def lanes(self, panel: Panel, index: int) -> list[Floats]:
        """One series before the first and after every stage: len(stages) + 1 arrays of (n_points,)."""
        lanes = [panel.series(index)]
        positions = panel.positions(index)
        for stage, state in zip(self.chain.stages, self.states_of(panel.keys[index]), strict=True):
            lanes.append(stage.apply(state, lanes[-1], positions, panel.axis))
        return lanes

    def apply(self, panel: Panel) -> Panel:
        """Flatten every point of `panel`, also beyond `until`, with the learned and projected parts."""
        if not self.chain.stages:
            return panel
        return panel.with_values(np.concatenate([self.lanes(panel, i)[-1] for i in range(len(panel))]))

    def undo(self, panel: Panel) -> Panel:
        """The inverse of `apply`: original units from a flat panel with the same times."""
        restored = []
        for index, key in enumerate(panel.keys):
            values, positions = panel.series(index), panel.positions(index)
            steps = zip(self.chain.stages, self.states_of(key), strict=True)
            for stage, state in reversed(list(steps)):
                values = stage.undo(state, values, positions, panel.axis)
            restored.append(values)
        return panel.with_values(np.concatenate(restored))

    def undo_ahead(self, key: str, flat: Floats, origins: Ints, first: int, lanes: list[Floats]) -> Floats:
        """Forecasts back to original units.

        `flat` (…, n_origins, horizon) starts right after each of `origins` (n_origins,), known grid
        counts; `lanes` are the series' `lanes(...)`, whose first point stands at grid `first`.
        """
        values = flat
        steps = list(zip(self.chain.stages, self.states_of(key), lanes, strict=False))
        for stage, state, entered in reversed(steps):
            values = stage.undo_ahead(state, values, origins, first, entered, self.axis)
        return values

    def document(self) -> dict[str, Any]:
        return {
            "chain": self.chain.document(),
            "until": self.until,
            "keys": list(self.keys),
            "states": [[state.document() for state in of_series] for of_series in self.states],
        }

    @classmethod
    def from_document(cls, document: dict[str, Any], axis: TimeAxis) -> "FittedChain":
        states = tuple(tuple(StageState.from_document(state) for state in each) for each in document["states"])
        chain = Chain.from_document(document["chain"])
        return cls(chain, axis, tuple(document["keys"]), int(document["until"]), states)
