"""Numbers that describe a series: how strong trend and seasons are, how regular, how steady it is."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike
from scipy import fft

from proteron.core.flatten.decomposition import Decomposition, decompose
from proteron.core.panel import Floats

_INTERVAL, _VARIATION = 1.32, 0.49  # Syntetos & Boylan 2005


@dataclass(frozen=True)
class Strengths:
    """Strength of the trend and of each season by its period, 0 (none) to 1 (nothing else)."""

    trend: float
    seasons: dict[int, float]


def strengths(x: ArrayLike, periods: tuple[float, ...] = (), robust: bool = True) -> Strengths:
    """max(0, 1 - var(remainder) / var(component + remainder)) (Wang, Smith & Hyndman 2006)."""
    values = np.asarray(x, dtype=np.float64).ravel()
    if np.isfinite(values).sum() < 8:
        return Strengths(np.nan, {})
    return strengths_of(values, decompose(values, periods, robust=robust))


def strengths_of(values: Floats, parts: Decomposition) -> Strengths:
    """Strengths of a decomposition that is there already."""
    remainder = parts.remainder(values)
    noise = float(np.nanvar(remainder))
    level = (1e-9 * float(np.nanmax(np.abs(values)))) ** 2

    def strength(component: Floats) -> float:
        together = float(np.nanvar(component + remainder))
        return max(0.0, 1 - noise / together) if together > level else 0.0

    return Strengths(strength(parts.trend), {season.period: strength(season.path) for season in parts.seasons})


def spectral_entropy(x: ArrayLike) -> float:
    """Evenness of the spectrum, 0 (one wave) to 1 (white noise): Shannon entropy of averaged periodograms.

    Overlapping tapered segments are averaged (Welch 1967); gaps count as no deviation.
    """
    values = np.asarray(x, dtype=np.float64).ravel()
    present = np.isfinite(values)
    if present.sum() < 16:
        return np.nan
    apart = np.where(present, values - values[present].mean(), 0.0)
    width = int(np.clip(2 ** np.floor(np.log2(len(values) / 4)), 8, 256))
    taper = np.hanning(width + 2)[1:-1]
    windows = np.lib.stride_tricks.sliding_window_view(apart, width)[:: width // 2]
    windows = windows - windows.mean(axis=1, keepdims=True)
    power = (np.abs(fft.rfft(windows * taper, axis=1)) ** 2).mean(axis=0)[1:]
    total = power.sum()
    if total <= (1e-12 * max(1.0, float(np.abs(values[present]).max()))) ** 2:
        return np.nan
    shares = power / total
    shares = shares[shares > 0]
    return float(-(shares * np.log(shares)).sum() / np.log(len(power)))


def lumpiness(x: ArrayLike, width: int) -> float:
    """Variance of the variances of consecutive blocks of the standardised series."""
    blocks = _blocks(x, width)
    return float(np.var(np.nanvar(blocks, axis=1))) if len(blocks) > 1 else np.nan


def level_shift(x: ArrayLike, width: int) -> float:
    """Largest difference of the means of neighbouring windows, in standard deviations of the series."""
    means, _ = _window_moments(x, width)
    return float(np.nanmax(np.abs(means[width:] - means[:-width]))) if len(means) > width else np.nan


def variance_shift(x: ArrayLike, width: int) -> float:
    """Largest difference of the variances of neighbouring windows of the standardised series."""
    _, variances = _window_moments(x, width)
    return float(np.nanmax(np.abs(variances[width:] - variances[:-width]))) if len(variances) > width else np.nan


def _standardised(x: ArrayLike) -> Floats:
    values = np.asarray(x, dtype=np.float64).ravel()
    spread = np.nanstd(values) if np.isfinite(values).any() else 0.0
    if not spread > 1e-12 * max(float(np.nanmax(np.abs(values), initial=0.0)), 1e-300):
        return np.full(len(values), np.nan)
    return np.asarray((values - np.nanmean(values)) / spread)


def _blocks(x: ArrayLike, width: int) -> Floats:
    values = _standardised(x)
    blocks = values[: len(values) // width * width].reshape(-1, width)
    return blocks[np.isfinite(blocks).sum(axis=1) > width // 2]


def _window_moments(x: ArrayLike, width: int) -> tuple[Floats, Floats]:
    """Means and variances of all windows of the standardised series that are half known."""
    values = _standardised(x)
    present = np.isfinite(values)
    if len(values) < 2 * width or not present.any():
        return np.zeros(0), np.zeros(0)

    def sums(of: Floats) -> Floats:
        totals = np.concatenate([[0.0], np.cumsum(of)])
        return totals[width:] - totals[:-width]

    count = sums(present.astype(np.float64))
    filled = np.where(present, values, 0.0)
    enough = count > width / 2
    safe = np.maximum(count, 1)
    means = np.where(enough, sums(filled) / safe, np.nan)
    return means, np.where(enough, np.maximum(sums(filled**2) / safe - (sums(filled) / safe) ** 2, 0), np.nan)


def intermittency(x: ArrayLike) -> tuple[str, float, float]:
    """Class of demand, mean interval between non-zero values and squared variation of their sizes.

    smooth, erratic, intermittent or lumpy by the borders of Syntetos & Boylan 2005; "none" without any
    non-zero value, "not a count of demand" where values are negative.
    """
    values = np.asarray(x, dtype=np.float64).ravel()
    known = values[np.isfinite(values)]
    sizes = known[known != 0]
    if not len(sizes):
        return "none", np.nan, np.nan
    interval = len(known) / len(sizes)
    variation = float((sizes.std() / sizes.mean()) ** 2) if sizes.mean() else np.nan
    if known.min() < 0:
        return "has negatives", interval, variation
    if interval < _INTERVAL:
        return ("smooth" if variation < _VARIATION else "erratic"), interval, variation
    return ("intermittent" if variation < _VARIATION else "lumpy"), interval, variation
