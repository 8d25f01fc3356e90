"""Chain: an ordered list of reversible stages, fitted on the past of the cutoff only."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import takewhile
from typing import Any, Literal

import numpy as np
from pydantic import Field, ValidationError

from proteron.core.documents import Settings, content_hash, settings_error
from proteron.core.errors import InputError, ProteronError
from proteron.core.flatten.registry import AnyStage
from proteron.core.flatten.stage import Calendar, Stage, StageState
from proteron.core.panel import Floats, Occasion, Panel, require_panel
from proteron.core.timeline import Ints, Moment, TimeAxis


class Chain(Settings):
    """Ordered stages; `Chain([])` leaves everything as it is."""

    schema_version: Literal[1] = 1
    name: str = Field("", max_length=120)
    stages: tuple[AnyStage, ...] = ()
    bias_adjust: bool = Field(
        False, title="Bias adjustment",
        description="Forecast the mean of the restored distribution (smearing, Duan 1983) instead of its middle.",
    )  # fmt: skip

    def __init__(self, stages: Sequence[Any] = (), **rest: Any) -> None:
        try:
            super().__init__(**{"stages": tuple(stages), **rest})
        except ValidationError as error:
            raise settings_error(error) from error

    def document(self) -> dict[str, Any]:
        """As plain data."""
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
        rest = {name: document[name] for name in ("name", "bias_adjust") if name in document}
        return cls(stages, **rest)

    @property
    def active(self) -> tuple[AnyStage, ...]:
        """The stages that are switched on, in order."""
        return tuple(stage for stage in self.stages if not stage.off)

    @property
    def hash(self) -> str:
        """Of what the chain does; its name is not part of it."""
        document = self.document()
        del document["name"]
        return content_hash(document)

    @property
    def text(self) -> str:
        """The stages that are on, in words."""
        return " · ".join(stage.title for stage in self.active) or "none"

    def fit(self, panel: Panel, until: Moment | None = None) -> "FittedChain":
        """Learn every stage of every series from the points known at `until`.

        Raises a `ProteronError` naming the series and the stage that cannot be fitted.
        """
        require_panel(panel)
        known = panel.cut_at(until).learnable()
        calendar = Calendar(panel.axis, panel.occasions)
        lanes = [known.series(index) for index in range(len(known))]
        positions = [known.positions(index) for index in range(len(known))]
        learned: list[list[StageState]] = [[] for _ in lanes]
        entered: dict[str, list[Floats]] = {key: [] for key in known.keys}  # what each stage was given
        for place, stage in enumerate(self.active):
            states = []
            for key, values, at in zip(known.keys, lanes, positions, strict=True):
                try:
                    states.append(self._fit_stage(place, values, at, calendar, entered[key]))
                except ProteronError as error:
                    raise type(error)(f"{key}: {error.message}", field=error.field) from error
                entered[key].append(values)
            if stage.shared and len(states) > 1:
                states = [stage.share(states)] * len(states)
            for index, state in enumerate(states):
                learned[index].append(state)
                if place + 1 < len(self.active):
                    lanes[index] = stage.apply(state, lanes[index], positions[index], calendar)
        starts = tuple(known.starts.tolist())
        return FittedChain(self, calendar, panel.keys, panel.known(until), tuple(map(tuple, learned)), starts)

    def _fit_stage(
        self, place: int, values: Floats, positions: Ints, calendar: Calendar, entered: Sequence[Floats]
    ) -> StageState:  # fmt: skip
        """What a stage learns; a season says so where a trend before it has taken most of it."""
        stage = self.active[place]
        state = stage.fit(values, positions, calendar)
        before = next((at for at, each in enumerate(self.active[:place]) if each.bends), None)
        if stage.group != "season" or before is None:
            return state
        left = _swing(stage, state, positions, calendar)
        straight = entered[before] - _line(entered[before])
        try:
            whole = _swing(stage, stage.fit(straight, positions, calendar), positions, calendar)
        except ProteronError:  # such as a season of ratios, of values around zero
            return state
        if whole**2 < _SEASON_OF_NOTE * np.nanvar(straight) or left > _MOSTLY * whole:
            return state
        trend = self.active[before].title
        said = f"the {trend} before it has taken {1 - left / whole:.0%} of this season: put the season first"
        return replace(state, notes=(*state.notes, said))


_SEASON_OF_NOTE = 0.25  # of the variance around a straight line
_MOSTLY = 0.6


def _line(values: Floats) -> Floats:
    """A straight line through the known of values (n,)."""
    at = np.arange(float(len(values)))
    known = np.isfinite(values)
    if known.sum() < 3:
        return np.zeros(len(values))
    return np.asarray(np.polynomial.Polynomial.fit(at[known], values[known], 1)(at))


def _swing(stage: Stage, state: StageState, positions: Ints, calendar: Calendar) -> float:
    """Standard deviation of the season that a stage takes out."""
    parts = [part for name, part in stage.parts(state, positions, calendar).items() if name not in ("trend", "level")]
    return float(np.nanstd(sum(parts))) if parts else 0.0


@dataclass(frozen=True)
class FittedChain:
    """A chain with what it learned per series as of `until` (known grid positions).

    `starts` are the grid positions of the first point of each series that was learned from; documents from before
    they were kept have none.
    """

    chain: Chain
    calendar: Calendar
    keys: tuple[str, ...]
    until: int
    states: tuple[tuple[StageState, ...], ...]
    starts: tuple[int, ...] = ()

    @cached_property
    def _row(self) -> dict[str, int]:
        return {key: row for row, key in enumerate(self.keys)}

    @property
    def axis(self) -> TimeAxis:
        """The axis that was learned on."""
        return self.calendar.axis

    @property
    def stages(self) -> tuple[AnyStage, ...]:
        """The stages that are on; states and lanes follow them."""
        return self.chain.active

    def states_of(self, key: str) -> tuple[StageState, ...]:
        """What was learned of one series, stage by stage; raises `InputError` for an unknown key."""
        if key not in self._row:
            raise InputError(f"The chain was not fitted on a series “{key}”.", field="series")
        return self.states[self._row[key]]

    def _placed(self, panel: Panel) -> Panel:
        """`panel` on the axis that was learned on; refused where a stage would read it from a wrong first point."""
        placed = panel.on_axis(self.axis)
        bound = next((stage for stage in self.stages if stage.from_start), None)
        if bound is None or not self.starts:
            return placed
        for key, start in zip(placed.keys, placed.starts.tolist(), strict=True):
            self.states_of(key)
            learned = self.starts[self._row[key]]
            if start != learned:
                here, there = (str(self.axis.local(np.array([at]))[0]).replace("T", " ") for at in (start, learned))
                raise InputError(
                    f"{key}: {bound.title} reads a series from the point on that it was learned from, {there}; "
                    f"this begins at {here}. Give the whole series, or fit the chain on it.",
                    field="start",
                )
        return placed

    def lanes(self, panel: Panel, index: int) -> list[Floats]:
        """One series before the first and after every stage that is on: n_stages + 1 arrays of (n_points,).

        A panel of other dates is placed on the axis that was learned on; raises `InputError` where it has another grid.
        """
        panel = self._placed(panel)
        lanes = [panel.series(index)]
        positions = panel.positions(index)
        for stage, state in zip(self.stages, self.states_of(panel.keys[index]), strict=True):
            lanes.append(stage.apply(state, lanes[-1], positions, self.calendar))
        return lanes

    def apply(self, panel: Panel) -> Panel:
        """Flatten every point of `panel`, also beyond `until`, with the learned and projected parts.

        A panel of other dates is placed on the axis that was learned on; raises `InputError` where it has another
        grid, or a series that was not learned.
        """
        if not self.stages:
            return panel
        return panel.with_values(np.concatenate([self.lanes(panel, i)[-1] for i in range(len(panel))]))

    def undo(self, panel: Panel) -> Panel:
        """The inverse of `apply`: original units from a flat panel with the same times."""
        placed, restored = self._placed(panel), []
        for index, key in enumerate(panel.keys):
            values, positions = placed.series(index), placed.positions(index)
            steps = zip(self.stages, self.states_of(key), strict=True)
            for stage, state in reversed(list(steps)):
                values = stage.undo(state, values, positions, self.calendar)
            restored.append(values)
        return panel.with_values(np.concatenate(restored))

    def undo_ahead(
        self, key: str, flat: Floats, origins: Ints, first: int, lanes: list[Floats], stages: int | None = None
    ) -> Floats:
        """Forecasts back to original units; from behind the first `stages` where that is said.

        `flat` (…, n_origins, horizon) starts right after each of `origins` (n_origins,), known grid
        counts; `lanes` are the series' `lanes(...)`, whose first point stands at grid `first`.
        """
        values = flat
        steps = list(zip(self.stages, self.states_of(key), lanes, strict=False))[:stages]
        for stage, state, entered in reversed(steps):
            values = stage.undo_ahead(state, values, origins, first, entered, self.calendar)
        return values

    def _transforms(self, key: str) -> list[tuple[AnyStage, StageState]]:
        """The transforms of single values that the chain begins with, and what they learned."""
        steps = zip(self.stages, self.states_of(key), strict=True)
        return list(takewhile(lambda step: step[0].group == "transform", steps))

    def transformed(self, key: str, values: Floats) -> Floats:
        """Values of any shape behind the transforms that the chain begins with; as they are where it has none."""
        for stage, state in self._transforms(key):
            values = stage.apply(state, values, np.zeros(1, dtype=np.int64), self.calendar)
        return values

    def untransformed(self, key: str, values: Floats) -> Floats:
        """The inverse of `transformed`, as of forecasts: never beyond what the transforms can take."""
        for stage, state in reversed(self._transforms(key)):
            values = stage.undo_forecast(state, values, self.calendar)
        return values

    def parts(self, key: str, at: Sequence[Moment] | Ints) -> dict[str, Floats]:
        """What the stages take out of one series at any moments, also after the last known one.

        `at` are n moments or grid positions; each part is (n,), named by its stage, in the units that stage works in.
        Stages that take out no parts, such as transforms, are not named. Raises `InputError` for an unknown series.
        """
        positions = np.array(list(map(self.axis.position_of, at)), dtype=np.int64)
        found = {}
        for stage, state in zip(self.stages, self.states_of(key), strict=True):
            for name, part in stage.parts(state, positions, self.calendar).items():
                found[f"{stage.title}: {name}"] = part
        return found

    def document(self) -> dict[str, Any]:
        """As plain data."""
        return {
            "axis": self.axis.document(),
            "chain": self.chain.document(),
            "until": self.until,
            "keys": list(self.keys),
            "starts": list(self.starts),
            "states": [[state.document() for state in of_series] for of_series in self.states],
        }

    @classmethod
    def from_document(
        cls, document: dict[str, Any], axis: TimeAxis, occasions: Sequence[Occasion] = ()
    ) -> "FittedChain":
        """Read a stored or exported fitted chain with the axis it was learned on.

        `axis` stands in for documents that name none; `occasions` are those of the panel it is used on, counted on
        `axis`. Raises `InputError` where the panel's grid is another one.
        """
        learned_on = TimeAxis.from_document(document["axis"]) if "axis" in document else axis
        shift = learned_on.shift_of(axis)
        occasions = tuple(replace(each, start=each.start + shift, stop=each.stop + shift) for each in occasions)
        states = tuple(tuple(StageState.from_document(state) for state in each) for each in document["states"])
        chain = Chain.from_document(document["chain"])
        return cls(chain, Calendar(learned_on, occasions), tuple(document["keys"]), int(document["until"]), states,
                   tuple(map(int, document.get("starts", ()))))  # fmt: skip
