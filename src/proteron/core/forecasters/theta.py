"""The theta method: a line and a smoothed, steeper copy of the series, averaged."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field
from scipy import optimize

from proteron.core.forecasters.forecaster import ForecasterState, Work
from proteron.core.forecasters.local import Learned, LocalForecaster
from proteron.core.forecasters.noise import Noise
from proteron.core.forecasters.ranges import prediction_variance
from proteron.core.forecasters.smoothing.doubt import doubt_of
from proteron.core.forecasters.smoothing.fit import FittedForm, fit_form, run, seasonal_figure
from proteron.core.forecasters.smoothing.forecaster import Part
from proteron.core.forecasters.smoothing.forms import Form
from proteron.core.forecasters.smoothing.seasons import (
    WAYS,
    season_of,
    season_sizes,
    season_way,
    with_season,
    without_season,
)
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints

_STEEPEST = 10.0


class Theta(LocalForecaster):
    """Seasons taken out where the correlogram shows them; what is left is forecast as the average of its line and of
    simple smoothing of the series with `theta` times its curvature.

    Sources: Assimakopoulos & Nikolopoulos 2000; as smoothing with drift: Hyndman & Billah 2003; theta by one-step
    error: Fiorucci et al. 2016.
    """

    title: ClassVar[str] = "theta"
    family: ClassVar[str] = "smoothing"
    can: ClassVar[tuple[str, ...]] = ("trend", "seasons", "gaps", "ranges")
    cost: ClassVar[float] = 60.0
    least: ClassVar[int] = 3
    kind: Literal["theta"] = "theta"
    period: int | None = Field(None, ge=1, title="Period", description="Empty: the step's own season.")
    theta: float | None = Field(2.0, ge=1, title="Theta", description="Curvature kept; empty: by one-step error.")
    season: Part = Field("auto", title="Season", description="Auto: by a test.")

    @property
    def label(self) -> str:
        """A short name with the settings that matter."""
        return self.title if self.theta == 2 else f"{self.title}, {'optimised' if self.theta is None else self.theta}"

    def learn_series(self, known: Panel, index: int, work: Work) -> Learned:
        """What is learned of one series; raises `ProteronError` where it must decline."""
        values = np.ascontiguousarray(known.series(index))
        present = np.flatnonzero(np.isfinite(values))
        offset = int(present[0])
        values = values[offset:]
        period = self.period or known.axis.step.season
        way = season_way(values, period, self.season)
        figure = seasonal_figure(values, period, way) if way else np.zeros(1)
        flat = without_season(values, figure, way)
        at = np.flatnonzero(np.isfinite(flat))
        slope, level = np.polyfit(at, flat[at], 1)
        theta = self.theta or self._best(flat, level, slope)
        steep = _steep(flat, theta, level, slope)
        fitted = fit_form(steep, Form(), 1)
        weight_doubt, start_errors = doubt_of(fitted, steep)
        learned = Learned({
            "offset": offset, "cycle": len(figure), "way": float(WAYS.index(way)), "figure": figure,
            "level": level, "slope": slope, "theta": theta, "weight": fitted.weights[0], "start": fitted.start[0],
            "weight_error": np.sqrt(weight_doubt[0, 0]), "start_error": start_errors[0],
        })  # fmt: skip
        gaps = flat - self._flat_means(learned, flat, np.arange(len(flat)), 1)[:, 0]
        gaps = gaps[np.isfinite(gaps)]
        return learned | {"spread": np.sqrt(prediction_variance(float((gaps**2).sum()), len(gaps), 2 + len(figure)))}

    @staticmethod
    def _best(flat: Floats, level: float, slope: float) -> float:
        """The theta with the smallest one-step error."""

        def error(theta: float) -> float:
            """Mean squared one-step error with this theta."""
            fitted = fit_form(_steep(flat, theta, level, slope), Form(), 1)
            line = level + slope * np.arange(len(flat))
            means = run(fitted, _steep(flat, theta, level, slope)).means / theta + (1 - 1 / theta) * line
            gaps = flat - means
            return float(np.nanmean(gaps**2))

        found = optimize.minimize_scalar(error, bounds=(1.0, _STEEPEST), method="bounded", options={"xatol": 0.02})
        return float(found.x)

    @staticmethod
    def _flat_means(learned: Learned, flat: Floats, at: Ints, horizon: int) -> Floats:
        theta, level, slope = float(learned["theta"]), float(learned["level"]), float(learned["slope"])
        weights = np.array([float(learned["weight"]), 0.0, 0.0, 1.0])
        start = np.array([float(learned["start"]), 0.0, 0.0])
        fitted = FittedForm(Form(), 1, weights, start, 0.0, 0.0, 0, 0, 0, True)
        smoothed = run(fitted, _steep(flat, theta, level, slope)).levels[at]
        line = level + slope * (at[:, None] + np.arange(horizon))
        return smoothed[:, None] / theta + (1 - 1 / theta) * line

    def means_of(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points of `values` (n_points,)."""
        (way, figure), offset = season_of(learned), int(learned["offset"])
        local = at - offset
        out = np.full((len(at), horizon), np.nan)
        possible = local > 0
        flat = without_season(np.ascontiguousarray(values[offset:]), figure, way)
        means = self._flat_means(learned, flat, local[possible], horizon)
        out[possible] = with_season(means, figure, way, local[possible])
        return out

    def spreads_of(self, learned: Learned, values: Floats, at: int, horizon: int) -> Floats | None:
        """Standard deviations (horizon,) after `at` points, by theory."""
        (way, figure), offset = season_of(learned), int(learned["offset"])
        weight = float(learned["weight"])  # an error moves the steep line by theta times that, the forecast by it
        steps = float(learned["spread"]) * np.sqrt(1 + np.arange(horizon) * weight**2)
        return steps * season_sizes(figure, way, at - offset, horizon)

    def paths_of(self, learned: Learned, values: Floats, at: int, noise: Noise) -> Floats | None:
        """Paths (count, horizon) after `at` points, driven by the errors of `noise`."""
        horizon = noise.errors.shape[1]
        (way, figure), offset = season_of(learned), int(learned["offset"])
        mean = self.means_of(learned, values, np.array([at]), horizon)[0]
        errors = float(learned["spread"]) * noise.errors
        weight = float(learned["weight"])
        moves = errors + weight * (np.cumsum(errors, axis=1) - errors)
        return mean + moves * season_sizes(figure, way, at - offset, horizon)

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Learned numbers of one series by name, in flat units."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        return {"level_weight": float(learned["weight"]), "start_level": float(learned["start"]),
                "drift": float(learned["slope"]), "theta": float(learned["theta"])}  # fmt: skip

    def standard_errors(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Of the smoothing, line and theta being as they are."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        return {"level_weight": float(learned["weight_error"]), "start_level": float(learned["start_error"])}

    def summary_of(self, learned: Learned) -> str:
        """What was learned of one series, in one sentence."""
        season = ("no season", "a season added", "a season multiplied")[int(learned["way"])]
        return (
            f"The line rises {learned['slope']:.4g} a step; theta {learned['theta']:.3g}, "
            f"smoothed with weight {learned['weight']:.3g}; {season}."
        )


def _steep(flat: Floats, theta: float, level: float, slope: float) -> Floats:
    """The theta line: `theta` times the deviations from the line through the series."""
    line = level + slope * np.arange(len(flat))
    return np.asarray(line + theta * (flat - line))
