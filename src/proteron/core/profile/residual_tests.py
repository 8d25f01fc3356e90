"""Tests of what is left: normality, changing spread, randomness of sign."""

import numpy as np
from numpy.typing import ArrayLike
from scipy import special

from proteron.core.errors import SettingsError
from proteron.core.panel import Floats
from proteron.core.profile.hypothesis_tests import TestResult, known_values


def jarque_bera(x: ArrayLike) -> TestResult:
    """Normality by skewness and kurtosis (Jarque & Bera 1980); χ² with two degrees of freedom."""
    values = known_values(x, 8, "The normality test")
    null = "the values are normal"
    apart = values - values.mean()
    variance = float((apart**2).mean())
    if variance <= (1e-12 * max(1.0, np.abs(values).max())) ** 2:
        return TestResult("normality", np.nan, np.nan, 0, null, "Constant series: nothing to test.")
    skewness = float((apart**3).mean()) / variance**1.5
    excess = float((apart**4).mean()) / variance**2 - 3
    statistic = len(values) / 6 * (skewness**2 + excess**2 / 4)
    p = float(special.chdtrc(2, statistic))
    lean = "long upper tail" if skewness > 0.5 else "long lower tail" if skewness < -0.5 else "heavy tails"
    verdict = f"Not normal: {lean if abs(skewness) > 0.5 or excess > 0 else 'light tails'}." if p < 0.05 else (
        "Normality not rejected."
    )  # fmt: skip
    return TestResult("normality", statistic, p, 0, null, verdict)


def _share_explained(y: Floats, columns: Floats) -> float:
    """R² of a least-squares regression on a constant and `columns` (n_points, n_columns)."""
    design = np.column_stack([np.ones(len(y)), columns])
    residuals = y - design @ np.linalg.lstsq(design, y, rcond=None)[0]
    total = float(((y - y.mean()) ** 2).sum())
    return 1 - float(residuals @ residuals) / total if total > 0 else 0.0


def arch_lm(x: ArrayLike, lags: int = 12) -> TestResult:
    """Whether large deviations follow large ones: n R² of squares on their `lags` past (Engle 1982)."""
    values = known_values(x, lags + 8, "The test of volatility")
    if lags < 1:
        raise SettingsError("At least one lag is needed.", field="lags")
    null = f"squared deviations do not depend on their last {lags}"
    squares = (values - values.mean()) ** 2
    if np.ptp(squares) <= 1e-12 * max(squares.max(), 1e-300):
        return TestResult("volatility", np.nan, np.nan, lags, null, "Nothing varies: nothing to test.")
    past = np.column_stack([squares[lags - k : len(squares) - k] for k in range(1, lags + 1)])
    statistic = (len(squares) - lags) * _share_explained(squares[lags:], past)
    p = float(special.chdtrc(lags, statistic))
    verdict = "Spread comes in clusters." if p < 0.05 else "No clusters of spread found."
    return TestResult("volatility", float(statistic), p, lags, null, verdict)


def breusch_pagan(x: ArrayLike, columns: ArrayLike | None = None, studentised: bool = True) -> TestResult:
    """Whether the spread depends on time, or on `columns` (n_points, n_columns) (Breusch & Pagan 1979).

    Squared residuals of a line in time (or on the columns) are regressed on it; n R² in Koenker's 1981
    studentised form, half the explained sum of squares otherwise.
    """
    values = np.asarray(x, dtype=np.float64).ravel()
    at = np.arange(len(values), dtype=np.float64)[:, None] if columns is None else np.asarray(columns, dtype=np.float64)
    at = at if at.ndim == 2 else at.reshape(len(values), -1)
    present = np.isfinite(values) & np.isfinite(at).all(axis=1)
    at = at[present]
    values = known_values(values[present], at.shape[1] + 6, "The test of spread")
    null = "the spread is the same " + ("at all times" if columns is None else "whatever the columns say")
    design = np.column_stack([np.ones(len(values)), (at - at.mean(axis=0)) / np.maximum(at.std(axis=0), 1e-300)])
    residuals = values - design @ np.linalg.lstsq(design, values, rcond=None)[0]
    variance = float((residuals**2).mean())
    if variance <= (1e-12 * max(1.0, np.abs(values).max())) ** 2:
        return TestResult("even spread", np.nan, np.nan, 0, null, "Nothing varies: nothing to test.")
    scaled = residuals**2 / variance
    share = _share_explained(scaled, design[:, 1:])
    statistic = len(values) * share if studentised else 0.5 * share * float(((scaled - scaled.mean()) ** 2).sum())
    p = float(special.chdtrc(at.shape[1], statistic))
    verdict = "The spread changes: transform or scale it." if p < 0.05 else "No change of spread found."
    return TestResult("even spread", float(statistic), p, 0, null, verdict)


def runs_test(x: ArrayLike) -> TestResult:
    """Randomness of being above or below the median (Wald & Wolfowitz 1940), two-sided and normal."""
    values = known_values(x, 8, "The runs test")
    null = "being above or below the median is random"
    above = values[values != np.median(values)] > np.median(values)
    high, low = int(above.sum()), int((~above).sum())
    if high == 0 or low == 0:
        return TestResult("runs", np.nan, np.nan, 0, null, "Nothing varies: nothing to test.")
    runs = 1 + int((above[1:] != above[:-1]).sum())
    total = high + low
    expected = 2 * high * low / total + 1
    variance = 2 * high * low * (2 * high * low - total) / (total**2 * (total - 1))
    statistic = (runs - expected) / np.sqrt(variance) if variance > 0 else 0.0
    p = float(2 * special.ndtr(-abs(statistic)))
    kind = "too few runs: values follow their neighbours" if statistic < 0 else "too many runs: values alternate"
    verdict = f"Not random: {kind}." if p < 0.05 else "Randomness not rejected."
    return TestResult("runs", float(statistic), p, 0, null, verdict)
