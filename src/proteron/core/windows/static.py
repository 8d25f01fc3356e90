"""Static covariates: a number or category per series."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.errors import SettingsError
from proteron.core.panel import Floats
from proteron.core.windows.feature import PLAIN, Feature, Rows, Unit


class Static(Feature):
    """A static column as its number, as one column per category, or as what its category has shown so far.

    target: the mean of all values known by the origin of series with the same category, drawn towards the
    mean of all series as if `doubt` more points had shown that; nothing after the origin is read.
    """

    whole_past: ClassVar[bool] = True
    kind: Literal["static"] = "static"
    column: str = Field(title="Covariate")
    form: Literal["number", "one_hot", "target"] = Field("number", title="Form")
    labels: tuple[str, ...] = Field((), title="Categories", description="For one_hot: those that get a column.")
    doubt: float = Field(20.0, ge=0, title="Doubt", description="For target: points at the overall mean added.")

    @property
    def names(self) -> tuple[str, ...]:
        """Names of the columns this writes."""
        if self.form == "one_hot":
            return tuple(f"{self.column} is {label}" for label in self.labels)
        return (self.column if self.form == "number" else f"{self.column} so far",)

    @property
    def units(self) -> tuple[Unit, ...]:
        """How each column follows its series when values are centred and scaled."""
        return (Unit(as_scaled=True),) if self.form == "target" else (PLAIN,) * len(self.names)

    @property
    def columns(self) -> tuple[str, ...]:
        """Covariates that are read."""
        return (self.column,)

    def source_of(self, column: int) -> tuple[int, int]:
        """First and last step relative to the origin that one column reads."""
        return (0, 0) if self.form != "target" else (-(2**31), 0)

    @property
    def pooled(self) -> bool:
        """Whether a row reads other series than its own."""
        return self.form == "target"

    def write(self, out: Floats, rows: Rows) -> None:
        """Fill `out` (n_rows, n_columns) for the given rows; missing cells become NaN."""
        covariate = rows.panel.covariate(self.column)
        if covariate.role != "static":
            raise SettingsError(f"“{self.column}” changes in time: use its steps instead.", field="more")
        starts = covariate.offsets[:-1]
        empty = np.diff(covariate.offsets) == 0
        of_series = np.where(empty, np.nan, covariate.values[np.minimum(starts, len(covariate.values) - 1)])
        if self.form == "number":
            out[:, 0] = of_series[rows.series]
        elif self.form == "one_hot":
            unknown = [label for label in self.labels if label not in covariate.labels]
            if not self.labels or unknown:
                known = ", ".join(covariate.labels) or "none"
                raise SettingsError(f"“{self.column}” has these categories: {known}.", field="more")
            for column, label in enumerate(self.labels):
                out[:, column] = (of_series == covariate.labels.index(label))[rows.series]
        else:
            out[:, 0] = self._so_far(of_series, rows)

    def _so_far(self, of_series: Floats, rows: Rows) -> Floats:
        panel = rows.panel
        first, size = int(panel.starts.min()), panel.end - int(panel.starts.min())
        groups, group_of = np.unique(np.nan_to_num(of_series, nan=-1.0), return_inverse=True)
        sums, counts = np.zeros((len(groups), size)), np.zeros((len(groups), size))
        for index in range(len(panel)):
            values = panel.series(index)
            at = int(panel.starts[index]) - first
            present = np.isfinite(values)
            sums[group_of[index], at : at + len(values)] += np.where(present, values, 0.0)
            counts[group_of[index], at : at + len(values)] += present
        sums, counts = sums.cumsum(axis=1), counts.cumsum(axis=1)
        overall = sums.sum(axis=0) / np.maximum(counts.sum(axis=0), 1)
        shown = (sums + self.doubt * overall) / np.maximum(counts + self.doubt, 1e-12)
        return shown[group_of[rows.series], rows.positions - first]
