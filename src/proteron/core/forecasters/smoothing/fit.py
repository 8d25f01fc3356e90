"""Fitting a form of exponential smoothing by maximum likelihood, and choosing among forms."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import minimize

from proteron.core.errors import TooShortError
from proteron.core.forecasters.criteria import information
from proteron.core.forecasters.ranges import prediction_variance
from proteron.core.forecasters.smoothing.climb import fit
from proteron.core.forecasters.smoothing.forms import Form
from proteron.core.forecasters.smoothing.kernels import average_apart, smooth
from proteron.core.forecasters.smoothing.likelihood import unfold
from proteron.core.panel import Floats

Starts = Literal["optimised", "heuristic"]
_TOLERANCE = 1e-8
_MOST_PASSES = 400


@dataclass(frozen=True)
class FittedForm:
    """A form with what was learned of one series.

    `weights` (4,): level α, trend β, season γ, damping φ, as in the state-space form, where β is at most α and γ
    at most 1 − α; `start` (2 + period,): level, trend, season of the first cycle; `variance` of the (relative)
    errors; `loglik` Gaussian; `free` numbers estimated, `count` known points.
    """

    form: Form
    period: int
    weights: Floats
    start: Floats
    variance: float
    loglik: float
    free: int
    count: int
    passes: int
    settled: bool

    @property
    def ahead_variance(self) -> float:
        """Variance of the (relative) one-step error to come, what was estimated being in doubt."""
        return prediction_variance(self.variance * self.count, self.count, self.free - 1)

    @property
    def criteria(self) -> dict[str, float]:
        """Log-likelihood and criteria of one series, where there is a likelihood."""
        return information(self.loglik, self.free, self.count)


def start_values(values: Floats, form: Form, period: int) -> Floats:
    """Level, trend and first cycle (2 + period,) by heuristic: means of the first cycles, a line through ten points.

    Hyndman, Koehler, Ord & Snyder 2008, § 2.6, with gaps left out.
    """
    start = np.zeros(2 + period)
    first = int(np.flatnonzero(np.isfinite(values))[0])
    head = values[first:]
    if form.season is not None:
        figure = seasonal_figure(head[: max(5 * period, 2 * period + 2)], period, form.season)
        start[2:] = np.roll(figure, first % period)
        head = head[: 4 * period + 40]
        whole = np.resize(figure, len(head))
        head = head - whole if form.season == "additive" else head / np.where(whole == 0, 1.0, whole)
    at = np.flatnonzero(np.isfinite(head))[: max(10, period if form.season else 10)]
    if form.trend is None:
        start[0] = head[at].mean() if form.season is not None else head[at][: max(3, len(at) // 2)].mean()
        return start
    level, slope = _line(np.asarray(at + 1.0, dtype=np.float64), head[at])
    if form.trend == "additive":
        start[0], start[1] = level, slope
    else:
        start[0] = max(level, 0.1 * abs(head[at].mean()) + 1e-8)
        start[1] = np.clip(1 + slope / start[0], 0.8, 1.25)
    if form.needs_positive and start[0] <= 0:
        start[0], start[1] = max(head[at[0]], 1e-8), 0.0 if form.trend == "additive" else 1.0
    start[0] -= (first * start[1]) if form.trend == "additive" else 0.0
    return start


def _line(x: Floats, y: Floats) -> tuple[float, float]:
    """Level at 0 and slope of the least-squares line."""
    apart = x - x.mean()
    wide = float((apart**2).sum())
    slope = float((apart * y).sum()) / wide if wide > 0 else 0.0
    return float(y.mean()) - slope * float(x.mean()), slope


def seasonal_figure(head: Floats, period: int, way: str) -> Floats:
    """The season of some cycles, (period,): deviations from a centred mean over one cycle, averaged by phase.

    Deviations sum to zero, ratios (“mul”) to the period.
    """
    figure = np.empty(period)
    average_apart(head, period, way == "additive", figure)
    if way == "additive":
        return figure - figure.mean()
    figure = np.maximum(figure, 1e-2)
    return figure * (period / figure.sum())


def fit_form(
    values: Floats, form: Form, period: int, *, weights: Sequence[float | None] = (None, None, None, None),
    starts: Starts | Floats = "optimised", tolerance: float = _TOLERANCE,
) -> FittedForm:  # fmt: skip
    """Fit one form to one series (n,), NaN where missing.

    Weights that are given stand fixed; `starts` are optimised along, taken by heuristic, or as they are given
    (2 + period,). Raises `TooShortError` where there are too few known points.
    """
    period = period if form.season is not None else 1
    known = np.isfinite(values)
    count = int(known.sum())
    if count < 3 or (form.season is not None and count < period + 3):
        raise TooShortError(f"Smoothing with {form.words} needs more than {count} known points.", field="season")
    unit = float(np.abs(values[known]).max()) or 1.0  # near one, huge and tiny values fit alike
    scaled = np.ascontiguousarray(values / unit)
    units = start_units(form, unit, period)
    given = np.array([np.nan if each is None else float(each) for each in weights])
    stated = None if isinstance(starts, str) else starts
    begin = start_values(scaled, form, period) if stated is None else stated / units
    error, trend, season = form.codes
    scale = _search_scale(scaled, begin, form, period)
    free = np.zeros(6 + max(period - 1, 0))
    free[:4] = _START
    starts_free = stated is None and starts == "optimised"
    value, passes, settled = fit(
        scaled, error, trend, season, form.damped, period, given, scale, free, starts_free, tolerance, _MOST_PASSES
    )
    found, first = np.empty(4), np.empty(2 + period)
    unfold(free, given, trend, season, form.damped, period, scale, found, first)
    if form.season is not None and not starts_free:
        first = begin.copy()
    found[1] *= found[0]
    numbers = _free_numbers(form, period, given, starts_free)
    fitted = FittedForm(form, period, found, first * units, 0.0, 0.0, numbers, count,
                        passes, settled)  # fmt: skip
    errors = one_step_errors(fitted, values)
    relative = errors[np.isfinite(errors)]
    variance = float((relative**2).mean()) if np.isfinite(value) else np.nan
    loglik = -value - 0.5 * count * (np.log(2 * np.pi) + 1) - count * np.log(unit)
    return replace(fitted, variance=variance, loglik=float(loglik))


Aim = Literal["likelihood", "squared", "absolute", "percentage"]


def aimed_error(gaps: Floats, values: Floats, aim: Aim) -> float:
    """The error that is aimed at of gaps (n,) to values (n,): root mean squared, mean absolute, or in percent."""
    known = np.isfinite(gaps)
    gaps, values = np.abs(gaps[known]), np.abs(values[known])
    if not len(gaps):
        return np.nan
    if aim == "percentage":
        there = values > 0
        return float(100 * (gaps[there] / values[there]).mean()) if there.any() else np.nan
    return float(gaps.mean()) if aim == "absolute" else float(np.sqrt((gaps**2).mean()))


@dataclass(frozen=True)
class _Moves:
    """Where the weights that may move, and the first level and slope where free, are looked for around a fit."""

    fitted: FittedForm
    movable: NDArray[np.bool_]  # (4,) of level, trend over level, season, damping
    shares: Floats  # (4,) as they stand
    spread: float  # of changes, the unit of the first level
    starts_free: bool

    @property
    def begin(self) -> Floats:
        return np.concatenate([self.shares[self.movable], np.zeros(2 if self.starts_free else 0)])

    def placed(self, numbers: Floats) -> FittedForm:
        """The fit with other numbers."""
        share, start = self.shares.copy(), self.fitted.start.copy()
        share[self.movable] = numbers[: int(self.movable.sum())]
        weights = share * [1.0, share[0], 1.0, 1.0]
        weights[1:][~self.movable[1:]] = self.fitted.weights[1:][~self.movable[1:]]
        trend = self.fitted.form.trend
        if self.starts_free:
            start[0] += numbers[-2] * self.spread
            start[1] += numbers[-1] * {"additive": 0.1 * self.spread, "multiplicative": 0.01, None: 0.0}[trend]
        return replace(self.fitted, weights=weights, start=start)

    def allowed(self, weights: Floats) -> bool:
        """Whether weights lie where those of the likelihood are looked for."""
        level, slope, figure, damping = weights
        damped = 0.8 <= damping <= 0.98 or not self.movable[3]
        return bool(1e-4 <= level <= 1 - 1e-4 and 0 <= slope <= level and 0 <= figure <= 1 - level and damped)


def fit_for(
    fitted: FittedForm, values: Floats, aim: Aim, given: Sequence[float | None], starts_free: bool
) -> FittedForm:
    """A form fitted by likelihood, its weights (and first level and slope where free) moved to the least error `aim`.

    By the simplex of Nelder and Mead (1965), since absolute errors have corners; likelihood and criteria are those of
    the numbers found.
    """
    form = fitted.form
    used = np.array([True, form.trend is not None, form.season is not None, form.damped])
    free = np.array([each is None for each in given])
    shares = fitted.weights * [1.0, 1.0 / max(fitted.weights[0], 1e-12), 1.0, 1.0]
    known = values[np.isfinite(values)]
    moves = _Moves(fitted, used & free, shares, float(np.std(np.diff(known))) or 1e-3, starts_free)

    def error_of(numbers: Floats) -> float:
        now = moves.placed(numbers)
        if not moves.allowed(now.weights):
            return np.inf
        error = aimed_error(values - run(now, values).means, values, aim)
        return error if np.isfinite(error) else np.inf

    begin = moves.begin
    if not len(begin):
        return fitted
    corners = np.vstack([begin, begin + np.diag(np.where(begin > 0.5, -0.15, 0.15))])
    options = {"initial_simplex": corners, "maxfev": 300 * len(begin), "xatol": 1e-4, "fatol": 1e-9 * moves.spread}
    with np.errstate(invalid="ignore"):
        found = minimize(error_of, begin, method="Nelder-Mead", options=options)
    return _told_anew(moves.placed(found.x) if found.fun <= error_of(begin) else fitted, values)


def _told_anew(fitted: FittedForm, values: Floats) -> FittedForm:
    """With the variance and the likelihood that its own numbers give."""
    errors = one_step_errors(fitted, values)
    known = np.isfinite(errors)
    variance = float((errors[known] ** 2).mean())
    means = (values - errors if fitted.form.error == "additive" else values / (1 + errors))[known]
    logs = float(np.log(np.abs(means)).sum()) if fitted.form.error == "multiplicative" else 0.0
    count = int(known.sum())
    loglik = -0.5 * count * (np.log(2 * np.pi * max(variance, 1e-300)) + 1) - logs
    return replace(fitted, variance=variance, loglik=float(loglik))


def _search_scale(scaled: Floats, begin: Floats, form: Form, period: int) -> Floats:
    """Where start values are looked for, (2 + period, 2): a centre each, and how far a step goes."""
    known = scaled[np.isfinite(scaled)]
    spread = float(np.std(np.diff(known))) or 1e-3
    scale = np.stack([begin, np.full(2 + period, max(spread, 1e-6))], axis=1)
    scale[1, 1] = max(0.1 * spread, 1e-7) if form.trend == "additive" else 0.01
    if form.season == "multiplicative":
        scale[2:, 1] = max(spread / max(abs(begin[0]), 1e-6), 1e-4)
    return scale


def _free_numbers(form: Form, period: int, given: Floats, starts_free: bool) -> int:
    """Numbers estimated: weights that are used and not given, the level's start, and the other starts where free."""
    used = np.array([True, form.trend is not None, form.season is not None, form.damped])
    weights = int((np.isnan(given) & used).sum())
    others = form.free(period) - 2 - int(used[1:].sum()) if starts_free else 0
    return weights + 1 + others


_START = (-0.39, -0.865, -0.865, 0.69)  # level .31, trend .12 of it, season .12 of what is left, damping .95


def start_units(form: Form, unit: float, period: int) -> Floats:
    """What one of a series scaled by `unit` is in each start value (2 + period,): what multiplies has no unit."""
    season = unit if form.season == "additive" else 1.0
    return np.array([unit, 1.0 if form.trend == "multiplicative" else unit, *[season] * period])


@dataclass(frozen=True)
class Passed:
    """One pass: `means` (n,) one step ahead; states before the first point and after each, as `kernels.smooth`."""

    means: Floats
    levels: Floats
    trends: Floats
    seasons: Floats


def run(fitted: FittedForm, values: Floats) -> Passed:
    """Pass through a series with what was learned; NaN after the point from where a form cannot go on."""
    n, period = len(values), fitted.period
    passed = Passed(*(np.full(size, np.nan) for size in (n, n + 1, n + 1, n + period)))
    weights = fitted.weights.copy()
    weights[1] = weights[1] / weights[0] if weights[0] > 0 else 0.0
    _, trend, season = fitted.form.codes
    smooth(np.ascontiguousarray(values), trend, season, period, weights, fitted.start,
           passed.means, passed.levels, passed.trends, passed.seasons)  # fmt: skip
    return passed


def one_step_errors(fitted: FittedForm, values: Floats) -> Floats:
    """Errors one step ahead, relative for multiplicative errors, (n,)."""
    means = run(fitted, values).means
    gaps = values - means
    return gaps / means if fitted.form.error == "multiplicative" else gaps


def choose_form(
    values: Floats, forms: Sequence[Form], period: int, criterion: Literal["aicc", "aic", "bic"] = "aicc",
    weights: Sequence[float | None] = (None, None, None, None),
    starts: Callable[[Form, int], Starts | Floats] = lambda form, period: "optimised",
) -> tuple[FittedForm, list[FittedForm]]:  # fmt: skip
    """The form with the smallest criterion, and all that could be fitted, best first; how each starts is asked."""
    tried = []
    for form in forms:
        try:
            fitted = fit_form(values, form, period, weights=weights, starts=starts(form, period))
        except TooShortError:
            continue
        if np.isfinite(fitted.loglik) and (len(forms) == 1 or np.isfinite(fitted.criteria[criterion])):
            tried.append(fitted)
    if not tried:
        raise TooShortError("No form of smoothing can be fitted to so few points.", field="form")
    tried.sort(key=lambda each: each.criteria[criterion])
    return tried[0], tried
