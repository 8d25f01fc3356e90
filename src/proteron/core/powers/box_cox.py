"""The Box–Cox exponent, by likelihood or by the spread of cycles."""

from typing import Literal

import numpy as np
from numpy.typing import ArrayLike
from scipy import optimize

from proteron.core.errors import SettingsError, TooShortError, UnitsError
from proteron.core.panel import Floats


def _log_likelihood(exponent: float, values: Floats, logs: Floats) -> float:
    """Profile log-likelihood of λ (Box & Cox 1964, eq. 8), up to a constant."""
    moved = logs if abs(exponent) < 1e-9 else (np.exp(exponent * logs) - 1) / exponent
    variance = moved.var()
    if not variance > 0:
        return -np.inf
    return float(-0.5 * len(values) * np.log(variance) + (exponent - 1) * logs.sum())


def _spread_variation(exponent: float, means: Floats, spreads: Floats) -> float:
    """Coefficient of variation of spread / mean^(1-λ) over cycles (Guerrero 1993)."""
    ratios = spreads / means ** (1 - exponent)
    return float(ratios.std(ddof=1) / ratios.mean())


def box_cox_lambda(
    x: ArrayLike, method: Literal["likelihood", "guerrero"] = "likelihood", period: int | None = None,
    bounds: tuple[float, float] = (-2.0, 2.0),
) -> float:  # fmt: skip
    """The exponent λ of the Box–Cox transform of positive values, within `bounds`.

    "likelihood" maximises the profile likelihood; "guerrero" makes spread over cycles of `period`
    points as even as it can. A constant series gives 1.
    """
    values = np.asarray(x, dtype=np.float64).ravel()
    known = values[np.isfinite(values)]
    if len(known) < 4:
        raise TooShortError(f"λ needs 4 known points; there are {len(known)}.")
    if known.min() <= 0:
        raise UnitsError(f"Box–Cox needs positive values; {int((known <= 0).sum())} are not.")
    if np.ptp(known) <= 1e-12 * known.max():
        return 1.0
    if method == "likelihood":
        scaled = known / np.exp(np.log(known).mean())  # λ does not depend on the unit
        logs = np.log(scaled)
        goal = lambda exponent: -_log_likelihood(exponent, scaled, logs)  # noqa: E731
    elif method == "guerrero":
        if period is None or period < 2 or len(values) < 2 * period:
            raise SettingsError("Guerrero's method needs a period and at least two cycles of it.", field="period")
        cycles = values[len(values) % period :].reshape(-1, period)
        cycles = cycles[np.isfinite(cycles).all(axis=1)]
        if len(cycles) < 2:
            raise TooShortError("Guerrero's method needs two complete cycles.", field="period")
        means, spreads = cycles.mean(axis=1), cycles.std(axis=1, ddof=1)
        goal = lambda exponent: _spread_variation(exponent, means, spreads)  # noqa: E731
    else:
        raise SettingsError(f"The method is likelihood or guerrero, not “{method}”.", field="method")
    found = optimize.minimize_scalar(goal, bounds=bounds, method="bounded", options={"xatol": 1e-8})
    return float(found.x)


def likelihood_curve(x: ArrayLike) -> tuple[Floats, Floats]:
    """Exponents from -2 to 2 and their log-likelihoods, for a picture; at most 2,000 points are read."""
    values = np.asarray(x, dtype=np.float64).ravel()
    known = values[np.isfinite(values)]
    known = known[:: max(len(known) // 2000, 1)]
    logs = np.log(known)
    logs = logs - logs.mean()
    exponents = np.linspace(-2, 2, 41)
    curve = np.array([_log_likelihood(each, np.exp(logs), logs) for each in exponents])
    return exponents, np.where(np.isfinite(curve), curve, 0.0)
