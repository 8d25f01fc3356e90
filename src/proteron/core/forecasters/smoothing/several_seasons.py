"""Smoothing with several seasons as a forecaster."""

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import BeforeValidator, Field

from proteron.core.errors import TooShortError
from proteron.core.forecasters.criteria import information
from proteron.core.forecasters.forecaster import ForecasterState, Work
from proteron.core.forecasters.local import Learned, LocalForecaster
from proteron.core.forecasters.noise import Noise
from proteron.core.forecasters.pictures import Curve, Picture
from proteron.core.forecasters.ranges import prediction_variance, spread_out, variance_error
from proteron.core.forecasters.smoothing.forecaster import none_in_words
from proteron.core.forecasters.smoothing.waves import FittedWaves, WaveForm, choose_waves, standard_errors
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints

_TRENDS = ("none", "additive", "damped")
_DRAWN = 2000


class SeveralSeasons(LocalForecaster):
    """A level, a slope and waves for each season, all moved on by every error, which may itself be ARMA.

    Periods need not be whole numbers. Waves for each season, the trend and the ARMA orders are chosen where they are
    not given. Source: De Livera, Hyndman & Snyder 2011, without their transformation, which a chain does.
    """

    title: ClassVar[str] = "several seasons"
    family: ClassVar[str] = "smoothing"
    can: ClassVar[tuple[str, ...]] = ("trend", "seasons", "gaps", "ranges")
    cost: ClassVar[float] = 4000.0
    least: ClassVar[int] = 8
    kind: Literal["several_seasons"] = "several_seasons"
    periods: tuple[Annotated[float, Field(gt=2)], ...] = Field(
        (), title="Periods", description="Steps; empty: the step's own seasons."
    )
    waves: int | None = Field(None, ge=1, le=30, title="Waves", description="Per season; empty: chosen.")
    trend: Annotated[Literal["none", "additive", "damped", "auto"], BeforeValidator(none_in_words)] = Field(
        "auto", title="Trend"
    )
    errors: tuple[Annotated[int, Field(ge=0, le=5)], Annotated[int, Field(ge=0, le=5)]] | None = Field(
        None, title="ARMA errors", description="(p, q); empty: chosen."
    )

    def objection(self, known: Panel) -> str | None:
        """What speaks against a panel of one series that has points enough; None: nothing."""
        there = int(np.isfinite(known.values).sum())
        if not self.periods and sum(2 * each + 2 <= there for each in known.axis.step.seasons if each > 2) < 2:
            return "The step has at most one season of which two cycles are known; smoothing does for one."
        return None

    def learn_series(self, known: Panel, index: int, work: Work) -> Learned:
        """What is learned of one series; raises `ProteronError` where it must decline."""
        values = np.ascontiguousarray(known.series(index))
        present = np.flatnonzero(np.isfinite(values))
        offset = int(present[0])
        values = values[offset:]
        wanted = self.periods or tuple(float(each) for each in known.axis.step.seasons if each > 2)
        periods = tuple(sorted(each for each in set(wanted) if len(present) >= 2 * each + 2))
        if self.periods and len(periods) < len(set(wanted)):
            raise TooShortError(
                f"A period of {max(wanted):g} needs two cycles; there are {len(present)} known points.", field="periods"
            )
        if np.ptp(values[np.isfinite(values)]) <= 1e-12 * float(np.nanmax(np.abs(values))):
            level = float(values[0])
            still = FittedWaves(WaveForm("none", ()), np.zeros(1), np.array([level]), 0.0, np.nan, len(present))
            return self._described(offset, still, [], values)
        trends = _TRENDS if self.trend == "auto" else (self.trend,)
        best, tried = choose_waves(values, periods, self.waves, trends, self.errors)
        return self._described(offset, best, tried, values)

    @staticmethod
    def _described(offset: int, best: FittedWaves, tried: list[FittedWaves], values: Floats) -> Learned:
        form = best.form
        return Learned({
            "errors": standard_errors(best, values),
            "offset": offset, "free": best.free, "begin": best.begin, "variance": best.variance, "loglik": best.loglik,
            "count": best.count, "spent": form.weights + form.seeds + 1,
        }, {
            "trend": form.trend, "seasons": [list(each) for each in form.seasons], "arma": list(form.arma),
            "tried": [{"form": each.form.words, **each.criteria} for each in tried],
        })  # fmt: skip

    @staticmethod
    def _fitted(learned: Learned) -> FittedWaves:
        seasons = tuple((float(period), int(waves)) for period, waves in learned.facts["seasons"])
        form = WaveForm(learned.facts["trend"], seasons, tuple(learned.facts["arma"]))
        return FittedWaves(
            form, np.ascontiguousarray(learned["free"][: form.weights]),
            np.ascontiguousarray(learned["begin"][: form.size]), float(learned["variance"]), float(learned["loglik"]),
            int(learned["count"]),
        )  # fmt: skip

    def means_of(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points of `values` (n_points,)."""
        fitted, offset = self._fitted(learned), int(learned["offset"])
        move, seen, _ = fitted.matrices()
        out = np.full((len(at), horizon), np.nan)
        usable = at >= offset
        states = fitted.passed(values[offset:])[1][at[usable] - offset]
        for h in range(horizon):
            out[usable, h] = states @ seen
            states = states @ move.T
        return out

    def _weights(self, learned: Learned, horizon: int) -> Floats:
        """What a one-step error does to each step after it, (horizon,), 1 first."""
        move, seen, state = self._fitted(learned).matrices()
        out = np.ones(horizon)
        for h in range(1, horizon):
            out[h] = seen @ state
            state = move @ state
        return out

    def spreads_of(self, learned: Learned, values: Floats, at: int, horizon: int) -> Floats | None:
        """Standard deviations (horizon,) after `at` points, by theory."""
        return _ahead_spread(learned) * np.sqrt(np.cumsum(self._weights(learned, horizon) ** 2))

    def paths_of(self, learned: Learned, values: Floats, at: int, noise: Noise) -> Floats | None:
        """Paths (count, horizon) after `at` points, driven by the errors of `noise`."""
        horizon = noise.errors.shape[1]
        mean = self.means_of(learned, values, np.array([at]), horizon)[0]
        errors = _ahead_spread(learned) * noise.errors
        return mean + spread_out(errors, self._weights(learned, horizon))

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Learned numbers of one series by name, in flat units."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        fitted = self._fitted(learned)
        return fitted.named(fitted.free) | {"start_level": float(fitted.begin[0]), "variance": fitted.variance}

    def standard_errors(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Standard errors by parameter, where theory gives them."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        fitted = self._fitted(learned)
        named = dict(zip(fitted.named(fitted.free), learned["errors"].tolist(), strict=False))
        return named | {"variance": variance_error(fitted.variance, fitted.count)}

    def criteria(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Log-likelihood and criteria of one series, where there is a likelihood."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        return information(float(learned["loglik"]), int(learned["spent"]), int(learned["count"]))

    def pictures(self, state: ForecasterState, panel: Panel, key: str) -> list[Picture]:
        """One cycle of each season, as it stands at the cutoff."""
        learned = self.learned(state, key)
        if learned is None:
            return []
        fitted = self._fitted(learned)
        values, _ = self._since(learned, panel, panel.index(key))
        end = fitted.passed(values[int(learned["offset"]) :])[1][-1]
        first, out = 1 + (fitted.form.trend != "none"), []
        for place, (period, _) in enumerate(fitted.form.seasons):
            steps = np.linspace(0, period, min(int(np.ceil(period)) * 4 + 1, _DRAWN))
            mine = np.flatnonzero(fitted.form.owners == place)
            shown = sum(
                end[first + 2 * k] * np.cos(fitted.form.turns[k] * steps)
                + end[first + 2 * k + 1] * np.sin(fitted.form.turns[k] * steps)
                for k in mine
            )
            title = f"Season of {period:g} steps, as it stands"
            out.append(Picture(title, "steps after the cutoff", (Curve("season", steps, np.asarray(shown)),)))
        return out

    def summary_of(self, learned: Learned) -> str:
        """What was learned of one series, in one sentence."""
        fitted = self._fitted(learned)
        words = fitted.form.words
        return f"{words[0].upper()}{words[1:]}; level weight {fitted.learned[0][0]:.3g}."


def _ahead_spread(learned: Learned) -> float:
    count = int(learned["count"])
    return float(np.sqrt(prediction_variance(float(learned["variance"]) * count, count, int(learned["spent"]) - 1)))
