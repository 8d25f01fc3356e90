"""Smoothing with several seasons made of turning waves, and ARMA errors (De Livera, Hyndman & Snyder 2011)."""

from contextlib import suppress
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy import special

from proteron.core.errors import TooShortError
from proteron.core.forecasters.arima.fit import Orders
from proteron.core.forecasters.arima.polynomials import to_partial
from proteron.core.forecasters.arima.search import Limits, choose_orders
from proteron.core.forecasters.criteria import information
from proteron.core.forecasters.minimise import covariance_from
from proteron.core.forecasters.smoothing.wave_kernels import maximise_waves, pass_waves, start_of_waves, wave_numbers
from proteron.core.panel import Floats

_FAR = 0.02
_LEAST_BEND = 0.05
_MOST_WORK = 1e7  # points, times columns, times squared numbers
_MOST_STEPS, _FEW_STEPS = 120, 30
_LONGEST_CHOICE = 2500
_MOST_WAVES = 10
_SAME_ANGLE = 1e-6


@dataclass(frozen=True)
class WaveForm:
    """The parts: `trend` none, straight or damped; seasons as (period, waves); ARMA orders of the errors."""

    trend: str
    seasons: tuple[tuple[float, int], ...]
    arma: tuple[int, int] = (0, 0)

    @cached_property
    def _waves(self) -> list[tuple[float, int]]:
        """Angle a step of every wave, and its season; one that a shorter season has already is left out."""
        out: list[tuple[float, int]] = []
        for place, (period, waves) in enumerate(self.seasons):
            for j in range(1, waves + 1):
                angle = 2 * np.pi * j / period
                if all(abs(angle - other) > _SAME_ANGLE for other, _ in out):
                    out.append((angle, place))
        return out

    @property
    def turns(self) -> Floats:
        """Angle a step of every wave, (k,)."""
        return np.array([angle for angle, _ in self._waves], dtype=np.float64)

    @property
    def owners(self) -> Floats:
        """Which season every wave belongs to, (k,)."""
        return np.array([place for _, place in self._waves], dtype=np.float64)

    @property
    def seeds(self) -> int:
        """Numbers of the start: level, slope, two for each wave."""
        return 1 + (self.trend != "none") + 2 * len(self.turns)

    @property
    def weights(self) -> int:
        """Numbers that stay: level, slope and damping, two for each season, ARMA."""
        return 1 + {"none": 0, "additive": 1, "damped": 2}[self.trend] + 2 * len(self.seasons) + sum(self.arma)

    @property
    def size(self) -> int:
        return self.seeds + sum(self.arma)

    def numbers(self, free: Floats) -> tuple[Floats, Floats, Floats, Floats]:
        """Weights (3,), weights of each wave (k, 2), AR and MA that unbounded numbers stand for."""
        return wave_numbers(free, _TRENDS[self.trend], self.turns, self.owners, len(self.seasons), *self.arma)

    @property
    def words(self) -> str:
        trend = {"none": "no trend", "additive": "a trend", "damped": "a damped trend"}[self.trend]
        seasons = ", ".join(f"{waves} wave{'s' if waves > 1 else ''} of {period:g}" for period, waves in self.seasons)
        errors = f", ARMA {self.arma} errors" if any(self.arma) else ""
        return f"{trend}, {seasons or 'no season'}{errors}"


@dataclass(frozen=True)
class FittedWaves:
    """A form with what was learned: unbounded `free` numbers, `begin` (size,) the start, `variance` of the errors."""

    form: WaveForm
    free: Floats
    begin: Floats
    variance: float
    loglik: float
    count: int

    @property
    def criteria(self) -> dict[str, float]:
        """Log-likelihood and criteria of one series, where there is a likelihood."""
        return information(self.loglik, self.form.weights + self.form.seeds + 1, self.count)

    @property
    def learned(self) -> tuple[Floats, Floats, Floats, Floats]:
        """Weights (3,), weights of each wave (k, 2), AR and MA."""
        return self.form.numbers(self.free)

    def named(self, free: Floats) -> dict[str, float]:
        """Weights, damping and ARMA coefficients by name that unbounded numbers stand for."""
        form = self.form
        numbers, _, ar, ma = form.numbers(free)
        first = form.weights - sum(form.arma) - 2 * len(form.seasons)
        out = {"level_weight": float(numbers[0])}
        if form.trend != "none":
            out["trend_weight"] = float(numbers[1])
        if form.trend == "damped":
            out["damping"] = float(numbers[2])
        for place, (period, _) in enumerate(form.seasons):
            if (form.owners == place).any():
                along, across = free[first + 2 * place : first + 2 * place + 2].tolist()
                out[f"season_{period:g}_weight"] = 0.5 * float(special.expit(along))
                out[f"season_{period:g}_cross_weight"] = 0.5 * np.tanh(0.1 * across)
        out |= {f"ar{i + 1}": float(value) for i, value in enumerate(ar)}
        return out | {f"ma{i + 1}": float(value) for i, value in enumerate(ma)}

    def passed(self, values: Floats) -> tuple[Floats, Floats]:
        """One-step errors (n,), nothing where a value is missing; states before each point and after the last."""
        numbers, gammas, ar, ma = self.learned
        errors, kept = np.empty(len(values)), np.empty((len(values) + 1, self.form.size))
        pass_waves(np.ascontiguousarray(values), numbers, self.form.turns, gammas, ar, ma, self.form.trend != "none",
                   self.begin, False, errors, kept)  # fmt: skip
        return errors, kept

    def matrices(self) -> tuple[Floats, Floats, Floats]:
        """How the state moves by itself (size, size), what of it is seen (size,), what an error does to it (size,)."""
        numbers, gammas, ar, ma = self.learned
        form, size = self.form, self.form.size
        sloped = form.trend != "none"
        columns = np.empty((size, size))
        seen, gain = np.empty(size), np.empty((2, size))
        for i in range(size):
            kept, errors = np.empty((2, size)), np.empty(1)
            pass_waves(np.full(1, np.nan), numbers, form.turns, gammas, ar, ma, sloped, np.eye(size)[i], True,
                       errors, kept)  # fmt: skip
            columns[:, i] = kept[1]
            pass_waves(np.zeros(1), numbers, form.turns, gammas, ar, ma, sloped, np.eye(size)[i], True, errors, kept)
            seen[i] = -errors[0]
        pass_waves(np.ones(1), numbers, form.turns, gammas, ar, ma, sloped, np.zeros(size), False, np.empty(1), gain)
        return columns, seen, gain[1]


_TRENDS = {"none": 0, "additive": 1, "damped": 2}


def fit_waves(values: Floats, form: WaveForm, start: Floats | None = None, steps: int = _MOST_STEPS) -> FittedWaves:
    """Fit one form to a series (n,), NaN where missing, from unbounded numbers `start` or the usual ones."""
    known = np.isfinite(values)
    count = int(known.sum())
    if count <= form.seeds + form.weights + 2:
        raise TooShortError(
            f"Smoothing with {form.words} needs more than {form.seeds + form.weights + 2} known points; "
            f"there are {count}.", field="periods",
        )  # fmt: skip
    centre, unit = float(np.mean(values[known])), float(np.std(values[known])) or 1.0
    scaled = np.ascontiguousarray((values - centre) / unit)
    free = np.zeros(form.weights) if start is None else start.copy()
    if start is None:
        free[0] = -2.0
        free[1 : 1 + _TRENDS[form.trend]] = (-4.5, 1.0)[: _TRENDS[form.trend]]
        free[form.weights - sum(form.arma) - 2 * len(form.seasons) : form.weights - sum(form.arma) : 2] = -3.0
    begin = np.zeros(form.size)
    value = maximise_waves(scaled, form.turns, form.owners, len(form.seasons), _TRENDS[form.trend], *form.arma, count,
                           free, begin, steps)  # fmt: skip
    if not np.isfinite(value):
        raise TooShortError(f"Smoothing with {form.words} cannot be told from these points.", field="periods")
    begin[: form.seeds] *= unit
    begin[0] += centre
    loglik = -value - 0.5 * count * (np.log(2 * np.pi) + 1) - count * np.log(unit)
    return FittedWaves(form, free, begin, float(np.exp(2 * value / count)) * unit**2, float(loglik), count)


def standard_errors(fitted: FittedWaves, values: Floats) -> Floats:
    """Standard errors of what `FittedWaves.named` names (k,), from the curvature of the likelihood over `values` (n,).

    NaN where the likelihood does not tell, and throughout where the series is too long for it to be worked out.
    """
    form, free = fitted.form, fitted.free
    names = fitted.named(free)
    if len(values) * (form.seeds + 1) * len(free) ** 2 > _MOST_WORK or not np.isfinite(fitted.loglik):
        return np.full(len(names), np.nan)
    turned = np.array(
        [
            (np.array(list(fitted.named(free + step).values())) - list(fitted.named(free - step).values())) / (2 * _FAR)
            for step in _FAR * np.eye(len(free))
        ]
    ).T
    known = values[np.isfinite(values)]
    scaled = np.ascontiguousarray((values - known.mean()) / (float(known.std()) or 1.0))
    table, begin = np.empty((len(values), form.seeds + 1)), np.zeros(form.size)

    def minus(at: Floats) -> float:
        numbers, gammas, ar, ma = form.numbers(at)
        squares = start_of_waves(scaled, numbers, form.turns, gammas, ar, ma, form.trend != "none", begin, table)
        return float(0.5 * fitted.count * np.log(squares))

    here = minus(free)
    bends = np.array([minus(free + step) + minus(free - step) - 2 * here for step in _FAR * np.eye(len(free))])
    there = np.flatnonzero(bends > _LEAST_BEND * _FAR**2)

    def some(at: Floats) -> float:
        moved = free.copy()
        moved[there] = at
        return minus(moved)

    covariance = covariance_from(some, free[there], np.full(len(there), _FAR))
    found = np.sqrt(np.maximum(np.einsum("ij,jk,ik->i", turned[:, there], covariance, turned[:, there]), 0.0))
    untold = np.abs(np.delete(turned, there, axis=1)).max(axis=1, initial=0.0)
    return np.where((found > 0) & (untold <= found), found, np.nan)


def choose_waves(
    values: Floats, periods: tuple[float, ...], waves: int | None, trends: tuple[str, ...], arma: tuple[int, int] | None
) -> tuple[FittedWaves, list[FittedWaves]]:  # fmt: skip
    """The form with the smallest AICc, and all that were tried, best first, which are judged on the last points.

    Waves for each season by BIC of a regression; then the trend; then ARMA orders of what is left, where they help.
    """
    recent = max(_LONGEST_CHOICE, int(3 * max(periods, default=1)) + 1)
    short = values[-recent:]
    seasons = tuple(zip(periods, _waves_of(short, periods, waves), strict=True))
    tried = []
    reason: TooShortError | None = None
    for trend in trends:
        try:
            tried.append(fit_waves(short, WaveForm(trend, seasons, arma or (0, 0))))
        except TooShortError as error:
            reason = error
    if not tried:
        raise reason or TooShortError("There is nothing to smooth.", field="periods")
    best = min(tried, key=lambda each: each.criteria["aicc"])
    if arma is None:
        form, errors = best.form, best.passed(short)[0]
        free = {"p": True, "q": True, "seasonal_p": False, "seasonal_q": False}
        found = choose_orders(errors, Orders(), free, False, limits=Limits(3, 3, 0, 0, 4))[0]
        if found.orders.p or found.orders.q:
            form = WaveForm(form.trend, seasons, (found.orders.p, found.orders.q))
            inside = [np.arctanh(np.clip(to_partial(sign * each), -0.95, 0.95))
                      for sign, each in ((1, found.coefficients[: found.orders.p]),
                                         (-1, found.coefficients[found.orders.p :]))]  # fmt: skip
            with suppress(TooShortError):
                tried.append(fit_waves(short, form, np.concatenate([best.free, *inside])))
    tried.sort(key=lambda each: each.criteria["aicc"])
    best = tried[0]
    if len(short) == len(values):
        return best, tried
    try:
        return fit_waves(values, best.form, best.free, _FEW_STEPS), tried
    except TooShortError:  # what was found on the last points does not go with all of them
        return fit_waves(values, best.form), tried


def _waves_of(values: Floats, periods: tuple[float, ...], waves: int | None) -> list[int]:
    """How many waves each season has: as many as lower the BIC of a regression on a bending trend and all waves."""
    at = np.flatnonzero(np.isfinite(values)).astype(np.float64)
    known = values[np.isfinite(values)]
    most = [max(1, min(waves or _MOST_WAVES, int((period - 1e-9) / 2))) for period in periods]
    if waves is not None:
        return most
    places = np.linspace(0, len(values), 12)[1:-1]
    base = [np.ones(len(at)), at, *(np.maximum(at - place, 0.0) for place in places[: max(len(at) // 20, 0)])]
    out = [1] * len(periods)

    def criterion(counts: list[int]) -> float:
        angles = [turn * at for turn in WaveForm("none", tuple(zip(periods, counts, strict=True))).turns]
        columns = np.column_stack([*base, *(wave for angle in angles for wave in (np.sin(angle), np.cos(angle)))])
        if columns.shape[1] >= len(at) - 2:
            return np.inf
        rest = known - columns @ np.linalg.lstsq(columns, known)[0]
        return float(len(at) * np.log(max((rest**2).mean(), 1e-300)) + columns.shape[1] * np.log(len(at)))

    best = criterion(out)
    for place in range(len(periods)):
        while out[place] < most[place]:
            more = [count + (i == place) for i, count in enumerate(out)]
            found = criterion(more)
            if not found < best:
                break
            out, best = more, found
    return out
