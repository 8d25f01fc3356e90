"""The average of three smoothings: hard to beat for its price."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.errors import TooShortError
from proteron.core.forecasters.forecaster import ForecasterState, Work
from proteron.core.forecasters.local import Learned, LocalForecaster
from proteron.core.forecasters.noise import Noise
from proteron.core.forecasters.ranges import prediction_variance, spread_out
from proteron.core.forecasters.smoothing.doubt import doubt_of
from proteron.core.forecasters.smoothing.fit import FittedForm, fit_form, run, seasonal_figure
from proteron.core.forecasters.smoothing.forecaster import Part, means_after
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

_FORMS = (Form(), Form(trend="additive"), Form(trend="additive", damped=True))
_NAMES = ("simple", "trend", "damped")


class SmoothingAverage(LocalForecaster):
    """The mean of simple smoothing, smoothing with a trend and with a damped trend, of the series without its season.

    The season is taken out where the correlogram shows one (Makridakis & Hibon 2000). In its ranges, an error moves
    the average on by the mean of what it does to the three.
    """

    title: ClassVar[str] = "average of smoothings"
    family: ClassVar[str] = "smoothing"
    can: ClassVar[tuple[str, ...]] = ("trend", "seasons", "gaps", "ranges")
    cost: ClassVar[float] = 60.0
    least: ClassVar[int] = 3
    kind: Literal["smoothing_average"] = "smoothing_average"
    period: int | None = Field(None, ge=1, title="Period", description="Empty: the step's own season.")
    season: Part = Field("auto", title="Season", description="Auto: by a test.")

    def learn_series(self, known: Panel, index: int, work: Work) -> Learned:
        """What is learned of one series; raises `ProteronError` where it must decline."""
        values = np.ascontiguousarray(known.series(index))
        present = np.flatnonzero(np.isfinite(values))
        offset = int(present[0])
        period = self.period or known.axis.step.season
        way = season_way(values[offset:], period, self.season)
        figure = seasonal_figure(values[offset:], period, way) if way else np.zeros(1)
        flat = without_season(values[offset:], figure, way)
        weights, starts, errors = np.full((3, 4), np.nan), np.full((3, 3), np.nan), np.full(3, np.nan)
        for row, form in enumerate(_FORMS):
            try:
                fitted = fit_form(flat, form, 1)
            except TooShortError:
                continue
            weights[row], starts[row] = fitted.weights, fitted.start
            errors[row] = np.sqrt(doubt_of(fitted, flat)[0][0, 0])
        learned = Learned({"offset": offset, "way": float(WAYS.index(way)), "figure": figure,
                   "cycle": len(figure), "weights": weights, "starts": starts, "errors": errors})  # fmt: skip
        gaps = flat - self._flat_means(learned, flat, np.arange(len(flat)), 1)[:, 0]
        gaps = gaps[np.isfinite(gaps)]
        spent = 4 + (len(figure) if way else 0)
        return learned | {"spread": np.sqrt(prediction_variance(float((gaps**2).sum()), len(gaps), spent))}

    def means_of(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points of `values` (n_points,)."""
        (way, figure), offset = season_of(learned), int(learned["offset"])
        flat = without_season(np.ascontiguousarray(values[offset:]), figure, way)
        local = at - offset
        out = np.full((len(at), horizon), np.nan)
        possible = local > 0
        means = self._flat_means(learned, flat, local[possible], horizon)
        out[possible] = with_season(means, figure, way, local[possible])
        return out

    @staticmethod
    def _flat_means(learned: Learned, flat: Floats, at: Ints, horizon: int) -> Floats:
        answers = []
        for form, weights, start in zip(_FORMS, learned["weights"], learned["starts"], strict=True):
            if np.isfinite(weights).all():
                fitted = FittedForm(form, 1, weights, np.ascontiguousarray(start), 0.0, 0.0, 0, 0, 0, True)
                answers.append(means_after(fitted, run(fitted, flat), at, horizon))
        return np.asarray(np.mean(answers, axis=0))

    @staticmethod
    def _moves(learned: Learned, horizon: int) -> Floats:
        """What a one-step error does to each step after it, (horizon,), 1 first."""
        steps, each = np.arange(1.0, horizon), []
        for form, (level, trend, _, damping) in zip(_FORMS, learned["weights"], strict=True):
            if np.isfinite(level):
                summed = np.cumsum(damping**steps) if form.damped else steps
                each.append(level + (trend * summed if form.trend else 0.0 * steps))
        return np.concatenate([[1.0], np.mean(each, axis=0)])

    def _sizes(self, learned: Learned, at: int, horizon: int) -> Floats:
        """What a unit of the flat series is at each step, (horizon,)."""
        way, figure = season_of(learned)
        return season_sizes(figure, way, at - int(learned["offset"]), horizon)

    def spreads_of(self, learned: Learned, values: Floats, at: int, horizon: int) -> Floats | None:
        """Standard deviations (horizon,) after `at` points, by theory."""
        wide = float(learned["spread"]) * np.sqrt(np.cumsum(self._moves(learned, horizon) ** 2))
        return wide * self._sizes(learned, at, horizon)

    def paths_of(self, learned: Learned, values: Floats, at: int, noise: Noise) -> Floats | None:
        """Paths (count, horizon) after `at` points, driven by the errors of `noise`."""
        horizon = noise.errors.shape[1]
        mean = self.means_of(learned, values, np.array([at]), horizon)[0]
        errors = float(learned["spread"]) * noise.errors
        return mean + spread_out(errors, self._moves(learned, horizon)) * self._sizes(learned, at, horizon)

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Learned numbers of one series by name, in flat units."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        return {f"level_weight {name}": float(each[0]) for name, each in zip(_NAMES, learned["weights"], strict=True)}

    def standard_errors(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Standard errors by parameter, where theory gives them."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        return {f"level_weight {name}": float(each) for name, each in zip(_NAMES, learned["errors"], strict=True)}

    def summary_of(self, learned: Learned) -> str:
        """What was learned of one series, in one sentence."""
        weights = ", ".join(f"{each[0]:.3g}" for each in learned["weights"] if np.isfinite(each[0]))
        season = ("no season", "a season added", "a season multiplied")[int(learned["way"])]
        return f"Three smoothings with level weights {weights}, averaged; {season}."
