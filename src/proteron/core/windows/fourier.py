"""Sines and cosines of any period at the first target."""

from typing import Literal

import numpy as np
from pydantic import Field

from proteron.core.panel import Floats
from proteron.core.windows.feature import PLAIN, Feature, Rows, Unit


class Fourier(Feature):
    """`order` waves of a period counted in steps of the grid, fractions allowed."""

    kind: Literal["fourier"] = "fourier"
    period: float = Field(ge=2, title="Period", description="Steps in a cycle.")
    order: int = Field(1, ge=1, le=50, title="Waves")

    @property
    def names(self) -> tuple[str, ...]:
        """Names of the columns this writes."""
        waves = range(1, self.order + 1)
        return tuple(f"wave {k} of {self.period:g} {part}" for k in waves for part in ("sin", "cos"))

    @property
    def units(self) -> tuple[Unit, ...]:
        """How each column follows its series when values are centred and scaled."""
        return (PLAIN,) * len(self.names)

    def source_of(self, column: int) -> tuple[int, int]:
        """First and last step relative to the origin that one column reads."""
        return (1, 1)

    def write(self, out: Floats, rows: Rows) -> None:
        """Fill `out` (n_rows, n_columns) for the given rows; missing cells become NaN."""
        turns = (rows.positions + rows.first_ahead) / self.period
        for k in range(1, self.order + 1):
            out[:, 2 * k - 2] = np.sin(2 * np.pi * k * turns)
            out[:, 2 * k - 1] = np.cos(2 * np.pi * k * turns)
