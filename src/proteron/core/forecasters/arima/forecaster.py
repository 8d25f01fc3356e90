"""Seasonal ARIMA with covariates as a forecaster."""

from dataclasses import replace
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from pydantic import BeforeValidator, Field, model_validator

from proteron.core.errors import SettingsError, TooShortError
from proteron.core.forecasters.arima.filters import ahead, conditional_states, level_states, states
from proteron.core.forecasters.arima.fit import ArimaFit, Orders, differenced, fit_arima
from proteron.core.forecasters.arima.polynomials import impulses
from proteron.core.forecasters.arima.search import Limits, Tried, choose_orders, differences, refuse_mixes
from proteron.core.forecasters.forecaster import ForecasterState, Work
from proteron.core.forecasters.local import Learned, LocalForecaster
from proteron.core.forecasters.noise import Noise
from proteron.core.forecasters.pictures import Curve, Picture
from proteron.core.forecasters.ranges import spread_out, widening
from proteron.core.panel import Floats, Panel
from proteron.core.phases import previous_of_phase
from proteron.core.timeline import Ints


def _choice(given: Any) -> Any:
    """“choose” as None, for files that have no null."""
    return None if given == "choose" else given


Part = Annotated[Annotated[int, Field(ge=0, le=10)] | None, BeforeValidator(_choice)]
_LONGEST_SEASON = 60
_DIFFUSE = 1e7  # variance of what is not known at all, in that of the series


class Arima(LocalForecaster):
    """Autoregression, differences and moving averages, plain and seasonal, with covariates, by exact likelihood.

    Orders that are empty are chosen: differences by tests, the rest by a criterion. Covariates enter linearly, the
    model is that of what they leave; they must be known as far ahead as is forecast.
    Sources: Durbin & Koopman 2012; Morf, Sidhu & Kailath 1974; Monahan 1984; Hyndman & Khandakar 2008.
    """

    title: ClassVar[str] = "ARIMA"
    family: ClassVar[str] = "ARIMA"
    can: ClassVar[tuple[str, ...]] = ("trend", "seasons", "covariates", "gaps", "ranges")
    cost: ClassVar[float] = 2000.0
    least: ClassVar[int] = 4
    kind: Literal["arima"] = "arima"
    order: tuple[Part, Part, Part] | None = Field(None, title="Order", description="(p, d, q); empty parts: chosen.")
    seasonal: tuple[Part, Part, Part] | None = Field(None, title="Seasonal order", description="(P, D, Q).")
    period: int | None = Field(None, ge=1, title="Period", description="Empty: the step's own season.")
    constant: bool | None = Field(None, title="Constant", description="A mean or drift; empty: chosen.")
    covariates: tuple[str, ...] = Field((), title="Covariates", description="Columns known ahead.")
    choose_by: Literal["aicc", "aic", "bic"] = Field("aicc", title="Choose by")
    search: Literal["stepwise", "grid"] = Field("stepwise", title="Search")
    stationary: bool = Field(
        True, title="Stationary", description="Keep autoregressions stationary; else they may explode."
    )
    enforced: bool = Field(True, title="Invertible", description="Keep moving averages invertible.")
    largest: int = Field(5, ge=1, le=10, title="Largest orders", json_schema_extra={"advanced": True})

    @model_validator(mode="after")
    def _season_has_a_period(self) -> "Arima":
        if self.period == 1 and self.seasonal is not None and any(part for part in self.seasonal if part):
            raise ValueError("seasonal orders need a period of at least 2")
        if not (self.stationary or self.enforced):
            raise ValueError("a model that need not be stationary must be invertible")
        return self

    @property
    def label(self) -> str:
        """A short name with the settings that matter."""
        if self.order is None or None in self.order:
            return self.title
        text = f"{self.title} {self.order}"
        return f"{text} {self.seasonal}" if self.seasonal and any(self.seasonal) else text

    def learn_series(self, known: Panel, index: int, work: Work) -> Learned:
        """What is learned of one series; raises `ProteronError` where it must decline."""
        values = np.ascontiguousarray(known.series(index))
        present = np.flatnonzero(np.isfinite(values))
        offset = int(present[0])
        outside = self.outside(known, index, int(known.starts[index]))
        rest = None if outside is None else outside[offset : len(values)]
        values = values[offset:]
        if np.ptp(values[np.isfinite(values)]) == 0:
            fitted, tried = _constant_fit(values), list[Tried]()
        else:
            fitted, tried = self._fit(values, rest, known.axis.step.season)
        return Learned({
            "offset": offset, "orders": np.array([*_order_numbers(fitted.orders)], dtype=np.float64),
            "coefficients": fitted.coefficients, "effects": fitted.effects,
            "covariance": fitted.covariance,
            "variance": fitted.variance, "loglik": fitted.loglik, "free": fitted.free, "count": fitted.count,
            "constant": float(bool(fitted.effect_names) and fitted.effect_names[0] in ("mean", "drift")),
        }, {"tried": [each.document for each in tried]})  # fmt: skip

    def as_chosen(self, learned: Learned, cut: int | None = None) -> "Arima":
        """With its orders given, differences apart: whether to difference is what is most in doubt."""
        orders = _fitted(learned, self.covariates).orders
        given = {"order": (orders.p, (self.order or (None,) * 3)[1], orders.q)}
        if orders.period > 1:
            given["seasonal"] = (orders.seasonal_p, (self.seasonal or (None,) * 3)[1], orders.seasonal_q)
        return self.model_copy(update=given)

    def _fit(self, values: Floats, outside: Floats | None, season: int) -> tuple[ArimaFit, list[Tried]]:
        """The model whose orders are given, or the one chosen among those that what is given allows."""
        refuse_mixes(None if outside is None else outside[: len(values)], self.covariates)
        base, free = self._base(values, season)
        if not any(free.values()):
            differences_taken = base.d + base.seasonal_d
            usual = differences_taken == 0  # the usual rule where the orders are given
            constant = usual if self.constant is None else self.constant and differences_taken < 2
            return self._given(values, base, constant, outside), []
        limits = Limits(self.largest, self.largest, 2, 2, max(self.largest, 5))
        return choose_orders(values, base, free, self.constant, outside, self.covariates, self.choose_by, self.search,
                             limits, self.stationary, self.enforced)  # fmt: skip

    def _base(self, values: Floats, season: int) -> tuple[Orders, dict[str, bool]]:
        """Orders as far as they are given, differences settled, and which of the others are free."""
        period = self.period or (season if season <= _LONGEST_SEASON else 1)
        order, seasonal = self.order or (None, None, None), self.seasonal or (None, None, None)
        if self.seasonal is None and self.order is not None and None not in self.order:
            seasonal = (0, 0, 0)  # a whole order is given and no season is asked for
        known = int(np.isfinite(values).sum())
        if period < 2 or known < 2 * period + 8:
            if any(seasonal):
                raise TooShortError(f"Seasonal orders with period {period} need more points than {known}.",
                                    field="seasonal")  # fmt: skip
            period, seasonal = 1, (0, 0, 0)
        (p, _, q), (sp, _, sq) = order, seasonal
        d, sd = self._differences(values, period, order[1], seasonal[1])
        free = {"p": p is None, "q": q is None, "seasonal_p": sp is None, "seasonal_q": sq is None}
        return Orders(p or 0, d, q or 0, sp or 0, sd, sq or 0, period), free

    def _differences(self, values: Floats, period: int, d: int | None, sd: int | None) -> tuple[int, int]:
        """Plain and seasonal differences, at least one where there is to be no constant and values lie off zero.

        What is not differenced and has no constant returns to zero.
        """
        plain, seasonal = _differences(values, period, d, sd)
        returns = self.constant is False and d is None and plain + seasonal == 0
        return (1, 0) if returns and _is_off_zero(values) else (plain, seasonal)

    def _given(self, values: Floats, orders: Orders, constant: bool, outside: Floats | None) -> ArimaFit:
        """One model whose orders are given."""
        return fit_arima(values, orders, constant=constant, covariates=outside, names=self.covariates,
                         stationary=self.stationary, invertible=self.enforced)  # fmt: skip

    def outside(self, panel: Panel, index: int, first: int) -> Floats | None:
        """Covariates from grid position `first` on, as far as they are known, (n + ahead, k)."""
        if not self.covariates:
            return None
        columns = []
        for name in self.covariates:
            covariate = panel.covariate(name)
            if covariate.role != "known_ahead":
                raise SettingsError(f"“{name}” is not known ahead, so nothing can be forecast from it.",
                                    field="covariates")  # fmt: skip
            columns.append(covariate.series(index)[first - int(panel.starts[index]) :])
        length = min(len(column) for column in columns)
        return np.column_stack([column[:length] for column in columns])

    def means_of(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points of `values` (n_points,)."""
        fitted, offset = _fitted(learned, self.covariates), int(learned["offset"])
        length = len(values) - offset
        effect = _effect(fitted, learned, length + horizon, offset)
        rest = np.ascontiguousarray(values[offset:] - effect[:length])
        ar, ma = fitted.polynomials()
        undone, lost = difference_coefficients(fitted.orders), fitted.orders.lost
        out = np.full((len(at), horizon), np.nan)
        if length <= lost:
            return out
        size = max(len(ar), len(ma) + 1)
        kept, before = self._states(rest, fitted, ar, ma, undone)
        for row, place in enumerate((at - offset).tolist()):
            if place >= max(lost, 1):
                ahead(kept[place - lost, :size], ar, undone, before[place - lost], out[row])
                out[row] += effect[place : place + horizon]
        return out

    def _states(self, rest: Floats, fitted: ArimaFit, ar: Floats, ma: Floats, undone: Floats) -> tuple[Floats, Floats]:
        """Predicted states (n - lost + 1, r) from the first difference on, and the values before each, newest first."""
        lost, count = fitted.orders.lost, len(rest)
        size = max(len(ar), len(ma) + 1)
        missing = np.flatnonzero(~np.isfinite(rest))
        exact = self.stationary and lost and len(missing)
        whole = np.empty((count + 1 if exact else 0, size + lost))
        if exact:  # a place before the first gap knows nothing of it
            known = rest[np.isfinite(rest)][: max(int(missing[0]), lost + 2)]
            level_states(rest, ar, ma, undone, _DIFFUSE * max(float(np.var(known)) / fitted.variance, 1.0), whole)
        if lost:
            rest = previous_of_phase(rest, 1)[1:]  # a free model takes the last value for one that is missing
        kept = np.empty((count - lost + 1, size))
        (states if self.stationary else conditional_states)(differenced(rest, fitted.orders), ar, ma, kept)
        before = sliding_window_view(rest, lost)[:, ::-1] if lost else np.empty((count + 1, 0))
        if exact:
            after = max(int(missing[0]) + 1 - lost, 0)
            kept[after:] = whole[lost + after :, :size]
            before = np.concatenate([before[:after], whole[lost + after :, size:]])
        return kept, np.ascontiguousarray(before)

    def spreads_of(self, learned: Learned, values: Floats, at: int, horizon: int) -> Floats | None:
        """Standard deviations (horizon,) after `at` points, by theory."""
        fitted = _fitted(learned, self.covariates)
        return np.sqrt(fitted.ahead_variance * np.cumsum(_integrated(fitted, horizon) ** 2)) * _wider(fitted, horizon)

    def paths_of(self, learned: Learned, values: Floats, at: int, noise: Noise) -> Floats | None:
        """Paths (count, horizon) after `at` points, driven by the errors of `noise`."""
        horizon = noise.errors.shape[1]
        fitted = _fitted(learned, self.covariates)
        weights = _integrated(fitted, horizon)
        mean = self.means_of(learned, values, np.array([at]), horizon)[0]
        errors = np.sqrt(fitted.ahead_variance) * noise.errors
        return mean + spread_out(errors, weights) * _wider(fitted, horizon)

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Learned numbers of one series by name, in flat units."""
        learned = self.learned(state, key)
        return {} if learned is None else _fitted(learned, self.covariates).parameters

    def standard_errors(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Standard errors by parameter, where theory gives them."""
        learned = self.learned(state, key)
        return {} if learned is None else _fitted(learned, self.covariates).standard_errors

    def pictures(self, state: ForecasterState, panel: Panel, key: str) -> list[Picture]:
        """Inverse roots of both polynomials in the complex plane, with the unit circle they must lie within."""
        learned = self.learned(state, key)
        if learned is None:
            return []
        ar, ma = _fitted(learned, self.covariates).polynomials()
        angle = np.linspace(0, 2 * np.pi, 121)
        curves = [Curve("unit circle", np.cos(angle), np.sin(angle))]
        for label, coefficients in (("AR", -ar), ("MA", ma)):
            if len(coefficients):
                found = np.roots(np.concatenate([[1.0], coefficients]))
                curves.append(Curve(label, np.asarray(found.real, float), np.asarray(found.imag, float), "points"))
        return [Picture("Inverse roots", "real part", tuple(curves))] if len(curves) > 1 else []

    def summary_of(self, learned: Learned) -> str:
        """What was learned of one series, in one sentence."""
        fitted = _fitted(learned, self.covariates)
        parts = [f"{name} {value:.3g}" for name, value in fitted.parameters.items() if name != "variance"]
        return f"ARIMA {fitted.orders}{': ' + ', '.join(parts[:8]) if parts else ''}."


def _order_numbers(orders: Orders) -> tuple[int, ...]:
    return (orders.p, orders.d, orders.q, orders.seasonal_p, orders.seasonal_d, orders.seasonal_q, orders.period)


def _constant_fit(values: Floats) -> ArimaFit:
    """The model of a series that never changes."""
    level = float(values[np.isfinite(values)][0])
    count = int(np.isfinite(values).sum())
    return ArimaFit(Orders(), np.empty(0), np.array([level]), ("mean",), np.zeros((1, 1)), 0.0, np.nan, 2, count, 0)


def _is_off_zero(values: Floats) -> bool:
    """Whether values (n,) lie about a level that is not zero, by more than they spread."""
    known = values[np.isfinite(values)]
    return bool(abs(known.mean()) > known.std())


def _fitted(learned: Learned, covariates: tuple[str, ...]) -> ArimaFit:
    orders = Orders(*(int(each) for each in learned["orders"]))
    names = (*(("mean" if orders.d + orders.seasonal_d == 0 else "drift",) if learned["constant"] else ()), *covariates)
    size = sum(orders.counts)
    covariance = learned["covariance"][: size + len(names), : size + len(names)]
    return ArimaFit(
        orders, np.ascontiguousarray(learned["coefficients"][:size]), learned["effects"][: len(names)], names,
        covariance, float(learned["variance"]), float(learned["loglik"]), int(learned["free"]),
        int(learned["count"]), 0,
    )  # fmt: skip


def _effect(fitted: ArimaFit, learned: Learned, length: int, offset: int) -> Floats:
    """What constant and covariates add to each of `length` points from the first known one on; NaN where unknown."""
    total = np.zeros(length)
    names = list(fitted.effect_names)
    if names and names[0] in ("mean", "drift") and learned["constant"]:
        total += fitted.effects[0] * (np.ones(length) if names[0] == "mean" else np.arange(1.0, length + 1))
        names = names[1:]
    if names:
        columns = learned.outside[offset : offset + length]
        there = columns @ fitted.effects[len(fitted.effects) - len(names) :]
        total[: len(there)] += there
        total[len(there) :] = np.nan
    return total


def _differences(values: Floats, period: int, d: int | None, sd: int | None) -> tuple[int, int]:
    """Plain and seasonal differences, those that are not given chosen by what is left."""
    if d is not None and sd is not None:
        return d, sd
    plain, seasonal = differences(values, period if sd is None else 1)
    taken = seasonal if sd is None else sd
    if d is None:
        d = differences(values[period:] - values[:-period], 1)[0] if taken and seasonal != taken else plain
    return d, taken


def difference_coefficients(orders: Orders) -> Floats:
    """δ of 1 - δ₁B - δ₂B² …, the product of all differences, (lost,)."""
    polynomial = np.ones(1)
    for lag, times in ((1, orders.d), (orders.period, orders.seasonal_d)):
        for _ in range(times):
            factor = np.zeros(lag + 1)
            factor[0], factor[lag] = 1.0, -1.0
            polynomial = np.convolve(polynomial, factor)
    return -polynomial[1:]


def _wider(fitted: ArimaFit, horizon: int) -> Floats:
    """By how much the doubt in the coefficients widens the ranges of each step, (horizon,)."""
    size = len(fitted.coefficients)

    def variance_of(coefficients: Floats) -> Floats:
        return np.asarray(np.cumsum(_integrated(replace(fitted, coefficients=coefficients), horizon) ** 2))

    return widening(variance_of, fitted.coefficients, fitted.covariance[:size, :size])


def _integrated(fitted: ArimaFit, horizon: int) -> Floats:
    """Weights of past errors in the undifferenced series, (horizon,)."""
    ar, ma = fitted.polynomials()
    whole = np.convolve(np.concatenate([[1.0], -ar]), np.concatenate([[1.0], -difference_coefficients(fitted.orders)]))
    return np.asarray(impulses(-whole[1:], ma, horizon))
