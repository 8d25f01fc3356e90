"""Holidays and other occasions around the first target; they are known ahead."""

from typing import Literal

import numpy as np
from pydantic import Field

from proteron.core.panel import Floats
from proteron.core.windows.feature import PLAIN, Feature, Rows, Unit


class OccasionNear(Feature):
    """Whether the first target lies in an occasion, steps until the next one, and steps since the last one.

    Steps are at most `reach`; without a name all occasions count.
    """

    kind: Literal["occasion"] = "occasion"
    name: str | None = Field(None, title="Occasion", description="Nothing: any.")
    reach: int = Field(24, ge=1, title="Reach", description="The farthest that is told apart.")

    @property
    def names(self) -> tuple[str, ...]:
        """Names of the columns this writes."""
        name = self.name or "occasion"
        return (f"in {name}", f"until {name}", f"since {name}")

    @property
    def units(self) -> tuple[Unit, ...]:
        """How each column follows its series when values are centred and scaled."""
        return (PLAIN,) * len(self.names)

    def source_of(self, column: int) -> tuple[int, int]:
        """First and last step relative to the origin that one column reads."""
        return ((1, 1), (1, 1 + self.reach), (1 - self.reach, 1))[column]

    def write(self, out: Floats, rows: Rows) -> None:
        """Fill `out` (n_rows, n_columns) for the given rows; missing cells become NaN."""
        at = rows.positions + rows.first_ahead
        chosen = [each for each in rows.panel.occasions if self.name in (None, each.name)]
        out[:, 0], out[:, 1], out[:, 2] = 0.0, self.reach, self.reach
        for each in chosen:
            inside = (at >= each.start) & (at < each.stop)
            out[inside] = (1.0, 0.0, 0.0)
            out[:, 1] = np.minimum(out[:, 1], np.where(at < each.start, each.start - at, self.reach))
            out[:, 2] = np.minimum(out[:, 2], np.where(at >= each.stop, at - each.stop + 1, self.reach))
