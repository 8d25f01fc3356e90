"""Exponential smoothing as a forecaster."""

from dataclasses import replace
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from pydantic import BeforeValidator, Field, model_validator

from proteron.core.documents import whole_word
from proteron.core.errors import SettingsError, TooShortError
from proteron.core.forecasters.forecaster import ForecasterState, Work
from proteron.core.forecasters.local import Learned, LocalForecaster
from proteron.core.forecasters.minimise import errors_of
from proteron.core.forecasters.noise import Noise
from proteron.core.forecasters.pictures import Curve, Picture
from proteron.core.forecasters.ranges import variance_error, widening
from proteron.core.forecasters.smoothing.doubt import doubt_of
from proteron.core.forecasters.smoothing.fit import (
    Aim,
    FittedForm,
    Passed,
    Starts,
    aimed_error,
    choose_form,
    fit_for,
    fit_form,
    run,
)
from proteron.core.forecasters.smoothing.forms import Form, admissible_forms
from proteron.core.forecasters.smoothing.kernels import ahead, simulate, spreads_ahead
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints

_WAYS: tuple[Any, ...] = (None, "additive", "multiplicative")
_LONGEST_CYCLE = 366
_DRAWN = 5000
_FOLDS, _LEAST_VALIDATED = 4, 12
_CREDIBLE = 10.0
_AIMED = {
    "likelihood": "Root mean squared error", "squared": "Root mean squared error", "absolute": "Mean absolute error",
    "percentage": "Mean absolute percentage error",
}  # fmt: skip


def none_in_words(given: Any) -> Any:
    """None as a word, which files without a null can say too; the words of older files as those that are used now."""
    return "none" if given is None else whole_word(given)


Part = Annotated[Literal["none", "additive", "multiplicative", "auto"], BeforeValidator(none_in_words)]


class Smoothing(LocalForecaster):
    """Exponential smoothing with every form of error, trend and season, by maximum likelihood.

    What stands at “auto” is chosen by a criterion or by the error on the last points known. Weights are those of the
    state-space form: the trend's at most the level's, the season's at most what the level's leaves of one; those of
    the textbook, shares of either, are told beside them and taken where asked.
    Source: Hyndman, Koehler, Ord & Snyder 2008.
    """

    title: ClassVar[str] = "smoothing"
    family: ClassVar[str] = "smoothing"
    can: ClassVar[tuple[str, ...]] = ("trend", "seasons", "gaps", "ranges")
    cost: ClassVar[float] = 200.0
    least: ClassVar[int] = 3
    kind: Literal["smoothing"] = "smoothing"
    error: Annotated[Literal["additive", "multiplicative", "auto"], BeforeValidator(none_in_words)] = Field(
        "auto", title="Errors"
    )
    trend: Part = Field("auto", title="Trend")
    season: Part = Field("auto", title="Season")
    damped: bool | None = Field(None, title="Damped", description="Empty: chosen.")
    period: int | None = Field(None, ge=1, title="Period", description="Empty: the step's own season.")
    choose_by: Literal["aicc", "aic", "bic", "validation"] = Field(
        "aicc", title="Choose by", description="A criterion, or the error on the last points known."
    )
    aim: Aim = Field(
        "likelihood", title="Optimise",
        description="What weights are chosen by: the likelihood, or the errors one step ahead.",
    )  # fmt: skip
    starts: Literal["optimised", "heuristic", "stated"] = Field("optimised", title="Start values")
    level_weight: float | None = Field(None, gt=0, lt=1, title="Level weight", description="Empty: optimised.")
    trend_weight: float | None = Field(None, ge=0, lt=1, title="Trend weight")
    season_weight: float | None = Field(None, ge=0, lt=1, title="Season weight")
    weights_as: Literal["state space", "textbook"] = Field(
        "state space", title="Weights as",
        description="Textbook: the trend's as a share of the level's, the season's of what the level's leaves of one.",
    )  # fmt: skip
    damping: float | None = Field(None, gt=0, le=1, title="Damping")
    start_level: float | None = Field(None, title="Start level", description="Of start values that are stated.")
    start_trend: float | None = Field(None, title="Start trend")
    start_season: tuple[float, ...] = Field((), title="Start season", description="One value per phase, first first.")

    @model_validator(mode="after")
    def _starts_are_stated_where_they_count(self) -> "Smoothing":
        given = self.start_level is not None or self.start_trend is not None or bool(self.start_season)
        if self.starts == "stated" and self.start_level is None:
            raise ValueError("stated start values need a start level")
        shares = self.trend_weight is not None or self.season_weight is not None
        if self.weights_as == "textbook" and shares and self.level_weight is None:
            raise ValueError("weights that are shares of the level's need a level weight")
        if self.starts != "stated" and given:
            raise ValueError("start values count only where they are stated")
        return self

    @property
    def label(self) -> str:
        """A short name with the settings that matter."""
        given = {"error": self.error, "trend": self.trend, "season": self.season}
        if set(given.values()) == {"auto"}:
            return self.title
        return f"{self.title}, {', '.join(f'{value} {name}' for name, value in given.items() if value != 'none')}"

    def learn_series(self, known: Panel, index: int, work: Work) -> Learned:
        """What is learned of one series; raises `ProteronError` where it must decline."""
        values = np.ascontiguousarray(known.series(index))
        present = np.isfinite(values)
        values, first = values[int(np.flatnonzero(present)[0]) :], int(np.flatnonzero(present)[0])
        period = self.period or known.axis.step.season
        if period > _LONGEST_CYCLE and self.season == "auto":
            period = 1  # so many start values cannot be told
        trend, season = (None if way == "none" else way for way in (self.trend, self.season))
        forms = admissible_forms(values, period, self.error, trend, season, self.damped)
        if not forms:
            raise self._nothing_fits(values, period)
        given = self._given_weights
        criterion = "aicc" if self.choose_by == "validation" else self.choose_by
        best, tried = choose_form(values, forms, period, criterion, given, self._starts_of)
        if self.choose_by == "validation":
            best = self._by_validation(values, tried, period, work.horizon or period)
        if not np.isfinite(best.loglik):
            raise TooShortError("Smoothing found no weights that go with these values.", field="trend")
        fixed = np.array([np.nan if each is None else each for each in given], dtype=np.float64)
        if self.aim != "likelihood":
            best = fit_for(best, values, self.aim, given, self.starts == "optimised")
            fixed[:] = np.where(np.isnan(fixed), best.weights, fixed)  # theory knows no doubt of such weights
        weight_doubt, start_errors = doubt_of(best, values, fixed, self.starts == "optimised")
        return Learned({
            "offset": first, "form": _coded(best.form), "period": best.period, "weights": best.weights,
            "weight_doubt": weight_doubt, "start_errors": start_errors,
            "start": best.start, "variance": best.variance, "loglik": best.loglik, "free": best.free,
            "count": best.count,
        }, {"tried": [{"form": each.form.words, **each.criteria} for each in tried[:30]]})  # fmt: skip

    @property
    def _given_weights(self) -> tuple[float | None, ...]:
        """Weights that are given, as the state-space form has them."""
        level, trend, season = self.level_weight, self.trend_weight, self.season_weight
        if self.weights_as == "textbook" and level is not None:
            trend = None if trend is None else trend * level
            season = None if season is None else season * (1 - level)
        return level, trend, season, self.damping

    def as_chosen(self, learned: Learned, cut: int | None = None) -> "Smoothing":
        """With its form given."""
        form = _fitted(learned).form
        return self.model_copy(update={
            "error": form.error, "trend": form.trend or "none", "season": form.season or "none", "damped": form.damped,
        })  # fmt: skip

    def limits(self, learned: Learned) -> tuple[float, float]:
        """Above zero where something multiplies."""
        form = _fitted(learned).form
        return 0.0 if "multiplicative" in (form.error, form.trend, form.season) else -np.inf, np.inf

    def _starts_of(self, form: Form, period: int) -> Starts | Floats:
        """How a form begins: by a way, or the start values (2 + period,) that are stated."""
        if self.starts != "stated":
            return self.starts
        period = period if form.season else 1
        if form.season and self.start_season and len(self.start_season) != period:
            raise SettingsError(
                f"A season of {period} phases needs as many start values, not {len(self.start_season)}.",
                field="start_season",
            )
        start = np.zeros(2 + period)
        start[0] = self.start_level
        start[1] = self.start_trend if self.start_trend is not None else float(form.trend == "multiplicative")
        start[2:] = (self.start_season or float(form.season == "multiplicative")) if form.season else 0.0
        return start

    def _nothing_fits(self, values: Floats, period: int) -> Exception:
        known = values[np.isfinite(values)]
        if len(known) and known.min() <= 0 and "multiplicative" in (self.error, self.trend, self.season):
            return SettingsError(
                f"Multiplied parts need values above zero; the smallest is {known.min():g}.", field="season"
            )
        return TooShortError(
            f"{len(known)} known points are too few for smoothing of this form with period {period}.", field="season"
        )

    def _by_validation(self, values: Floats, tried: list[FittedForm], period: int, horizon: int) -> FittedForm:
        """Of those that are credible, the one with the smallest absolute error after the ends of some parts.

        Over as many steps as are asked; credible is what the criterion gives at least a hundredth of the weight.
        """
        most = tried[0].criteria["aicc"] + _CREDIBLE
        tried = [each for each in tried if each.criteria["aicc"] <= most] or tried[:1]
        horizon = max(min(horizon, len(values) // 4), 1)
        ends = sorted({len(values) - fold * horizon for fold in range(_FOLDS, 0, -1)} & set(range(len(values))))
        padded = np.concatenate([values, np.full(horizon, np.nan)])
        errors = np.zeros(len(tried))
        for end in ends:
            if np.isfinite(values[:end]).sum() < _LEAST_VALIDATED and end != ends[-1]:
                continue
            errors += [self._error_after(padded, each.form, period, end, horizon) for each in tried]
        return tried[int(np.argmin(errors))]

    def _error_after(self, padded: Floats, form: Form, period: int, end: int, horizon: int) -> float:
        """Sum of absolute errors of the steps after a part that a form learned from; infinite where it cannot."""
        try:
            fitted = fit_form(padded[:end], form, period, starts=self._starts_of(form, period))
        except TooShortError:
            return np.inf
        gaps = padded[end : end + horizon] - means_after(fitted, run(fitted, padded[:end]), np.array([end]), horizon)[0]
        error = float(np.abs(gaps[np.isfinite(gaps)]).sum())
        return error if np.isfinite(error) else np.inf

    def means_of(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points of `values` (n_points,)."""
        fitted, rest, local = self._placed(learned, values, at)
        out = np.full((len(at), horizon), np.nan)
        out[local >= 0] = means_after(fitted, run(fitted, rest), local[local >= 0], horizon)
        return out

    def parts_of(self, learned: Learned, values: Floats, at: int, horizon: int) -> dict[str, Floats]:
        """Level, trend and season, told as what each adds to those before it, (horizon,) each."""
        fitted, rest, local = self._placed(learned, values, at)
        if local < 0:
            return {}
        passed, before, out = run(fitted, rest), np.zeros(horizon), dict[str, Floats]()
        _, trend, season = fitted.form.codes
        for name, codes in {"level": (0, 0), "trend": (trend, 0), "season": (trend, season)}.items():
            if name == "level" or {"trend": trend, "season": season}[name]:
                now = np.empty(horizon)
                figures = passed.seasons[local : local + fitted.period]
                ahead(passed.levels[local], passed.trends[local], figures, *codes, fitted.weights[3], now)
                out[name], before = now - before, now
        return out

    def _placed(self, learned: Learned, values: Floats, at: Any) -> tuple[FittedForm, Floats, Any]:
        """The fitted form, values from its first point on, and places counted from there."""
        offset = int(learned["offset"])
        return _fitted(learned), np.ascontiguousarray(values[offset:]), at - offset

    def spreads_of(self, learned: Learned, values: Floats, at: int, horizon: int) -> Floats | None:
        """Standard deviations (horizon,) after `at` points, by theory."""
        fitted, rest, local = self._placed(learned, values, at)
        form = fitted.form
        if (
            local < 0
            or form.trend == "multiplicative"
            or (form.season == "multiplicative" and form.error == "additive")
        ):
            return None
        return self._spreads(fitted, run(fitted, rest[:local]), local, horizon) * self._wider(learned, fitted, horizon)

    @staticmethod
    def _spreads(fitted: FittedForm, passed: Passed, local: int, horizon: int) -> Floats:
        out = np.empty(horizon)
        error, trend, season = fitted.form.codes
        spreads_ahead(
            passed.levels[local], passed.trends[local], passed.seasons[local:], error, trend, season, fitted.weights,
            fitted.ahead_variance, out,
        )  # fmt: skip
        return out

    @staticmethod
    def _wider(learned: Learned, fitted: FittedForm, horizon: int) -> Floats:
        """By how much the doubt in the weights widens the ranges of each step, (horizon,), as of added parts."""
        _, trend, season = fitted.form.codes
        nothing = np.zeros(fitted.period)

        def variance_of(weights: Floats) -> Floats:
            out = np.empty(horizon)
            spreads_ahead(0.0, 0.0, nothing, 1, min(trend, 1), min(season, 1), weights, 1.0, out)
            return out**2

        return widening(variance_of, fitted.weights, learned["weight_doubt"])

    def paths_of(self, learned: Learned, values: Floats, at: int, noise: Noise) -> Floats | None:
        """Paths (count, horizon) after `at` points, driven by the errors of `noise`."""
        count, horizon = noise.errors.shape
        fitted, rest, local = self._placed(learned, values, at)
        if local < 0:
            return None
        passed = run(fitted, rest[:local])
        error, trend, season = fitted.form.codes
        paths = np.empty((count, horizon))
        simulate(
            passed.levels[local], passed.trends[local], passed.seasons[local:], error, trend, season, fitted.weights,
            np.sqrt(fitted.ahead_variance) * noise.errors, paths,
        )  # fmt: skip
        mean = self.means_of(learned, values, np.array([at]), horizon)[0]
        return mean + (paths - mean) * self._wider(learned, fitted, horizon)

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Learned numbers of one series by name, in flat units."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        fitted = _fitted(learned)
        told = _named(fitted.form, fitted.weights, fitted.start) | {"variance": fitted.variance}
        level, trend, season, _ = fitted.weights.tolist()
        if "trend_weight" in told and level > 0:
            told["trend_weight_textbook"] = trend / level
        if "season_weight" in told and level < 1:
            told["season_weight_textbook"] = season / (1 - level)
        return told

    def standard_errors(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Standard errors by parameter, where theory gives them."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        fitted = _fitted(learned)
        found = _named(fitted.form, errors_of(learned["weight_doubt"]), learned["start_errors"][: 2 + fitted.period])
        return found | {"variance": variance_error(fitted.variance, fitted.count)}

    def pictures(self, state: ForecasterState, panel: Panel, key: str) -> list[Picture]:
        """The one-step error against each weight, the others and the start as they were learned."""
        learned = self.learned(state, key)
        if learned is None:
            return []
        values, _ = self._since(learned, panel, panel.index(key))
        fitted, rest, _ = self._placed(learned, values[-_DRAWN:] if len(values) > _DRAWN else values, 0)
        level, _, season, _ = fitted.weights.tolist()
        asked = [("level", 0, 1.0)]
        if fitted.form.trend is not None:
            asked.append(("trend", 1, level))
        if fitted.form.season is not None:
            asked.append(("season", 2, 1 - level))
        curves, marks = [], []
        for name, place, most in asked:
            grid = np.linspace(0.005, 0.995, 60) * most
            errors = []
            for weight in grid:
                weights = fitted.weights.copy()
                weights[place] = weight
                if place == 0:
                    weights[1], weights[2] = min(weights[1], weight), min(season, 1 - weight)
                gaps = rest - run(replace(fitted, weights=weights), rest).means
                errors.append(aimed_error(gaps, rest, self.aim))
            curves.append(Curve(name, grid, np.array(errors)))
            marks.append((float(fitted.weights[place]), name))
        return [
            Picture(f"{_AIMED[self.aim]} one step ahead against each weight", "weight", tuple(curves), tuple(marks))
        ]

    def summary_of(self, learned: Learned) -> str:
        """What was learned of one series, in one sentence."""
        fitted = _fitted(learned)
        weights = [f"level {fitted.weights[0]:.3g}"]
        if fitted.form.trend is not None:
            weights.append(f"trend {fitted.weights[1]:.3g}")
        if fitted.form.season is not None:
            weights.append(f"season {fitted.weights[2]:.3g}")
        damping = f", damped by {fitted.weights[3]:.3g} a step" if fitted.form.damped else ""
        words = fitted.form.words
        return f"{words[0].upper()}{words[1:]}; weights: {', '.join(weights)}{damping}."


def _named(form: Form, weights: Floats, start: Floats) -> dict[str, float]:
    """Those of four weights and 2 + period start values that a form has."""
    out = {"level_weight": float(weights[0])}
    if form.trend is not None:
        out["trend_weight"] = float(weights[1])
    if form.season is not None:
        out["season_weight"] = float(weights[2])
    if form.damped:
        out["damping"] = float(weights[3])
    out["start_level"] = float(start[0])
    if form.trend is not None:
        out["start_trend"] = float(start[1])
    if form.season is not None:
        out |= {f"start_season_{i + 1}": float(value) for i, value in enumerate(start[2:])}
    return out


def _coded(form: Form) -> Floats:
    return np.array([*form.codes, form.damped], dtype=np.float64)


def _fitted(learned: Learned) -> FittedForm:
    error, trend, season, damped = (int(each) for each in learned["form"])
    period = int(learned["period"])
    form = Form(_WAYS[error], _WAYS[trend], _WAYS[season], bool(damped))
    return FittedForm(
        form, period, learned["weights"], np.ascontiguousarray(learned["start"][: 2 + period]),
        float(learned["variance"]), float(learned["loglik"]), int(learned["free"]), int(learned["count"]), 0, True,
    )  # fmt: skip


def means_after(fitted: FittedForm, passed: Passed, at: Ints, horizon: int) -> Floats:
    """Means (n_origins, horizon) after `at` points of what was passed."""
    out = np.empty((len(at), horizon))
    _, trend, season = fitted.form.codes
    for row, place in enumerate(at.tolist()):
        ahead(
            passed.levels[place], passed.trends[place], passed.seasons[place : place + fitted.period], trend, season,
            fitted.weights[3], out[row],
        )  # fmt: skip
    return out
