"""Statistics of everything a series has shown up to the origin."""

from itertools import pairwise
from typing import ClassVar, Literal

import numpy as np
from pydantic import Field, model_validator

from proteron.core.panel import Floats
from proteron.core.windows.feature import PLAIN, SPREAD, VALUE, Feature, Rows, Unit
from proteron.core.windows.rolling_kernels import steps_since, weighted_means, weighted_moments


class Weighted(Feature):
    """Exponentially weighted mean or standard deviation of the past; a point `half_life` steps back weighs half."""

    whole_past: ClassVar[bool] = True
    kind: Literal["weighted"] = "weighted"
    statistic: Literal["mean", "std"] = Field("mean", title="Statistic")
    half_life: float = Field(12.0, gt=0, title="Half-life", description="Steps.")

    @property
    def names(self) -> tuple[str, ...]:
        """Names of the columns this writes."""
        return (f"weighted {self.statistic} {self.half_life:g}",)

    @property
    def units(self) -> tuple[Unit, ...]:
        """How each column follows its series when values are centred and scaled."""
        return (VALUE if self.statistic == "mean" else SPREAD,)

    @property
    def look_back(self) -> int:
        """Points up to and including the origin that are read."""
        return 1

    def source_of(self, column: int) -> tuple[int, int]:
        """First and last step relative to the origin that one column reads."""
        return (-int(np.ceil(7 * self.half_life)), 0)  # older points weigh less than one in a hundred

    def write(self, out: Floats, rows: Rows) -> None:
        """Fill `out` (n_rows, n_columns) for the given rows; missing cells become NaN."""
        keep = 0.5 ** (1 / self.half_life)
        values, offsets = rows.panel.values, rows.panel.offsets
        if self.statistic == "mean":
            means = rows.once(("weighted mean", keep), lambda: weighted_means(values, offsets, keep))
            out[:, 0] = means[rows.points]
        else:
            _, variances = rows.once(("weighted", keep), lambda: weighted_moments(values, offsets, keep))
            out[:, 0] = np.sqrt(variances[rows.points])


class Expanding(Feature):
    """Mean, standard deviation, smallest, largest or number of all known points up to the origin."""

    whole_past: ClassVar[bool] = True
    kind: Literal["expanding"] = "expanding"
    statistic: Literal["mean", "std", "min", "max", "count"] = Field("mean", title="Statistic")

    @property
    def names(self) -> tuple[str, ...]:
        """Names of the columns this writes."""
        return (f"{self.statistic} so far",)

    @property
    def units(self) -> tuple[Unit, ...]:
        """How each column follows its series when values are centred and scaled."""
        return ({"count": PLAIN, "std": SPREAD}.get(self.statistic, VALUE),)

    @property
    def look_back(self) -> int:
        """Points up to and including the origin that are read."""
        return 1

    def source_of(self, column: int) -> tuple[int, int]:
        """First and last step relative to the origin that one column reads."""
        return (-(2**31), 0)

    def write(self, out: Floats, rows: Rows) -> None:
        """Fill `out` (n_rows, n_columns) for the given rows; missing cells become NaN."""
        out[:, 0] = self._whole(rows)[rows.points]

    def _whole(self, rows: Rows) -> Floats:
        values, offsets = rows.panel.values, rows.panel.offsets
        if self.statistic in ("mean", "std"):
            means, variances = rows.once(("weighted", 1.0), lambda: weighted_moments(values, offsets, 1.0))
            return np.asarray(means if self.statistic == "mean" else np.sqrt(variances))
        whole = np.empty(len(values))
        for start, stop in pairwise(offsets.tolist()):
            of_series = values[start:stop]
            if self.statistic == "count":
                whole[start:stop] = np.cumsum(np.isfinite(of_series))
                continue
            worst = np.inf if self.statistic == "min" else -np.inf
            along = np.minimum.accumulate if self.statistic == "min" else np.maximum.accumulate
            found = along(np.where(np.isnan(of_series), worst, of_series))
            whole[start:stop] = np.where(np.isfinite(found), found, np.nan)
        return whole


class Since(Feature):
    """Steps since the last value that was not zero, or lay outside a band: 0 at the origin itself."""

    whole_past: ClassVar[bool] = True
    kind: Literal["since"] = "since"
    low: float = Field(0.0, title="From", description="Values from here …")
    high: float = Field(0.0, title="To", description="… to here count as nothing happening.")
    most: int = Field(1000, ge=1, title="At most", description="What is given when it was longer ago, or never.")

    @model_validator(mode="after")
    def _band_is_one(self) -> "Since":
        if self.low > self.high:
            raise ValueError("the band begins above its end")
        return self

    @property
    def names(self) -> tuple[str, ...]:
        """Names of the columns this writes."""
        band = "zero" if self.low == self.high == 0 else f"{self.low:g} … {self.high:g}"
        return (f"since not {band}",)

    @property
    def unit_bound(self) -> bool:
        """Whether it means something else once values are centred and scaled."""
        return True

    @property
    def units(self) -> tuple[Unit, ...]:
        """How each column follows its series when values are centred and scaled."""
        return (PLAIN,)

    @property
    def look_back(self) -> int:
        """Points up to and including the origin that are read."""
        return 1

    def source_of(self, column: int) -> tuple[int, int]:
        """First and last step relative to the origin that one column reads."""
        return (-self.most, 0)

    def write(self, out: Floats, rows: Rows) -> None:
        """Fill `out` (n_rows, n_columns) for the given rows; missing cells become NaN."""
        since = steps_since(rows.panel.values, rows.panel.offsets, self.low, self.high, self.most)
        out[:, 0] = since[rows.points]
