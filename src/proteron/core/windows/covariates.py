"""Covariates at steps around the origin: observed ones up to it, known-ahead ones beyond it."""

from typing import Literal

from pydantic import Field

from proteron.core.errors import SettingsError
from proteron.core.panel import Floats
from proteron.core.windows.feature import PLAIN, Feature, Rows, Unit


class CovariateSteps(Feature):
    """A covariate's values at chosen steps relative to the origin (0 is the origin, -1 one before)."""

    kind: Literal["covariate"] = "covariate"
    column: str = Field(title="Covariate")
    at: tuple[int, ...] = Field(title="Steps", description="0 is the origin; positive only if known ahead.")

    @property
    def names(self) -> tuple[str, ...]:
        """Names of the columns this writes."""
        return tuple(f"{self.column} {step:+d}" if step else f"{self.column} 0" for step in self.at)

    @property
    def units(self) -> tuple[Unit, ...]:
        """How each column follows its series when values are centred and scaled."""
        return (PLAIN,) * len(self.names)

    @property
    def look_back(self) -> int:
        """Points up to and including the origin that are read."""
        return max((1 - step for step in self.at), default=0)

    @property
    def columns(self) -> tuple[str, ...]:
        """Covariates that are read."""
        return (self.column,)

    def source_of(self, column: int) -> tuple[int, int]:
        """First and last step relative to the origin that one column reads."""
        return (self.at[column], self.at[column])

    def write(self, out: Floats, rows: Rows) -> None:
        """Fill `out` (n_rows, n_columns) for the given rows; missing cells become NaN."""
        covariate = rows.panel.covariate(self.column)
        if covariate.role == "observed" and max(self.at, default=0) > 0:
            raise SettingsError(
                f"“{self.column}” is only observed: it is not known beyond the origin.", field="covariates"
            )
        local = rows.points - rows.panel.offsets[rows.series]
        stop = covariate.offsets[rows.series + 1]
        for column, step in enumerate(self.at):
            points = covariate.offsets[rows.series] + local + step
            inside = (points < stop) & (local + step >= 0)
            out[:, column] = covariate.values[points.clip(0, len(covariate.values) - 1)]
            out[~inside, column] = float("nan")
