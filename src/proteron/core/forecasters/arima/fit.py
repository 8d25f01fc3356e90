"""Fitting one seasonal ARIMA model with covariates by exact maximum likelihood."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from proteron.core.errors import SettingsError, TooShortError
from proteron.core.forecasters.arima.kernels import maximise, natural, polynomials, profiled
from proteron.core.forecasters.smoothing.fit import information
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
    differenced, “drift” per step otherwise) and covariates, named in `effect_names`; `errors` standard errors of
    both; `variance` of the one-step errors; `free` numbers estimated; `count` values known after differencing.
    """

    orders: Orders
    coefficients: Floats
    effects: Floats
    effect_names: tuple[str, ...]
    errors: Floats
    variance: float
    loglik: float
    free: int
    count: int
    calls: int

    @property
    def parameters(self) -> dict[str, float]:
        names = (*self.orders.names, *self.effect_names)
        values = [*self.coefficients.tolist(), *self.effects.tolist()]
        return dict(zip(names, values, strict=True)) | {"variance": self.variance}

    @property
    def standard_errors(self) -> dict[str, float]:
        return dict(zip((*self.orders.names, *self.effect_names), self.errors.tolist(), strict=True))

    @property
    def criteria(self) -> dict[str, float]:
        return information(self.loglik, self.free, self.count)

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
    names: tuple[str, ...] = (), enforced: bool = True, with_errors: bool = True, fast: bool = False,
) -> ArimaFit:  # fmt: skip
    """Fit one model to a series (n,), NaN where missing, with `covariates` (n, k) known everywhere.

    Exact likelihood, with gaps too; from a start by conditional least squares. `fast` stops at that start's
    likelihood, for searches. Raises `TooShortError` and `SettingsError`.
    """
    present = np.isfinite(values)
    if orders.lost >= len(values) or present.sum() - orders.lost < len(orders.names) + 2:
        raise TooShortError(
            f"An ARIMA model of order {orders} needs more than {int(present.sum())} known points.", field="order"
        )
    size = float(np.nanmax(np.abs(values))) or 1.0
    filled = np.where(present, values, 0.0) / size
    extra = np.empty((len(values), 0)) if covariates is None else covariates
    effect_names = tuple(names) if covariates is not None else ()
    column = constant_column(len(values), orders) if constant else None
    if column is not None:
        extra, effect_names = np.column_stack([column[1], extra]), (column[0], *effect_names)
    if not np.isfinite(extra).all():
        raise SettingsError("A covariate is missing where the series is known.", field="covariates")
    units = np.where(np.abs(extra).max(axis=0, initial=0.0) > 0, np.abs(extra).max(axis=0, initial=0.0), 1.0)
    missing = np.flatnonzero(~present)
    gappy = orders.lost == 0 and len(missing) > 0
    gaps = 0 if gappy or not len(missing) else len(missing)
    if gaps > _MOST_FILLED and gaps > len(values) // 4:
        raise TooShortError(
            f"{gaps} of {len(values)} points are missing: fill them first, or do without differences.", field="order"
        )
    dummies = np.zeros((len(values), gaps))
    dummies[missing[:gaps], np.arange(gaps)] = 1.0
    target = np.where(present, filled, np.nan) if gappy else filled
    columns = np.ascontiguousarray(differenced(np.column_stack([target, dummies, extra / units]), orders))
    count = len(columns) - (int(np.isnan(columns[:, 0]).sum()) if gappy else gaps)
    fitted = _optimise(columns, orders, gaps, gappy, count, enforced, fast)
    coefficients, effects, value, calls = fitted
    return _described(columns, orders, gaps, gappy, count, coefficients, effects, value, calls,
                      effect_names, units, size, with_errors)  # fmt: skip


def _optimise(
    columns: Floats, orders: Orders, gaps: int, gappy: bool, count: int, enforced: bool, fast: bool
) -> tuple[Floats, Floats, float, int]:
    """Coefficients, effects of columns, minus the log-likelihood, evaluations."""
    counts, period = orders.counts, orders.period
    white, effects = np.empty(columns.shape), np.empty(columns.shape[1] - 1)
    size = sum(counts)
    calls = 0
    free = np.zeros(size)
    if size:
        known = np.isfinite(columns[:, 0])
        rest = columns[:, 0].copy()
        if columns.shape[1] > 1:
            slopes = np.linalg.lstsq(columns[known, 1:], columns[known, 0])[0]
            rest = columns[:, 0] - columns[:, 1:] @ slopes
        rest[~known] = 0.0
        start = np.ascontiguousarray(rest[:, None])
        maximise(free, counts, period, start, 0, False, len(rest), True, True, 1e-6, 600)
        free = np.clip(free, -1.8, 1.8)
        if fast:
            found = natural(free, counts, True)
        else:
            if not enforced:
                at = 0
                for part, many in enumerate(counts):
                    if part % 2:
                        free[at : at + many] = natural(free, counts, True)[at : at + many]
                    at += many
            value, calls = maximise(
                free, counts, period, columns, gaps, gappy, count, False, enforced, _TOLERANCE, _MOST_CALLS
            )
            found = natural(free, counts, enforced)
    else:
        found = free
    value = profiled(found, counts, period, columns, gaps, gappy, count, white, effects)
    if not np.isfinite(value):
        raise TooShortError(f"The likelihood of an ARIMA model of order {orders} cannot be worked out.", field="order")
    return found, effects, float(value), int(calls)


def _described(
    columns: Floats, orders: Orders, gaps: int, gappy: bool, count: int, coefficients: Floats, effects: Floats,
    value: float, calls: int, effect_names: tuple[str, ...], units: Floats, size: float, with_errors: bool,
) -> ArimaFit:  # fmt: skip
    counts, period = orders.counts, orders.period
    white, again = np.empty(columns.shape), np.empty(columns.shape[1] - 1)
    profiled(coefficients, counts, period, columns, gaps, gappy, count, white, again)
    rest = white[:, 0] - white[:, 1:] @ effects
    variance = float((rest**2).sum() / count) * size**2
    loglik = -value - 0.5 * count * (np.log(2 * np.pi) + 1) - count * np.log(size)
    errors = np.full(len(coefficients) + len(effect_names), np.nan)
    if with_errors:
        errors = _standard_errors(columns, orders, gaps, gappy, count, coefficients, effects)
        errors[len(coefficients) :] *= size / units
    free = len(coefficients) + len(effect_names) + 1
    return ArimaFit(orders, coefficients, effects[gaps:] * size / units, effect_names, errors, variance,
                    float(loglik), free, count, calls)  # fmt: skip


def _standard_errors(
    columns: Floats, orders: Orders, gaps: int, gappy: bool, count: int, coefficients: Floats, effects: Floats
) -> Floats:
    """From the curvature of the log-likelihood in coefficients and effects together, by differences."""
    size = len(coefficients)
    point = np.concatenate([coefficients, effects[gaps:]])
    whole, unused = np.empty(columns.shape), np.empty(columns.shape[1] - 1)
    profiled(coefficients, orders.counts, orders.period, columns, gaps, gappy, count, whole, unused)
    rest = whole[:, 0] - whole[:, 1:] @ effects
    sizes = np.sqrt((whole[:, 1 + gaps :] ** 2).sum(axis=0) / max(float((rest**2).mean()), 1e-300))
    steps = np.concatenate([np.full(size, _HALF), 0.05 / np.maximum(sizes, 1e-300)])
    inner = np.ascontiguousarray(columns[:, : 1 + gaps])
    white, filled = np.empty(inner.shape), np.empty(gaps)

    def at(moved: Floats) -> float:
        shifted = inner.copy()
        shifted[:, 0] = columns[:, 0] - columns[:, 1 + gaps :] @ moved[size:]
        return float(
            profiled(
                np.ascontiguousarray(moved[:size]),
                orders.counts,
                orders.period,
                shifted,
                gaps,
                gappy,
                count,
                white,
                filled,
            )
        )

    curvature = hessian(at, point, steps)
    try:
        spread = np.diag(np.linalg.inv(curvature))
    except np.linalg.LinAlgError:
        return np.full(len(point), np.nan)
    return np.sqrt(np.where(spread > 0, spread, np.nan))


def hessian(function: Any, point: Floats, steps: Floats) -> Floats:
    """Second derivatives (k, k) of a function of (k,) by central differences."""
    size = len(point)
    out = np.empty((size, size))
    for i in range(size):
        for j in range(i + 1):
            total = 0.0
            for one in (1, -1):
                for two in (1, -1):
                    moved = point.copy()
                    moved[i] += one * steps[i]
                    moved[j] += two * steps[j]
                    total += one * two * function(moved)
            out[i, j] = out[j, i] = total / (4 * steps[i] * steps[j])
    return out
