"""Normalisation by the instance: each stretch by the mean and spread of the window known before it."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.compiled import kernel
from proteron.core.flatten.stage import Calendar, Group, Stage, StageState, require
from proteron.core.panel import Floats
from proteron.core.timeline import Ints


@kernel
def _moments(values: Floats, start: int, stop: int, centre: float, spread: float) -> tuple[float, float]:
    """Mean and spread of the known values in [start, stop); the given ones where there are too few."""
    count, total = 0, 0.0
    for i in range(max(start, 0), stop):
        if not np.isnan(values[i]):
            count += 1
            total += values[i] - centre
    if count == 0:
        return centre, spread
    mean = total / count
    square = 0.0
    for i in range(max(start, 0), stop):
        if not np.isnan(values[i]):
            square += (values[i] - centre - mean) ** 2
    found = np.sqrt(square / count)
    return centre + mean, found if count > 1 and found > 1e-3 * spread else spread


@kernel
def _walk(entered: Floats, undo: bool, window: int, reach: int, centre: float, spread: float) -> Floats:
    """Normalise, or restore, a whole series from its first point on, block by block of `reach` points."""
    known = np.full(len(entered), np.nan)
    out = np.empty(len(entered))
    mean, scale = centre, spread
    for i in range(len(entered)):
        if i % reach == 0:
            mean, scale = _moments(known, i - window, i, centre, spread)
        if undo:
            out[i] = entered[i] * scale + mean
            known[i] = out[i]
        else:
            out[i] = (entered[i] - mean) / scale
            known[i] = entered[i]
    return out


class LocalScale(Stage):
    """Reversible instance normalisation (Kim et al. 2022), for a series that is read from its start.

    The series is cut into stretches of `reach` points; each is centred and scaled by the `window`
    points before it, so a shift of level or spread fades out by itself. Beyond an origin the figures
    known there hold until the end of the forecast.
    """

    title: ClassVar[str] = "instance normalisation"
    group: ClassVar[Group] = "scale"
    from_start: ClassVar[bool] = True
    kind: Literal["local_scale"] = "local_scale"
    window: int = Field(168, ge=2, title="Window", description="Points before a stretch that give its mean and spread.")
    reach: int = Field(24, ge=1, title="Stretch", description="Points that share one mean and spread.")

    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState:
        """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` or `UnitsError`."""
        require(values, self.needs, self.title)
        known = values[np.isfinite(values)]
        centre, spread = known[: self.window].mean(), known[: self.window].std()
        if not spread > 1e-12 * max(abs(centre), 1e-300):
            spread = known.std() or 1.0
        return StageState({"centre": np.float64(centre), "spread": np.float64(spread)})

    def _run(self, state: StageState, values: Floats, undo: bool) -> Floats:
        return _walk(
            np.ascontiguousarray(values), undo, self.window, self.reach, state.number("centre"), state.number("spread")
        )

    def apply(self, state: StageState, values: Floats, positions: Ints, calendar: Calendar) -> Floats:
        """`values` is a whole series from its first point on."""
        return self._run(state, values, False)

    def undo(self, state: StageState, values: Floats, positions: Ints, calendar: Calendar) -> Floats:
        """Original units from flat `values` at `positions`; the inverse of `apply`."""
        return self._run(state, values, True)

    def undo_ahead(
        self, state: StageState, flat: Floats, origins: Ints, first: int, inputs: Floats, calendar: Calendar
    ) -> Floats:
        """Forecasts (…, n_origins, horizon) back to original units, reading inputs before each origin only."""
        centre, spread = state.number("centre"), state.number("spread")
        horizon = flat.shape[-1]
        out = np.empty(flat.shape)
        values = np.ascontiguousarray(inputs)
        for row, origin in enumerate((origins - first).tolist()):
            mean, scale = centre, spread
            for begin in range(origin // self.reach * self.reach, origin + horizon, self.reach):
                if begin - self.window < origin:  # else nothing of its window is known: what held before holds on
                    mean, scale = _moments(values, begin - self.window, min(begin, origin), centre, spread)
                span = slice(max(begin - origin, 0), min(begin + self.reach - origin, horizon))
                out[..., row, span] = flat[..., row, span] * scale + mean
        return out
