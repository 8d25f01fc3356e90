"""Which orders an ARIMA model should have: differences by tests, the rest step by step or over a grid."""

from collections.abc import Iterator
from dataclasses import dataclass, replace
from itertools import product
from typing import Any, Literal

import numpy as np

from proteron.core.errors import InputError, ProteronError, TooShortError
from proteron.core.forecasters.arima.fit import ArimaFit, Orders, fit_arima
from proteron.core.panel import Floats
from proteron.core.profile.hypothesis_tests import stationarity
from proteron.core.profile.strengths import strengths

Criterion = Literal["aicc", "aic", "bic"]
_STRONG_SEASON = 0.64
_NEAR_ONE = 1.01
_AT_LEAST = 30
_LONG = 6000  # points × period from which the search trusts conditional estimates, judged by the exact likelihood


@dataclass(frozen=True)
class Limits:
    """The largest orders tried, and of their sum."""

    p: int = 5
    q: int = 5
    seasonal_p: int = 2
    seasonal_q: int = 2
    total: int = 5


@dataclass(frozen=True)
class Tried:
    """One model of a search: its criterion, infinite where it failed, and why it did."""

    orders: Orders
    constant: bool
    criterion: float
    reason: str = ""

    @property
    def document(self) -> dict[str, Any]:
        """As plain data."""
        value = float(self.criterion) if np.isfinite(self.criterion) else None
        form = str(self.orders) + (" with constant" if self.constant else "")
        return {"form": form, "criterion": value, "reason": self.reason}


def differences(values: Floats, period: int) -> tuple[int, int]:
    """Plain and seasonal differences: a strong season takes one, then as many as stationarity needs, at most two.

    Wang, Smith & Hyndman 2006 for the season; Kwiatkowski, Phillips, Schmidt & Shin 1992 at 5 % for the rest.
    """
    known = values[np.isfinite(values)]
    seasonal = 0
    if period > 1 and len(known) >= 2 * period + 5 and np.ptp(known) > 0:
        try:
            seasonal = int(strengths(values, (float(period),), robust=True).seasons.get(period, 0.0) >= _STRONG_SEASON)
        except ProteronError:
            seasonal = 0
    rest = values[period:] - values[:-period] if seasonal else values
    plain = 0
    while plain < 2:
        known = rest[np.isfinite(rest)]
        if len(known) < 10 or np.ptp(known) <= 1e-12 * max(float(np.abs(known).max()), 1e-300):
            break
        try:
            moves = stationarity(known, "constant").p_value < 0.05
        except ProteronError:
            break
        if not moves:
            break
        rest = np.diff(rest)
        plain += 1
    return plain, seasonal


def refuse_mixes(covariates: Floats | None, names: tuple[str, ...]) -> None:
    """Raise `InputError` naming a covariate that is constant, or a mix of those before it."""
    if covariates is None:
        return
    known = covariates[np.isfinite(covariates).all(axis=1)]
    moved = known - known.mean(axis=0)
    scaled = moved / np.maximum(np.sqrt((moved**2).sum(axis=0)), 1e-300)
    for place, name in enumerate(names):
        if np.linalg.matrix_rank(scaled[:, : place + 1], tol=1e-9) <= place:
            what = "never changes" if not moved[:, place].any() else "is a mix of the columns before it"
            raise InputError(f"“{name}” {what}, so that what it adds cannot be told: leave it out.", field="covariates")


def choose_orders(
    values: Floats, base: Orders, free: dict[str, bool], constant: bool | None, covariates: Floats | None = None,
    names: tuple[str, ...] = (), criterion: Criterion = "aicc", way: Literal["stepwise", "grid"] = "stepwise",
    limits: Limits | None = None, stationary: bool = True, invertible: bool = True,
) -> tuple[ArimaFit, list[Tried]]:  # fmt: skip
    """The model with the smallest criterion among those whose orders named in `free` may vary, and all that were tried.

    `base` holds the differences and the orders that stand fixed. Stepwise: Hyndman & Khandakar 2008, and small models
    that were passed by until thirty are tried. The search itself
    keeps to stationary and invertible models, whose likelihoods can be compared.
    """
    search = _Search(values, covariates, names, criterion, limits or Limits(), base, free, constant)
    if way == "grid":
        for orders, with_constant in search.grid():
            search.attempt(orders, with_constant)
    else:
        search.stepwise()
    if search.best is None:
        raise TooShortError("No ARIMA model can be fitted to so few points.", field="order")
    best = search.best
    final = fit_arima(
        values, best.orders, constant=search.best_constant, covariates=covariates, names=names, stationary=stationary,
        invertible=invertible,
    )  # fmt: skip
    return final, sorted(search.tried.values(), key=lambda each: each.criterion)


class _Search:
    def __init__(
        self, values: Floats, covariates: Floats | None, names: tuple[str, ...], criterion: Criterion, limits: Limits,
        base: Orders, free: dict[str, bool], constant: bool | None,
    ) -> None:  # fmt: skip
        self._values, self._covariates, self._names = values, covariates, names
        self._criterion, self._limits, self._base, self._free, self._constant = criterion, limits, base, free, constant
        self._fast = len(values) * base.period > _LONG
        self.tried: dict[tuple[Orders, bool], Tried] = {}
        self.best: ArimaFit | None = None
        self.best_constant = False

    def attempt(self, orders: Orders, constant: bool) -> bool:
        """Try one model; whether it is the best so far."""
        key = (orders, constant)
        if key in self.tried or not self._allowed(orders, constant):
            return False
        reason, value = "", np.inf
        try:
            fitted = fit_arima(
                self._values, orders, constant=constant, covariates=self._covariates, names=self._names,
                with_errors=False, fast=self._fast,
            )  # fmt: skip
            value = fitted.criteria[self._criterion]
            if not _apart_from_one(fitted):
                reason, value = "a root lies next to the unit circle", np.inf
        except ProteronError as error:
            reason = error.message
        self.tried[key] = Tried(orders, constant, value, reason)
        if reason or not value < (self.best.criteria[self._criterion] if self.best else np.inf):
            return False
        self.best, self.best_constant = fitted, constant
        return True

    def _allowed(self, orders: Orders, constant: bool) -> bool:
        limits = self._limits
        within = (
            0 <= orders.p <= limits.p and 0 <= orders.q <= limits.q
            and 0 <= orders.seasonal_p <= limits.seasonal_p and 0 <= orders.seasonal_q <= limits.seasonal_q
        )  # fmt: skip
        kept = all(getattr(orders, name) == getattr(self._base, name) for name, may in self._free.items() if not may)
        can_have = orders.d + orders.seasonal_d < 2
        return within and kept and (can_have or not constant) and self._constant in (None, constant)

    def _constants(self) -> tuple[bool, ...]:
        if self._constant is not None:
            return (self._constant,)
        return (True, False) if self._base.d + self._base.seasonal_d < 2 else (False,)

    def _orders(self, p: int, q: int, seasonal_p: int, seasonal_q: int) -> Orders:
        """The base with these orders where they are free."""
        wanted = {"p": p, "q": q, "seasonal_p": seasonal_p, "seasonal_q": seasonal_q}
        if self._base.period < 2:
            wanted |= {"seasonal_p": 0, "seasonal_q": 0}
        return replace(self._base, **{name: value for name, value in wanted.items() if self._free[name]})

    def grid(self) -> Iterator[tuple[Orders, bool]]:
        limits = self._limits
        spans = (range(limits.p + 1), range(limits.q + 1), range(limits.seasonal_p + 1), range(limits.seasonal_q + 1))
        for orders in {self._orders(*each) for each in product(*spans) if sum(each) <= limits.total}:
            for constant in self._constants():
                yield orders, constant

    def stepwise(self) -> None:
        first = self._constants()[0]
        for each in ((2, 2, 1, 1), (0, 0, 0, 0), (1, 0, 1, 0), (0, 1, 0, 1)):
            self.attempt(self._orders(*each), first)
        self.attempt(self._orders(0, 0, 0, 0), False)
        self._climb()
        if self._fast or len(self.tried) >= _AT_LEAST:
            return
        for each in sorted(product(range(4), range(4), range(2), range(2)), key=sum):  # small models it passed by
            if len(self.tried) >= _AT_LEAST:
                break
            self.attempt(self._orders(*each), self.best_constant)
        self._climb()

    def _climb(self) -> None:
        """From the best model to its neighbours, as long as one is better."""
        moved = True
        while moved and self.best is not None:
            moved = any(self.attempt(orders, constant) for orders, constant in list(self._around()))

    def _around(self) -> Iterator[tuple[Orders, bool]]:
        assert self.best is not None
        now = self.best.orders
        for moves in _MOVES:
            values = [getattr(now, name) + by for name, by in zip(_MOVED, moves, strict=True)]
            if min(values) >= 0:
                yield self._orders(*values), self.best_constant
        for constant in self._constants():
            yield now, constant


_MOVED = ("p", "q", "seasonal_p", "seasonal_q")
_MOVES = (
    (0, 0, -1, 0), (0, 0, 0, -1), (0, 0, 1, 0), (0, 0, 0, 1), (0, 0, -1, -1), (0, 0, 1, 1), (-1, 0, 0, 0),
    (0, -1, 0, 0), (1, 0, 0, 0), (0, 1, 0, 0), (-1, -1, 0, 0), (1, 1, 0, 0), (-1, 1, 0, 0), (1, -1, 0, 0),
)  # fmt: skip


def _apart_from_one(fitted: ArimaFit) -> bool:
    """Whether the roots of both polynomials keep a hundredth away from the unit circle."""
    return all(modulus >= _NEAR_ONE for modulus in np.concatenate(roots(fitted)[:2]))


def roots(fitted: ArimaFit) -> tuple[Floats, Floats]:
    """Moduli of the roots of the AR and the MA polynomial, smallest first."""
    ar, ma = fitted.polynomials()
    return tuple(  # type: ignore[return-value]
        np.sort(np.abs(np.roots(np.concatenate([coefficients[::-1], [1.0]])))) if len(coefficients) else np.empty(0)
        for coefficients in (-ar, ma)
    )
