"""Whether a season keeps its figure, or wanders so that it has to be differenced."""

from functools import lru_cache

import numpy as np
from numpy.typing import ArrayLike

from proteron.core.errors import SettingsError, TooShortError
from proteron.core.panel import Floats
from proteron.core.profile.hypothesis_tests import TestResult, known_values

_LONGEST = 24


@lru_cache(maxsize=32)
def _von_mises_grid(freedom: int) -> tuple[Floats, Floats]:
    """Points and distribution function of Σ χ²(freedom) / (πk)² over k = 1, 2, …, by Gil-Pelaez inversion.

    The characteristic function is (z / sin z)^(freedom / 2) with z² = 2it (Anderson & Darling 1952).
    """
    mean, spread = freedom / 6, np.sqrt(freedom / 45)
    points = np.linspace(max(mean - 8 * spread, 1e-3), mean + 14 * spread, 900)
    edge = 60 * np.pi**2 / 2
    t = (np.arange(20_000) + 0.5) * edge / 20_000
    root = np.sqrt(2j * t)
    # sin z grows like exp(√t): its logarithm is taken apart so that it cannot overflow.
    log_sine = -1j * root + np.log(1 - np.exp(2j * root)) + np.log(0.5j)
    logs = np.log(root) - log_sine
    phase = np.unwrap(logs.imag)
    phase -= phase[0] - np.angle(np.exp(1j * phase[0]))
    size = np.exp(0.5 * freedom * logs.real) / t
    angle = 0.5 * freedom * phase
    inverse = [float((np.sin(angle - t * point) * size).sum()) for point in points]
    return points, np.clip(0.5 - np.array(inverse) * (edge / 20_000) / np.pi, 0.0, 1.0)


def von_mises_survival(statistic: float, freedom: int) -> float:
    """Upper tail of the generalised Cramér–von Mises distribution (Canova & Hansen 1995, table 1)."""
    points, below = _von_mises_grid(freedom)
    return float(1 - np.interp(statistic, points, below, left=0.0, right=1.0))


def seasonal_stability(x: ArrayLike, period: int, lags: int | None = None) -> TestResult:
    """Canova & Hansen 1995, all seasonal frequencies jointly; the null is a figure that stays.

    Regression on a line and every wave of `period` ≤ 24; Bartlett weights over `lags`, by default
    period · (n/100)^¼. Rejected: the season wanders, difference it at its lag.
    """
    if not 2 <= period <= _LONGEST:
        raise SettingsError(f"The seasonal test takes periods from 2 to {_LONGEST}, not {period}.", field="period")
    values = np.asarray(x, dtype=np.float64).ravel()
    present = np.isfinite(values)
    if int(present.sum()) < 3 * period:
        raise TooShortError(f"The seasonal test needs three cycles of {period} known points.", field="period")
    known_values(values, 8, "The seasonal test")
    null = f"the figure of {period} steps stays the same"
    count = len(values)
    at = np.arange(count)
    angles = 2 * np.pi * np.outer(at, np.arange(1, period // 2 + 1)) / period
    waves = np.concatenate([np.cos(angles), np.sin(angles)], axis=1)
    waves = waves[:, np.abs(waves).max(axis=0) > 1e-9]  # the sine at half the step is nothing
    design = np.column_stack([np.ones(count), at / count, waves])
    weights = np.linalg.lstsq(design[present], values[present], rcond=None)[0]
    residuals = np.where(present, values - design @ weights, 0.0)
    if np.ptp(residuals) <= 1e-10 * max(1.0, float(np.abs(values[present]).max())):
        return TestResult("stable season", np.nan, np.nan, 0, null, "It fits exactly: nothing to test.")
    width = int(period * (count / 100) ** 0.25) if lags is None else int(lags)
    moments = waves * residuals[:, None]
    long_run = moments.T @ moments / count
    for k in range(1, min(width, count - 1) + 1):
        product = moments[k:].T @ moments[:-k] / count
        long_run += (1 - k / (width + 1)) * (product + product.T)
    sums = np.cumsum(moments, axis=0)
    statistic = float(np.trace(np.linalg.pinv(long_run) @ (sums.T @ sums))) / count**2
    p = von_mises_survival(statistic, waves.shape[1])
    verdict = "The season's figure wanders: difference at its lag." if p < 0.05 else "The season keeps its figure."
    return TestResult("stable season", statistic, p, width, null, verdict)
