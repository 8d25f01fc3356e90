"""What every stage of a chain is: settings that learn a state from the past and can be undone."""

from abc import abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np

from proteron.core.documents import Settings
from proteron.core.errors import TooShortError
from proteron.core.panel import Floats
from proteron.core.timeline import Ints, TimeAxis


@dataclass(frozen=True)
class StageState:
    """What a stage learned from one series: named arrays, and notes for people."""

    arrays: Mapping[str, Floats | np.float64] = field(default_factory=dict)
    notes: tuple[str, ...] = ()

    def number(self, name: str) -> float:
        return float(self.arrays[name])

    def array(self, name: str) -> Floats:
        return np.asarray(self.arrays[name], dtype=np.float64)

    def document(self) -> dict[str, Any]:
        arrays = {name: np.asarray(array).tolist() for name, array in self.arrays.items()}
        return {"arrays": arrays, "notes": list(self.notes)}

    @classmethod
    def from_document(cls, document: dict[str, Any]) -> "StageState":
        arrays = {name: np.asarray(values, dtype=np.float64) for name, values in document["arrays"].items()}
        return cls(arrays, tuple(document["notes"]))


class Stage(Settings):
    """One reversible step of a chain.

    `fit` sees known points only: `values` (n_known,) at grid `positions` (n_known,). `apply` and
    `undo` map arrays of any shape, `positions` broadcasting against them, also beyond the cutoff.
    """

    title: ClassVar[str]
    version: ClassVar[int] = 1
    needs: ClassVar[int] = 1  # known, non-missing points

    @abstractmethod
    def fit(self, values: Floats, positions: Ints, axis: TimeAxis) -> StageState: ...

    @abstractmethod
    def apply(self, state: StageState, values: Floats, positions: Ints, axis: TimeAxis) -> Floats: ...

    @abstractmethod
    def undo(self, state: StageState, values: Floats, positions: Ints, axis: TimeAxis) -> Floats: ...

    def undo_ahead(
        self, state: StageState, flat: Floats, origins: Ints, first: int, inputs: Floats, axis: TimeAxis
    ) -> Floats:
        """Map forecasts back: `flat` (…, n_origins, horizon), `origins` (n_origins,) known grid counts.

        `inputs` (n_points,) is what entered this stage from grid position `first` on; only points
        before each origin may be read.
        """
        ahead = origins[:, None] + np.arange(flat.shape[-1])
        return self.undo(state, flat, ahead, axis)

    def removed(self, state: StageState, positions: Ints, axis: TimeAxis) -> Floats | None:
        """The additive part this stage takes out at `positions`, None where there is no such thing."""
        return None


def require(values: Floats, count: int, title: str) -> None:
    """Raise `TooShortError` unless `count` values are not missing."""
    present = int(np.isfinite(values).sum())
    if present < count:
        raise TooShortError(f"{title} needs {count} known points; {present} are known.", field="until")
