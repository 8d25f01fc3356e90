"""Centred moving average as trend."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.compiled import kernel
from proteron.core.flatten.path import follow, last_slope
from proteron.core.flatten.stage import AdditiveStage, Calendar, Group, StageState, require
from proteron.core.panel import Floats
from proteron.core.timeline import Ints


@kernel
def centred_average(values: Floats, window: int) -> Floats:
    """Mean of the known values around each point, (n_points,); the ends of an even window count half.

    Near the start and the end the window is cut off and a line is fitted in it instead, so that a
    straight series stays as it is. NaN where a whole window is missing.
    """
    size, half = len(values), window // 2
    even = window % 2 == 0
    out = np.full(size, np.nan)
    for i in range(size):
        m0, m1, m2, y0, y1 = 0.0, 0.0, 0.0, 0.0, 0.0
        whole = i >= half and i + half < size
        for j in range(max(i - half, 0), min(i + half, size - 1) + 1):
            if np.isnan(values[j]):
                whole = False
                continue
            weight = 0.5 if even and abs(j - i) == half else 1.0
            d = float(j - i)
            m0 += weight
            m1 += weight * d
            m2 += weight * d * d
            y0 += weight * values[j]
            y1 += weight * d * values[j]
        if m0 == 0.0:
            continue
        spread = m2 * m0 - m1 * m1
        if whole or spread <= 1e-9 * m0 * m0:
            out[i] = y0 / m0
        else:
            out[i] = (m2 * y0 - m1 * y1) / spread
    return out


def filled_between(path: Floats) -> Floats:
    """Gaps of a smooth path closed by straight lines."""
    present = np.isfinite(path)
    if present.all():
        return path
    at = np.arange(len(path))
    return np.interp(at, at[present], path[present])


class MovingAverage(AdditiveStage):
    """Take out a centred moving average; beyond the cutoff its last slope runs on.

    Inside the learned span the average looks half a window to either side, never beyond the cutoff.
    """

    title: ClassVar[str] = "moving average"
    group: ClassVar[Group] = "trend"
    bends: ClassVar[bool] = True
    kind: Literal["moving_average"] = "moving_average"
    shareable: ClassVar[bool] = False
    window: int | None = Field(None, ge=2, title="Window", description="Points; nothing: one longer season.")

    def _window(self, calendar: Calendar, known: int) -> int:
        if self.window is not None:
            return self.window
        seasons = [round(length) for length in calendar.axis.step.seasons if 2 * length <= known]
        return seasons[min(1, len(seasons) - 1)] if seasons else max(2, known // 10)

    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState:
        """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` or `UnitsError`."""
        require(values, self.needs, self.title)
        window = self._window(calendar, len(values))
        path = filled_between(centred_average(np.ascontiguousarray(values), window))
        arrays = {"path": path, "first": positions[0], "slope": last_slope(path, window), "window": window}
        return StageState({name: np.asarray(array, dtype=np.float64) for name, array in arrays.items()})

    def parts(self, state: StageState, positions: Ints, calendar: Calendar) -> dict[str, Floats]:
        """What is taken out at `positions`, (n_positions,) by name."""
        path, first = state.array("path"), int(state.number("first"))
        return {"trend": follow(path, first, state.number("slope"), positions)}

    def facts(self, state: StageState) -> dict[str, float]:
        """What was learned, as numbers by name."""
        return {"window": state.number("window"), "slope per step beyond": state.number("slope")}
