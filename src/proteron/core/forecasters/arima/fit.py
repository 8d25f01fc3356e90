"""Fitting one seasonal ARIMA model with covariates by exact maximum likelihood."""

from dataclasses import dataclass

import numpy as np

from proteron.core.errors import SettingsError, TooShortError
from proteron.core.forecasters.arima.likelihood import (
    CONDITIONAL,
    EXACT,
    GAPPY,
    maximise,
    natural,
    polynomials,
    profiled,
)
from proteron.core.forecasters.criteria import information
from proteron.core.forecasters.minimise import covariance_from, errors_of
from proteron.core.forecasters.ranges import prediction_variance, variance_error
from proteron.core.panel import Floats

_TOLERANCE = 1e-10
_MOST_CALLS = 4000
_MOST_FILLED = 60
_HALF = 1e-3


@dataclass(frozen=True)
class Orders:
    """Orders (p, d, q) and, by `period` steps, (P, D, Q)."""

    p: int = 0
    d: int = 0
    q: int = 0
    seasonal_p: int = 0
    seasonal_d: int = 0
    seasonal_q: int = 0
    period: int = 1

    @property
    def counts(self) -> tuple[int, int, int, int]:
        """How many AR, MA, seasonal AR and seasonal MA coefficients."""
        return self.p, self.q, self.seasonal_p, self.seasonal_q

    @property
    def lost(self) -> int:
        """Values that differencing takes away."""
        return self.d + self.seasonal_d * self.period

    @property
    def names(self) -> tuple[str, ...]:
        kinds = zip(("ar", "ma", "sar", "sma"), self.counts, strict=True)
        return tuple(f"{kind}{i + 1}" for kind, count in kinds for i in range(count))

    def __str__(self) -> str:
        plain = f"({self.p}, {self.d}, {self.q})"
        if not (self.seasonal_p or self.seasonal_d or self.seasonal_q):
            return plain
        return f"{plain} ({self.seasonal_p}, {self.seasonal_d}, {self.seasonal_q}) per {self.period}"


@dataclass(frozen=True)
class ArimaFit:
    """What was learned of one series.

    `coefficients` in the order AR, MA, seasonal AR, seasonal MA; `effects` of the constant (“mean” where nothing is
    differenced, “drift” per step otherwise) and covariates, named in `effect_names`; `covariance` of the
    doubt in both; `variance` of the one-step errors; `free` numbers estimated; `count` values known after differencing.
    """

    orders: Orders
    coefficients: Floats
    effects: Floats
    effect_names: tuple[str, ...]
    covariance: Floats
    variance: float
    loglik: float
    free: int
    count: int
    calls: int

    @property
    def parameters(self) -> dict[str, float]:
        """Learned numbers of one series by name, in flat units."""
        names = (*self.orders.names, *self.effect_names)
        values = [*self.coefficients.tolist(), *self.effects.tolist()]
        return dict(zip(names, values, strict=True)) | {"variance": self.variance}

    @property
    def standard_errors(self) -> dict[str, float]:
        """Standard errors by parameter, where theory gives them."""
        errors = errors_of(self.covariance).tolist()
        named = dict(zip((*self.orders.names, *self.effect_names), errors, strict=True))
        return named | {"variance": variance_error(self.variance, self.count)}

    @property
    def criteria(self) -> dict[str, float]:
        """Log-likelihood and criteria of one series, where there is a likelihood."""
        return information(self.loglik, self.free, self.count)

    @property
    def ahead_variance(self) -> float:
        """Variance of the one-step error to come, what was estimated being in doubt."""
        return prediction_variance(self.variance * self.count, self.count, self.free - 1)

    def polynomials(self) -> tuple[Floats, Floats]:
        """AR and MA of the differenced series, seasons multiplied out."""
        ar, ma = polynomials(self.coefficients, self.orders.counts, self.orders.period)
        return np.asarray(ar), np.asarray(ma)


def differenced(values: Floats, orders: Orders) -> Floats:
    """Seasonal, then plain differences of columns (n, …), the first `orders.lost` rows gone."""
    out = values
    for _ in range(orders.seasonal_d):
        out = out[orders.period :] - out[: -orders.period]
    for _ in range(orders.d):
        out = out[1:] - out[:-1]
    return np.asarray(out)


def constant_column(count: int, orders: Orders, start: int = 0) -> tuple[str, Floats] | None:
    """The column of a constant: ones for the mean, the time for a drift; None after two differences."""
    if orders.d + orders.seasonal_d == 0:
        return "mean", np.ones(count)
    return ("drift", np.arange(start + 1.0, start + count + 1)) if orders.d + orders.seasonal_d == 1 else None


def fit_arima(
    values: Floats, orders: Orders, *, constant: bool = False, covariates: Floats | None = None,
    names: tuple[str, ...] = (), stationary: bool = True, invertible: bool = True, with_errors: bool = True,
    fast: bool = False,
) -> ArimaFit:  # fmt: skip
    """Fit one model to a series (n,), NaN where missing, with `covariates` (n, k) known everywhere.

    Exact likelihood, with gaps too; from a start by conditional least squares. Where it need not be `stationary` the
    likelihood is that given the first values, as there is no exact one. `fast` stops at the start's likelihood, for
    searches. Raises `TooShortError` and `SettingsError`.
    """
    present = np.isfinite(values)
    if orders.lost >= len(values) or present.sum() - orders.lost < len(orders.names) + 2:
        raise TooShortError(
            f"An ARIMA model of order {orders} needs more than {int(present.sum())} known points.", field="order"
        )
    size = float(np.nanmax(np.abs(values))) or 1.0
    filled = np.where(present, values, 0.0) / size
    extra, effect_names = _effects(len(values), orders, constant, covariates, names)
    sizes = np.abs(extra).max(axis=0, initial=0.0)
    units = np.where(sizes > 0, sizes, 1.0)
    missing = np.flatnonzero(~present)
    way = CONDITIONAL if not stationary else GAPPY if orders.lost == 0 and len(missing) else EXACT
    gaps = 0 if way == GAPPY else len(missing)
    if gaps > _MOST_FILLED and gaps > len(values) // 4:
        raise TooShortError(
            f"{gaps} of {len(values)} points are missing: fill them first, or do without differences.", field="order"
        )
    dummies = np.zeros((len(values), gaps))
    dummies[missing[:gaps], np.arange(gaps)] = 1.0
    target = np.where(present, filled, np.nan) if way == GAPPY else filled
    columns = np.ascontiguousarray(differenced(np.column_stack([target, dummies, extra / units]), orders))
    count = _counted(columns, orders, way, gaps)
    task = _Task(columns, orders, gaps, way, count, stationary, invertible)
    coefficients, effects, value, calls = task.optimise(fast)
    return task.described(coefficients, effects, value, calls, effect_names, units, size, with_errors)


def _effects(
    count: int, orders: Orders, constant: bool, covariates: Floats | None, names: tuple[str, ...]
) -> tuple[Floats, tuple[str, ...]]:
    """The columns beside the noise (n, k), a constant first where there is to be one, and their names."""
    extra = np.empty((count, 0)) if covariates is None else covariates
    effect_names = tuple(names) if covariates is not None else ()
    column = constant_column(count, orders) if constant else None
    if column is not None:
        extra, effect_names = np.column_stack([column[1], extra]), (column[0], *effect_names)
    if not np.isfinite(extra).all():
        raise SettingsError("A covariate is missing where the series is known.", field="covariates")
    return extra, effect_names


def _counted(columns: Floats, orders: Orders, way: int, gaps: int) -> int:
    """Errors that count in the likelihood; raises `TooShortError` where too few are left."""
    count = len(columns) - (int(np.isnan(columns[:, 0]).sum()) if way == GAPPY else gaps)
    if way == CONDITIONAL:
        count -= orders.p + orders.seasonal_p * orders.period
        if count < len(orders.names) + 2:
            raise TooShortError(f"Given its first values, a model of order {orders} has too few left.", field="order")
    return count


@dataclass(frozen=True)
class _Task:
    """One likelihood to maximise: columns (n, 1 + gaps + k) as in `likelihood.profiled`, and how."""

    columns: Floats
    orders: Orders
    gaps: int
    way: int
    count: int
    stationary: bool
    invertible: bool

    def value(self, coefficients: Floats, columns: Floats, white: Floats, effects: Floats) -> float:
        counts, period = self.orders.counts, self.orders.period
        return float(
            profiled(coefficients, counts, period, columns, self.gaps, self.way, self.count, white, effects)
        )  # fmt: skip

    def optimise(self, fast: bool) -> tuple[Floats, Floats, float, int]:
        """Coefficients, effects of columns, minus the log-likelihood, evaluations."""
        counts, period, columns = self.orders.counts, self.orders.period, self.columns
        calls, found = 0, np.zeros(sum(counts))
        if len(found):
            free = self._start()
            if fast:
                found = natural(free, counts, True, True)
            else:
                inside, at = natural(free, counts, True, True), 0
                for part, many in enumerate(counts):
                    if not (self.invertible if part % 2 else self.stationary):
                        free[at : at + many] = inside[at : at + many]
                    at += many
                _, calls = maximise(free, counts, period, columns, self.gaps, self.way, self.count, self.stationary,
                                    self.invertible, _TOLERANCE, _MOST_CALLS)  # fmt: skip
                found = natural(free, counts, self.stationary, self.invertible)
        effects = np.empty(columns.shape[1] - 1)
        value = self.value(found, columns, np.empty(columns.shape), effects)
        if not np.isfinite(value):
            raise TooShortError(
                f"The likelihood of an ARIMA model of order {self.orders} cannot be worked out.", field="order"
            )
        return found, effects, value, int(calls)

    def _start(self) -> Floats:
        """Unbounded numbers by conditional least squares, effects of columns taken out first."""
        known = np.isfinite(self.columns[:, 0])
        rest = self.columns[:, 0].copy()
        if self.columns.shape[1] > 1:
            slopes = np.linalg.lstsq(self.columns[known, 1:], self.columns[known, 0])[0]
            rest = self.columns[:, 0] - self.columns[:, 1:] @ slopes
        rest[~known] = 0.0
        free = np.zeros(sum(self.orders.counts))
        maximise(free, self.orders.counts, self.orders.period, np.ascontiguousarray(rest[:, None]), 0, CONDITIONAL,
                 len(rest), True, True, 1e-6, 600)  # fmt: skip
        return np.clip(free, -1.8, 1.8)

    def described(
        self, coefficients: Floats, effects: Floats, value: float, calls: int, effect_names: tuple[str, ...],
        units: Floats, size: float, with_errors: bool,
    ) -> ArimaFit:  # fmt: skip
        """The fit in the units of the series, of which `size` is 1 here, and of covariates, `units` (k,)."""
        white, count = np.empty(self.columns.shape), self.count
        self.value(coefficients, self.columns, white, np.empty(len(effects)))
        rest = white[:, 0] - white[:, 1:] @ effects
        variance = float((rest**2).sum() / count) * size**2
        loglik = -value - 0.5 * count * (np.log(2 * np.pi) + 1) - count * np.log(size)
        numbers = len(coefficients) + len(effect_names)
        covariance = np.full((numbers, numbers), np.nan)
        if with_errors:
            turned = np.concatenate([np.ones(len(coefficients)), size / units])
            covariance = self._covariance(coefficients, effects, white) * np.outer(turned, turned)
        free = numbers + 1
        return ArimaFit(self.orders, coefficients, effects[self.gaps :] * size / units, effect_names, covariance,
                        variance, float(loglik), free, count, calls)  # fmt: skip

    def _covariance(self, coefficients: Floats, effects: Floats, whole: Floats) -> Floats:
        """From the curvature of the log-likelihood in coefficients and effects together, by differences."""
        size, after = len(coefficients), 1 + self.gaps
        point = np.concatenate([coefficients, effects[self.gaps :]])
        rest = whole[:, 0] - whole[:, 1:] @ effects
        sizes = np.sqrt((whole[:, after:] ** 2).sum(axis=0) / max(float((rest**2).mean()), 1e-300))
        steps = np.concatenate([np.full(size, _HALF), 0.05 / np.maximum(sizes, 1e-300)])
        inner = np.ascontiguousarray(self.columns[:, :after])
        white, filled = np.empty(inner.shape), np.empty(self.gaps)

        def at(moved: Floats) -> float:
            shifted = inner.copy()
            shifted[:, 0] = self.columns[:, 0] - self.columns[:, after:] @ moved[size:]
            return self.value(np.ascontiguousarray(moved[:size]), shifted, white, filled)

        return covariance_from(at, point, steps)
