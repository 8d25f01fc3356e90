"""Calendar position of the first target: on a circle, as a number, or one column per value."""

from typing import Literal

import numpy as np
from pydantic import Field

from proteron.core.panel import Floats
from proteron.core.timeline import CYCLES, CalendarField, Ints, calendar_codes
from proteron.core.windows.feature import PLAIN, Feature, Rows, Unit


class CalendarCycle(Feature):
    """A calendar field at the first target's local time: sine and cosine, its number from 0, or one column a value."""

    kind: Literal["calendar"] = "calendar"
    field: CalendarField = Field(title="Field")
    form: Literal["cycle", "number", "one_hot"] = Field("cycle", title="Form")

    @property
    def names(self) -> tuple[str, ...]:
        """Names of the columns this writes."""
        if self.form == "number":
            return (self.field,)
        if self.form == "one_hot":
            return tuple(f"{self.field} is {code}" for code in range(int(CYCLES[self.field])))
        return (f"{self.field} sin", f"{self.field} cos")

    @property
    def units(self) -> tuple[Unit, ...]:
        """How each column follows its series when values are centred and scaled."""
        return (PLAIN,) * len(self.names)

    def source_of(self, column: int) -> tuple[int, int]:
        """First and last step relative to the origin that one column reads."""
        return (1, 1)

    def write(self, out: Floats, rows: Rows) -> None:
        """Fill `out` (n_rows, n_columns) for the given rows; missing cells become NaN."""
        codes = self._codes(rows)
        if self.form == "number":
            out[:, 0] = codes
        elif self.form == "one_hot":
            out[:] = codes[:, None] == np.arange(out.shape[1])
        else:
            angles = np.arange(int(CYCLES[self.field])) * (2 * np.pi / CYCLES[self.field])
            out[:, 0] = np.sin(angles)[codes]
            out[:, 1] = np.cos(angles)[codes]

    def _codes(self, rows: Rows) -> Ints:
        ahead = rows.positions + rows.first_ahead
        low, high = int(ahead.min(initial=0)), int(ahead.max(initial=0)) + 1
        local = rows.once(("local", low, high), lambda: rows.panel.axis.local(np.arange(low, high)))
        return calendar_codes(self.field, local)[ahead - low]
