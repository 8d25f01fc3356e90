"""Autocorrelation and partial autocorrelation, gaps allowed."""

import numpy as np
from numpy.typing import ArrayLike
from scipy import fft, special

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


def bartlett_bounds(correlations: Floats, count: int, level: float = 0.95) -> Floats:
    """Half widths within which each autocorrelation would lie if all from its lag on were zero (Bartlett 1946).

    `correlations` (n_lags + 1,) begin at lag 0; `count` is the number of known points. White noise
    alone would give the first of them, quantile / √n, at every lag.
    """
    squares = np.nan_to_num(correlations[1:]) ** 2
    sums = np.concatenate([[0.0], np.cumsum(squares)[:-1]])
    bounds = special.ndtri(0.5 + level / 2) * np.sqrt((1 + 2 * sums) / max(count, 1))
    return np.concatenate([[np.nan], bounds])


def cross_correlation(x: ArrayLike, y: ArrayLike, lags: int, prewhiten: bool = True) -> tuple[Floats, Floats]:
    """Correlation of y with x so many steps before, at lags -`lags` … `lags`: (2 lags + 1,) each of lags and values.

    A peak at a positive lag means that x leads. With `prewhiten` both pass the autoregression of x (order
    by AIC up to 10 log10 n) first, so that shared persistence does not look like a link (Box & Jenkins 1976).
    """
    cause, effect = (np.asarray(each, dtype=np.float64).ravel() for each in (x, y))
    if len(cause) != len(effect):
        raise TooShortError("Both series need the same number of points.")
    if prewhiten:
        weights = _autoregression(cause)
        cause, effect = _filtered(cause, weights), _filtered(effect, weights)
    lags = min(int(lags), max(len(cause) - 2, 0))
    known_x, known_y = np.isfinite(cause), np.isfinite(effect)
    if known_x.sum() < 3 or known_y.sum() < 3:
        raise TooShortError("A cross-correlation needs three known points of each series.")
    apart_x = np.where(known_x, cause - cause[known_x].mean(), 0.0)
    apart_y = np.where(known_y, effect - effect[known_y].mean(), 0.0)
    scale = np.sqrt((apart_x**2).sum() / known_x.sum() * (apart_y**2).sum() / known_y.sum())
    size = fft.next_fast_len(2 * len(cause), real=True)

    def products(left: Floats, right: Floats) -> Floats:
        circular = fft.irfft(np.conj(fft.rfft(left, size)) * fft.rfft(right, size), size)
        return np.concatenate([circular[size - lags :], circular[: lags + 1]]) if lags else circular[:1]

    pairs = products(known_x.astype(np.float64), known_y.astype(np.float64)).round()
    shares = np.maximum(pairs, 0) / (len(cause) - np.abs(np.arange(-lags, lags + 1)))
    values = products(apart_x, apart_y) / np.where(pairs > 0, shares * len(cause), np.nan)
    out = values / scale if scale > 1e-300 else np.full(2 * lags + 1, np.nan)
    return np.arange(-lags, lags + 1, dtype=np.float64), out


def _autoregression(x: Floats) -> Floats:
    """Weights of the autoregression with the least AIC, by Durbin–Levinson on the missing-aware correlations."""
    known = int(np.isfinite(x).sum())
    correlations = acf(x, int(10 * np.log10(max(known, 10))))
    weights, best, error = np.zeros(0), np.zeros(0), 1.0
    lowest = 0.0
    for lag in range(1, len(correlations)):
        gap = correlations[lag] - weights @ correlations[lag - 1 : 0 : -1]
        if not np.isfinite(gap) or error <= 1e-9 or abs(gap / error) >= 1:
            break
        partial = gap / error
        weights = np.concatenate([weights - partial * weights[::-1], [partial]])
        error *= 1 - partial**2
        criterion = known * np.log(error) + 2 * lag
        if criterion < lowest:
            lowest, best = criterion, weights
    return best


def _filtered(values: Floats, weights: Floats) -> Floats:
    """What an autoregression leaves; missing where a value it needs is missing."""
    out = values.copy()
    for k, weight in enumerate(weights, start=1):
        out[k:] -= weight * values[:-k]
    out[: len(weights)] = np.nan
    return out
