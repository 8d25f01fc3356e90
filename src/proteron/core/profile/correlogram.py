"""Autocorrelation and partial autocorrelation, gaps allowed."""

import numpy as np
from numpy.typing import ArrayLike
from scipy import fft

from proteron.core.errors import TooShortError
from proteron.core.panel import Floats


def acf(x: ArrayLike, lags: int) -> Floats:
    """Autocorrelation at lags 0 … `lags` (index is the lag), by FFT.

    Missing values are left out of sums and counts (amplitude-modulated estimator, Parzen 1963);
    without gaps this is the usual biased estimator. Constant series give 1 at lag 0, NaN elsewhere.
    """
    values = np.asarray(x, dtype=np.float64).ravel()
    present = np.isfinite(values)
    if present.sum() < 2:
        raise TooShortError("Autocorrelation needs at least two known points.")
    lags = min(int(lags), len(values) - 1)
    centred = np.where(present, values - values[present].mean(), 0.0)
    size = fft.next_fast_len(2 * len(values), real=True)
    sums = fft.irfft(np.abs(fft.rfft(centred, size)) ** 2, size)[: lags + 1]
    if present.all():
        pairs = np.full(lags + 1, float(len(values)))
    else:
        counts = fft.irfft(np.abs(fft.rfft(present.astype(float), size)) ** 2, size)[: lags + 1].round()
        shares = np.maximum(counts, 0) / np.maximum(len(values) - np.arange(lags + 1), 1)
        pairs = np.where(counts > 0, shares * len(values), np.nan)
    variance = sums[0] / pairs[0]
    if variance <= 1e-24 * max(1.0, float(np.abs(values[present]).max()) ** 2):
        return np.concatenate([[1.0], np.full(lags, np.nan)])
    return np.asarray(sums / pairs / variance)


def pacf(x: ArrayLike, lags: int) -> Floats:
    """Partial autocorrelation at lags 0 … `lags` by the Durbin–Levinson recursion (Durbin 1960)."""
    correlations = acf(x, lags)
    out = np.full(len(correlations), np.nan)
    out[0] = 1.0
    weights = np.zeros(0)
    error = 1.0
    for lag in range(1, len(correlations)):
        gap = correlations[lag] - weights @ correlations[lag - 1 : 0 : -1]
        if not np.isfinite(gap) or error <= 1e-12:
            break
        out[lag] = gap / error
        weights = np.concatenate([weights - out[lag] * weights[::-1], [out[lag]]])
        error *= 1 - out[lag] ** 2
    return out
