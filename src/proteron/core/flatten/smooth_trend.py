"""Trend that balances closeness against bending."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field
from scipy import linalg

from proteron.core.flatten.path import follow
from proteron.core.flatten.stage import AdditiveStage, Calendar, Group, StageState, require
from proteron.core.panel import Floats
from proteron.core.timeline import Ints

_SECONDS_A_QUARTER = 365.2425 / 4 * 86400
_STIFFEST = 1e10  # beyond this the equations lose too many digits
_TUKEY = 4.685


def smooth(values: Floats, stiffness: float, weights: Floats | None = None) -> Floats:
    """Minimise Σ w (y - g)² + stiffness Σ (second difference of g)² (Hodrick & Prescott 1997), (n_points,).

    Missing points have no weight; a banded Cholesky factorisation solves it in one pass.
    """
    size = len(values)
    present = np.isfinite(values)
    weights = np.where(present, 1.0 if weights is None else weights, 0.0)
    if size < 3:
        return np.full(size, values[present].mean())
    bands = np.zeros((3, size))  # upper form
    bands[2] = weights + stiffness * np.convolve(np.ones(size - 2), [1, 4, 1])
    bands[1, 1:] = -2 * stiffness * np.convolve(np.ones(size - 2), [1, 1])
    bands[0, 2:] = stiffness
    right = weights * np.where(present, values, 0.0)
    return np.asarray(linalg.solveh_banded(bands, right, check_finite=False))


class SmoothTrend(AdditiveStage):
    """The Hodrick–Prescott filter; by default 1600 a quarter, scaled by the fourth power of the step.

    Ravn & Uhlig 2002 give the scaling. Beyond the cutoff it runs on straight, as its penalty implies.
    The robust form reweights by Tukey's function.
    """

    title: ClassVar[str] = "smooth trend"
    group: ClassVar[Group] = "trend"
    bends: ClassVar[bool] = True
    kind: Literal["smooth_trend"] = "smooth_trend"
    needs: ClassVar[int] = 3
    shareable: ClassVar[bool] = False
    stiffness: float | None = Field(None, gt=0, le=1e12, title="Stiffness", description="Nothing: by the step.")
    robust: bool = Field(False, title="Robust", description="Spikes cannot bend it.")

    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState:
        """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` or `UnitsError`."""
        require(values, self.needs, self.title)
        stiffness = self.stiffness
        notes: tuple[str, ...] = ()
        if stiffness is None:
            stiffness = 1600 * (_SECONDS_A_QUARTER / calendar.axis.step.nominal_seconds) ** 4
            if stiffness > _STIFFEST:
                notes = (f"1600 a quarter would be {stiffness:.2g} here; held at {_STIFFEST:.0g} for exactness",)
        stiffness = min(stiffness, _STIFFEST)
        centre = float(np.median(values[np.isfinite(values)]))
        path = smooth(values - centre, stiffness)
        if self.robust:
            for _ in range(10):
                residuals = values - centre - path
                scale = 1.4826 * float(np.nanmedian(np.abs(residuals)))
                if not scale > 0:
                    break
                weights = np.maximum(1 - (residuals / (_TUKEY * scale)) ** 2, 1e-6) ** 2
                path = smooth(values - centre, stiffness, weights)
        path = path + centre
        slope = path[-1] - path[-2] if len(path) > 1 else 0.0
        arrays = {"path": path, "first": positions[0], "slope": slope, "stiffness": stiffness}
        return StageState({name: np.asarray(array, dtype=np.float64) for name, array in arrays.items()}, notes)

    def parts(self, state: StageState, positions: Ints, calendar: Calendar) -> dict[str, Floats]:
        """What is taken out at `positions`, (n_positions,) by name."""
        path, first = state.array("path"), int(state.number("first"))
        return {"trend": follow(path, first, state.number("slope"), positions)}

    def facts(self, state: StageState) -> dict[str, float]:
        """What was learned, as numbers by name."""
        return {"stiffness": state.number("stiffness"), "slope per step beyond": state.number("slope")}
