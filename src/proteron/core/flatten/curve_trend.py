"""A bent trend in time: quadratic, exponential or saturating."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field
from scipy import optimize

from proteron.core.flatten.robust_lines import Loss, regress
from proteron.core.flatten.stage import AdditiveStage, Calendar, Group, StageState, require
from proteron.core.panel import Floats
from proteron.core.timeline import Ints

_MOST_POINTS = 500
_FURTHEST = 1.5  # known spans; beyond, the curve goes on straight


def block_means(at: Floats, values: Floats, most: int = _MOST_POINTS) -> tuple[Floats, Floats]:
    """At most `most` points: medians of neighbouring values, so that a nonlinear fit stays quick."""
    if len(values) <= most:
        return at, values
    size = -(-len(values) // most)
    cut = len(values) // size * size
    return at[:cut].reshape(-1, size).mean(axis=1), np.median(values[:cut].reshape(-1, size), axis=1)


class CurveTrend(AdditiveStage):
    """level · shape of time, fitted on time scaled to the known span.

    quadratic: a + b t + c t²; exponential: a + b exp(r t); saturating: a + b / (1 + exp(-r (t - m))).
    Half a known span beyond the cutoff the curve goes on straight, so that no projection explodes. The
    robust loss is Huber's.
    """

    title: ClassVar[str] = "curved trend"
    group: ClassVar[Group] = "trend"
    kind: Literal["curve_trend"] = "curve_trend"
    needs: ClassVar[int] = 6
    shareable: ClassVar[bool] = False
    shape: Literal["quadratic", "exponential", "saturating"] = Field("quadratic", title="Shape")
    robust: bool = Field(False, title="Robust", description="Spikes cannot bend it.")

    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState:
        """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` or `UnitsError`."""
        require(values, self.needs, self.title)
        present = np.isfinite(values)
        origin, span = float(positions[0]), float(max(positions[-1] - positions[0], 1))
        at = np.asarray((positions[present] - origin) / span, dtype=np.float64)
        known = values[present]
        centre = float(np.median(known))
        unit = float(np.subtract(*np.quantile(known, (0.9, 0.1)))) or float(known.std()) or 1.0
        scaled = (known - centre) / unit
        notes: tuple[str, ...] = ()
        if self.shape == "quadratic":
            design = np.column_stack([np.ones(len(at)), at, at**2])
            weights = regress(design, scaled, "huber" if self.robust else "squared").weights
        else:
            weights, settled = self._search(*block_means(at, scaled))
            notes = () if settled else ("the fit did not settle; the best found is used",)
        return StageState(
            {"weights": np.asarray(weights), "origin": np.float64(origin), "span": np.float64(span),
             "centre": np.float64(centre), "unit": np.float64(unit)}, notes,
        )  # fmt: skip

    def _search(self, at: Floats, scaled: Floats) -> tuple[Floats, bool]:
        """Level, size and rate (and turning point): the first two follow from the others by regression."""
        loss: Loss = "huber" if self.robust else "squared"

        def fit(*rest: float) -> tuple[float, Floats]:
            """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` or `UnitsError`."""
            unit = self._curve(np.array([0.0, 1.0, *rest]), at)
            found = regress(np.column_stack([np.ones(len(at)), unit]), scaled, loss, rounds=20)
            residuals = np.abs(scaled - found.weights[0] - found.weights[1] * unit)
            cost = float(residuals.sum() if self.robust else (residuals**2).sum())
            return cost, np.concatenate([found.weights, rest])

        if self.shape == "exponential":
            tried = [
                optimize.minimize_scalar(lambda rate: fit(float(rate))[0], bounds=bounds, method="bounded")
                for bounds in ((-8.0, -0.02), (0.02, 8.0))
            ]
            best = min(tried, key=lambda each: float(each.fun))
            return fit(float(best.x))[1], bool(best.success)
        starts = [(rate, turn) for rate in (4.0, 12.0) for turn in (0.2, 0.5, 0.8)]
        first = min(starts, key=lambda start: fit(*start)[0])
        found = optimize.minimize(
            lambda rest: fit(*rest)[0], first, method="Nelder-Mead", bounds=[(0.5, 60.0), (-1.0, 2.0)],
            options={"maxiter": 120, "xatol": 1e-4, "fatol": 1e-6},
        )  # fmt: skip
        return fit(*found.x)[1], bool(found.success)

    def _curve(self, weights: Floats, at: Floats) -> Floats:
        if self.shape == "quadratic":
            return np.asarray(weights[0] + weights[1] * at + weights[2] * at**2)
        if self.shape == "exponential":
            return np.asarray(weights[0] + weights[1] * np.exp(np.clip(weights[2] * at, -500, 500)))
        return np.asarray(weights[0] + weights[1] / (1 + np.exp(np.clip(-weights[2] * (at - weights[3]), -500, 500))))

    def parts(self, state: StageState, positions: Ints, calendar: Calendar) -> dict[str, Floats]:
        """What is taken out at `positions`, (n_positions,) by name."""
        at = np.asarray((positions - state.number("origin")) / state.number("span"), dtype=np.float64)
        weights, last = state.array("weights"), np.array([_FURTHEST - 1e-4, _FURTHEST])
        slope = np.diff(self._curve(weights, last))[0] / 1e-4
        curve = self._curve(weights, np.minimum(at, _FURTHEST)) + slope * np.maximum(at - _FURTHEST, 0.0)
        return {"trend": state.number("centre") + state.number("unit") * curve}

    def facts(self, state: StageState) -> dict[str, float]:
        """What was learned, as numbers by name."""
        weights, unit = state.array("weights"), state.number("unit")
        if self.shape == "quadratic":
            return {"bend": float(weights[2] * unit / state.number("span") ** 2)}
        if self.shape == "exponential":
            ends_at = state.number("centre") + unit * float(weights[0])
            return {"growth per step": float(weights[2] / state.number("span")), "asymptote": ends_at}
        low = state.number("centre") + unit * float(weights[0])
        return {"from": low, "to": low + unit * float(weights[1]), "turns at": float(weights[3] * state.number("span"))}
