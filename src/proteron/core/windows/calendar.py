"""Calendar position of the first target as a point on a circle."""

import numpy as np

from proteron.core.panel import Floats
from proteron.core.timeline import CYCLES, CalendarField, calendar_codes
from proteron.core.windows.feature import Feature, Rows


class CalendarCycle(Feature):
    """Sine and cosine of a calendar field at the first target's local time."""

    field: CalendarField

    @property
    def names(self) -> tuple[str, ...]:
        return (f"{self.field} sin", f"{self.field} cos")

    def write(self, out: Floats, rows: Rows) -> None:
        ahead = rows.positions + rows.first_ahead
        low, high = int(ahead.min(initial=0)), int(ahead.max(initial=0)) + 1
        codes = calendar_codes(self.field, rows.panel.axis.local(np.arange(low, high)))
        angles = codes * (2 * np.pi / CYCLES[self.field])
        out[:, 0] = np.sin(angles)[ahead - low]
        out[:, 1] = np.cos(angles)[ahead - low]
