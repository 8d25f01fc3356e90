"""The Yeo–Johnson transform and its exponent by likelihood."""

import numpy as np
from numpy.typing import ArrayLike
from scipy import optimize

from proteron.core.errors import TooShortError
from proteron.core.panel import Floats


def yeo_johnson(x: ArrayLike, exponent: float) -> Floats:
    """Yeo & Johnson 2000, eq. 2.1, elementwise; rising for every exponent λ."""
    values = np.asarray(x, dtype=np.float64)
    logs = np.log1p(np.abs(values))
    above = logs if abs(exponent) < 1e-8 else np.expm1(exponent * logs) / exponent
    other = 2 - exponent
    below = logs if abs(other) < 1e-8 else np.expm1(other * logs) / other
    return np.where(values >= 0, above, -below)


def _log_likelihood(exponent: float, values: Floats, jacobian: float) -> float:
    variance = yeo_johnson(values, exponent).var()
    return float(-0.5 * len(values) * np.log(variance) + (exponent - 1) * jacobian) if variance > 0 else -np.inf


def yeo_johnson_lambda(x: ArrayLike, bounds: tuple[float, float] = (-1.0, 3.0)) -> float:
    """The exponent that maximises the normal profile likelihood; a constant series gives 1."""
    known = _known(x)
    if np.ptp(known) <= 1e-12 * np.abs(known).max():
        return 1.0
    jacobian = float((np.sign(known) * np.log1p(np.abs(known))).sum())
    found = optimize.minimize_scalar(
        lambda exponent: -_log_likelihood(exponent, known, jacobian), bounds=bounds, method="bounded",
        options={"xatol": 1e-8},
    )  # fmt: skip
    return float(found.x)


def yeo_johnson_curve(x: ArrayLike) -> tuple[Floats, Floats]:
    """Exponents from -1 to 3 and their log-likelihoods, for a picture; at most 2,000 points are read."""
    known = _known(x)
    known = known[:: max(len(known) // 2000, 1)]
    jacobian = float((np.sign(known) * np.log1p(np.abs(known))).sum())
    exponents = np.linspace(-1, 3, 41)
    curve = np.array([_log_likelihood(each, known, jacobian) for each in exponents])
    return exponents, np.where(np.isfinite(curve), curve, 0.0)


def _known(x: ArrayLike) -> Floats:
    values = np.asarray(x, dtype=np.float64).ravel()
    known = values[np.isfinite(values)]
    if len(known) < 4:
        raise TooShortError(f"λ needs 4 known points; there are {len(known)}.")
    return known
