"""The supervised table: rows with their origins, and what was left out of it."""

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, Protocol

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from proteron.core.compiled import kernel
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Instants, Ints

REASONS = ("look-back before the series", "horizon beyond the series", "masked", "missing target", "missing feature")


@kernel
def keep_rows(cells: Floats, keep: NDArray[np.bool_]) -> int:
    """Move the rows to keep to the front, in place; returns how many they are."""
    count = 0
    for row in range(len(cells)):
        if keep[row]:
            if count < row:
                for column in range(cells.shape[1]):
                    cells[count, column] = cells[row, column]
            count += 1
    return count


class Plan(Protocol):
    """What a table keeps of the plan it was cut by."""

    @property
    def horizon(self) -> tuple[int, ...]:
        """Steps after the origin, one target each."""


@dataclass(frozen=True)
class Table:
    """A supervised table: one row per origin.

    `features` (n_rows, n_features), `targets` (n_rows, n_horizons), `positions` (n_rows,) the grid
    position of each origin, `series` (n_rows,) the index of its series, `weights` (n_rows,) what the row
    weighs; `left_out` gives, by reason, how many rows of each series (n_series,) were left out.
    """

    panel: Panel
    plan: Plan
    features: Floats
    targets: Floats
    positions: Ints
    series: Ints
    names: tuple[str, ...]
    target_names: tuple[str, ...]
    weights: Floats
    left_out: dict[str, Ints]

    @property
    def dropped(self) -> dict[str, int]:
        """Rows left out by reason, of all series together."""
        return {reason: int(counts.sum()) for reason, counts in self.left_out.items()}

    @property
    def incomplete(self) -> int:
        """Rows left out because something in them is missing or masked."""
        return sum(self.dropped.get(reason, 0) for reason in REASONS[2:])

    @cached_property
    def origins(self) -> Instants:
        """UTC instants of the origins, (n_rows,)."""
        return self.panel.axis.times(self.positions)

    @property
    def keys(self) -> NDArray[Any]:
        """Key of each row's series, (n_rows,)."""
        return np.array(self.panel.keys, dtype=object)[self.series]

    def __len__(self) -> int:
        return len(self.positions)

    def between(self, start: int, stop: int) -> "Table":
        """The rows whose origins lie at grid positions `start` ≤ p < `stop`."""
        inside = (self.positions >= start) & (self.positions < stop)
        if inside.all():
            return self
        names = ("features", "targets", "positions", "series", "weights")
        return replace(self, **{name: getattr(self, name)[inside] for name in names})

    def to_arrow(self) -> pa.Table:
        """The table as Arrow columns: origin, key, features, targets."""
        columns: dict[str, Any] = {
            "origin": pa.array(self.origins, type=pa.timestamp("s", tz="UTC")),
            "key": pa.DictionaryArray.from_arrays(pa.array(self.series.astype(np.int32)), pa.array(self.panel.keys)),
        }
        for names, cells in ((self.names, self.features), (self.target_names, self.targets)):
            columns |= {name: pa.array(cells[:, column]) for column, name in enumerate(names)}
        return pa.table(columns)

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        return self.to_arrow().__arrow_c_stream__(requested_schema)


@dataclass(frozen=True)
class LeftOut:
    """Rows that a plan leaves out, in the order of series and time; all arrays are (n_rows,).

    `reasons` is a place in `REASONS`, `columns` the first column that is missing, features before targets,
    or -1 where the reason is not a missing cell.
    """

    positions: Ints
    series: Ints
    reasons: Ints
    columns: Ints
    names: tuple[str, ...]

    def why(self, row: int) -> str:
        """The reason of one row, and which cell it was."""
        column = int(self.columns[row])
        return REASONS[self.reasons[row]] + (f": {self.names[column]}" if column >= 0 else "")
