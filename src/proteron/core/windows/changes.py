"""Changes between two lags of the target: differences, ratios, returns."""

from typing import Literal

import numpy as np
from pydantic import Field

from proteron.core.panel import Floats
from proteron.core.windows.feature import PLAIN, SPREAD, Feature, Rows, Unit


class Change(Feature):
    """How the value at lag `lag` compares with the one `over` steps before it.

    difference: x - y; ratio: x / y, missing where y is zero; log: log x - log y, missing unless both are positive.
    """

    kind: Literal["change"] = "change"
    over: int = Field(1, ge=1, title="Over", description="Steps between the two values.")
    lag: int = Field(1, ge=1, title="Lag", description="The later value; 1 is the origin.")
    form: Literal["difference", "ratio", "log"] = Field("difference", title="Form")

    @property
    def names(self) -> tuple[str, ...]:
        """Names of the columns this writes."""
        return (f"{self.form} {self.lag} over {self.over}",)

    @property
    def unit_bound(self) -> bool:
        """Whether it means something else once values are centred and scaled."""
        return self.form != "difference"

    @property
    def may_be_missing(self) -> bool:
        """Whether a cell can be undefined although all it reads is known."""
        return self.form != "difference"

    @property
    def units(self) -> tuple[Unit, ...]:
        """How each column follows its series when values are centred and scaled."""
        return (SPREAD if self.form == "difference" else PLAIN,)

    @property
    def look_back(self) -> int:
        """Points up to and including the origin that are read."""
        return self.lag + self.over

    def source_of(self, column: int) -> tuple[int, int]:
        """First and last step relative to the origin that one column reads."""
        return (1 - self.lag - self.over, 1 - self.lag)

    def write(self, out: Floats, rows: Rows) -> None:
        """Fill `out` (n_rows, n_columns) for the given rows; missing cells become NaN."""
        later = rows.panel.values[rows.points + 1 - self.lag]
        earlier = rows.panel.values[rows.points + 1 - self.lag - self.over]
        if self.form == "difference":
            out[:, 0] = later - earlier
        else:
            usable = earlier != 0 if self.form == "ratio" else (later > 0) & (earlier > 0)
            with np.errstate(over="ignore"):
                quotient = np.where(usable, later, np.nan) / np.where(usable, earlier, 1.0)
            quotient = np.where(np.isinf(quotient), np.nan, quotient)
            if self.form == "log":
                quotient = np.log(quotient, where=quotient > 0, out=np.full_like(quotient, np.nan))
            out[:, 0] = quotient
