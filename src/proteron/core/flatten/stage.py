"""What every stage of a chain is: settings that learn a state from the past and can be undone."""

from abc import abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar, Literal, Self

import numpy as np
from pydantic import Field

from proteron.core.documents import Versioned
from proteron.core.errors import SettingsError, TooShortError
from proteron.core.panel import Floats, Occasion
from proteron.core.timeline import Ints, TimeAxis

Group = Literal["transform", "trend", "season", "difference", "scale"]


@dataclass(frozen=True)
class Calendar:
    """What a stage may read besides values, all of it known ahead: the grid and the named occasions."""

    axis: TimeAxis
    occasions: tuple[Occasion, ...] = ()


@dataclass(frozen=True)
class StageState:
    """What a stage learned from one series: named arrays, and notes for people."""

    arrays: Mapping[str, Floats | np.float64] = field(default_factory=dict)
    notes: tuple[str, ...] = ()

    def number(self, name: str) -> float:
        """A learned number by its name."""
        return float(self.arrays[name])

    def array(self, name: str) -> Floats:
        """A learned array by its name."""
        return np.asarray(self.arrays[name], dtype=np.float64)

    def document(self) -> dict[str, Any]:
        """As plain data."""
        arrays = {name: np.asarray(array).tolist() for name, array in self.arrays.items()}
        return {"arrays": arrays, "notes": list(self.notes)}

    @classmethod
    def from_document(cls, document: dict[str, Any]) -> "StageState":
        """Read what `document` wrote."""
        arrays = {name: np.asarray(values, dtype=np.float64) for name, values in document["arrays"].items()}
        return cls(arrays, tuple(document["notes"]))


@dataclass(frozen=True)
class Figure:
    """Something learned that is best drawn: a season's figure, a likelihood curve, a scale per year."""

    title: str
    labels: tuple[str, ...]
    values: tuple[float, ...]
    kind: Literal["bars", "curve"] = "bars"


class Stage(Versioned):
    """One reversible step of a chain.

    `fit` sees known points only: `values` (n_known,) at grid `positions` (n_known,). `apply` and
    `undo` map arrays of any shape, `positions` broadcasting against them, also beyond the cutoff.
    """

    title: ClassVar[str]
    group: ClassVar[Group]
    needs: ClassVar[int] = 1  # known, non-missing points
    from_start: ClassVar[bool] = False  # reads a series from the very point on that learning began at
    bends: ClassVar[bool] = False  # a trend that can follow a season
    shareable: ClassVar[bool] = True  # whether what it learned can hold for all series
    off: bool = Field(False, title="Switched off", description="Kept in the chain, but values pass unchanged.")
    shared: bool = Field(
        False, title="Shared by all series", description="Use the median of what the series taught for every one."
    )

    @abstractmethod
    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState: ...

    @abstractmethod
    def apply(self, state: StageState, values: Floats, positions: Ints, calendar: Calendar) -> Floats: ...

    @abstractmethod
    def undo(self, state: StageState, values: Floats, positions: Ints, calendar: Calendar) -> Floats: ...

    def undo_ahead(
        self, state: StageState, flat: Floats, origins: Ints, first: int, inputs: Floats, calendar: Calendar
    ) -> Floats:
        """Map forecasts back: `flat` (…, n_origins, horizon), `origins` (n_origins,) known grid counts.

        `inputs` (n_points,) is what entered this stage from grid position `first` on; only points
        before each origin may be read.
        """
        ahead = origins[:, None] + np.arange(flat.shape[-1])
        return self.undo(state, flat, ahead, calendar)

    def undo_forecast(self, state: StageState, values: Floats, calendar: Calendar) -> Floats:
        """As `undo`, of forecast values of any shape whose place on the grid has no say."""
        return self.undo(state, values, np.zeros(1, dtype=np.int64), calendar)

    def parts(self, state: StageState, positions: Ints, calendar: Calendar) -> dict[str, Floats]:
        """The additive parts this stage takes out at `positions`, by name; empty where there are none."""
        return {}

    def facts(self, state: StageState) -> dict[str, float]:
        """What it learned as single numbers, by name."""
        return {name: float(array) for name, array in state.arrays.items() if np.ndim(array) == 0}

    def figures(self, state: StageState, calendar: Calendar) -> list[Figure]:
        """What it learned as pictures."""
        return []

    def twin(self) -> Self | None:
        """The same stage, robust where this one is plain and plain where it is robust; None without a choice."""
        for name, plain, robust in (("robust", False, True), ("method", "least_squares", "tukey"),
                                    ("statistic", "mean", "median")):  # fmt: skip
            if name in type(self).model_fields:
                return self.model_copy(update={name: robust if getattr(self, name) == plain else plain})
        return None

    def share(self, states: Sequence[StageState]) -> StageState:
        """One state for all series: the median of what each taught."""
        if not self.shareable or len({tuple(np.shape(a) for a in state.arrays.values()) for state in states}) > 1:
            raise SettingsError(f"{self.title} follows each series' own past and cannot be shared.", field="shared")
        names = states[0].arrays
        return StageState(
            {name: np.asarray(np.median([state.arrays[name] for state in states], axis=0)) for name in names},
            ("the median of what the series taught",),
        )


class AdditiveStage(Stage):
    """A stage that takes out a sum of parts which depend on the position only."""

    @abstractmethod
    def parts(self, state: StageState, positions: Ints, calendar: Calendar) -> dict[str, Floats]: ...

    def removed(self, state: StageState, positions: Ints, calendar: Calendar) -> Floats:
        """The sum of what is taken out at `positions`."""
        return np.asarray(sum(self.parts(state, positions, calendar).values()), dtype=np.float64)

    def apply(self, state: StageState, values: Floats, positions: Ints, calendar: Calendar) -> Floats:
        """Flatten `values` at `positions`, also beyond the cutoff; any shape."""
        return values - self.removed(state, positions, calendar)

    def undo(self, state: StageState, values: Floats, positions: Ints, calendar: Calendar) -> Floats:
        """Original units from flat `values` at `positions`; the inverse of `apply`."""
        return values + self.removed(state, positions, calendar)


class ScalingStage(Stage):
    """A stage that subtracts a centre and divides by a spread."""

    group: ClassVar[Group] = "scale"

    def apply(self, state: StageState, values: Floats, positions: Ints, calendar: Calendar) -> Floats:
        """Flatten `values` at `positions`, also beyond the cutoff; any shape."""
        return (values - state.number("centre")) / state.number("spread")

    def undo(self, state: StageState, values: Floats, positions: Ints, calendar: Calendar) -> Floats:
        """Original units from flat `values` at `positions`; the inverse of `apply`."""
        return values * state.number("spread") + state.number("centre")


def scaled_by(centre: float, spread: float) -> StageState:
    """The state of a scaling stage; a spread of nothing only centres, and says so."""
    if not spread > 1e-12 * max(abs(centre), 1e-300):
        return StageState({"centre": np.float64(centre), "spread": np.float64(1.0)}, ("constant so far: only centred",))
    return StageState({"centre": np.float64(centre), "spread": np.float64(spread)})


def require(values: Floats, count: int, title: str) -> None:
    """Raise `TooShortError` unless `count` values are not missing."""
    present = int(np.isfinite(values).sum())
    if present < count:
        raise TooShortError(f"{title} needs {count} known points; {present} are known.", field="until")
