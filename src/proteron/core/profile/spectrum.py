"""Periodograms, with and without gaps, and the periods they suggest."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike
from scipy import fft

from proteron.core.compiled import kernel
from proteron.core.errors import TooShortError
from proteron.core.panel import Floats
from proteron.core.profile.correlogram import acf

_MOST_FREQUENCIES = 4000


@dataclass(frozen=True)
class Spectrum:
    """Power at frequencies in cycles per step, (n_frequencies,) each; power sums to the variance."""

    frequency: Floats
    power: Floats

    @property
    def period(self) -> Floats:
        """Steps per cycle."""
        return 1 / self.frequency


@dataclass(frozen=True)
class Candidate:
    """A period found: steps per cycle, its share of the power, and the autocorrelation there."""

    period: float
    share: float
    correlation: float


@kernel
def _lomb(at: Floats, values: Floats, frequencies: Floats) -> Floats:
    """Normalised periodogram at uneven times (Lomb 1976; Scargle 1982), by recurrence of the angles."""
    out = np.empty(len(frequencies))
    for k in range(len(frequencies)):
        omega = 2 * np.pi * frequencies[k]
        s2, c2 = 0.0, 0.0
        for i in range(len(at)):
            s2 += np.sin(2 * omega * at[i])
            c2 += np.cos(2 * omega * at[i])
        shift = 0.5 * np.arctan2(s2, c2) / omega
        yc, ys, cc, ss = 0.0, 0.0, 0.0, 0.0
        for i in range(len(at)):
            c, s = np.cos(omega * (at[i] - shift)), np.sin(omega * (at[i] - shift))
            yc += values[i] * c
            ys += values[i] * s
            cc += c * c
            ss += s * s
        power = yc * yc / cc if cc > 1e-12 else 0.0
        out[k] = power + (ys * ys / ss if ss > 1e-12 else 0.0)
    return out


def periodogram(x: ArrayLike) -> Spectrum:
    """Power of the deviations from a line at the Fourier frequencies; by Lomb–Scargle where points are missing.

    With gaps and more than some thousand frequencies, only those of the longest gap-free use are
    thinned: every frequency up to the limit, then evenly spaced ones.
    """
    values = np.asarray(x, dtype=np.float64).ravel()
    present = np.isfinite(values)
    known = int(present.sum())
    if known < 8:
        raise TooShortError(f"A periodogram needs 8 known points; there are {known}.")
    at = np.flatnonzero(present).astype(np.float64)
    straight = np.polynomial.polynomial.polyfit(at / len(values), values[present], 1)
    apart = values[present] - np.polynomial.polynomial.polyval(at / len(values), straight)
    frequency = np.arange(1, len(values) // 2 + 1) / len(values)
    if known == len(values):
        power = 2 * np.abs(fft.rfft(apart)[1 : len(frequency) + 1]) ** 2 / len(values) ** 2
        if len(values) % 2 == 0:
            power[-1] /= 2
        return Spectrum(frequency, power)
    if len(frequency) * known > _MOST_FREQUENCIES * 4000:
        # Direct sums would take too long: gaps count as no deviation, and the power is made up for.
        whole = np.zeros(len(values))
        whole[present] = apart
        power = 2 * np.abs(fft.rfft(whole)[1 : len(frequency) + 1]) ** 2 / len(values) / known
        return Spectrum(frequency, power)
    return Spectrum(frequency, _lomb(at, apart, frequency) / known)


def candidate_periods(x: ArrayLike, most: int = 5, expected: Sequence[float] = ()) -> list[Candidate]:
    """Periods at which the periodogram peaks and the autocorrelation agrees, strongest first.

    A peak must exceed what the highest of so many noise ordinates would reach once in a hundred
    series (Fisher 1929) above the running median of its neighbours, and the correlogram must
    have a local maximum near it that is above its bound. What is but a wave of a longer period is left out.
    Where one of the `expected` periods is as good as what was found beside it, it is named instead.
    """
    values = np.asarray(x, dtype=np.float64).ravel()
    known = int(np.isfinite(values).sum())
    if known < 16:
        return []
    spectrum = periodogram(values)
    total = float(spectrum.power.sum())
    if total <= 1e-20 * max(1.0, float(np.nanmax(np.abs(values)))) ** 2:
        return []
    usable = (spectrum.period >= 2) & (spectrum.period <= len(values) / 2)
    beside = np.concatenate([[0.0], spectrum.power, [0.0]])
    peak = (spectrum.power >= beside[:-2]) & (spectrum.power >= beside[2:])
    power = np.where(usable & peak, spectrum.power, 0.0)
    ground = _running_median(spectrum.power) / np.log(2) + 1e-12 * total
    limit = np.log(len(power) / 0.01)
    straight = np.polynomial.polynomial.polyfit(np.flatnonzero(np.isfinite(values)), values[np.isfinite(values)], 1)
    level = values - np.polynomial.polynomial.polyval(np.arange(len(values)), straight)
    correlations = acf(level, len(values) // 2 + 2)
    bound = 2 / np.sqrt(known)
    found: list[Candidate] = []
    for place in np.argsort(power / ground)[::-1][:60]:
        if power[place] <= ground[place] * limit:
            break
        confirmed = _confirm(correlations, float(spectrum.period[place]), len(values), bound, expected)
        if confirmed is None:
            continue
        period, correlation = confirmed
        if not any(_akin(period, other.period, len(values)) for other in found):
            near = slice(max(place - 1, 0), place + 2)
            found.append(Candidate(period, float(power[near].sum()) / total, correlation))
    found = [each for each in found if not _is_wave(each, found)]
    return sorted(found, key=lambda each: -each.share)[:most]


def _running_median(power: Floats) -> Floats:
    """Median of the neighbours between half and twice each frequency, so that a falling spectrum is followed.

    At least 6, at most 100 to either side count; centres are spaced evenly in log frequency, straight
    lines in log power between them.
    """
    size = len(power)
    centres = np.unique(np.geomspace(1, size, min(80, size)).round().astype(int)) - 1
    medians = []
    for at in centres:
        low, high = min((at + 1) // 2, at - 6), max(2 * at + 2, at + 7)
        medians.append(np.median(power[max(low, at - 100, 0) : min(high, at + 101)]))
    floor = 1e-300 + 1e-12 * float(power.max())
    logs = np.interp(np.log1p(np.arange(size)), np.log1p(centres), np.log(np.maximum(medians, floor)))
    return np.asarray(np.exp(logs))


def _confirm(
    correlations: Floats, period: float, count: int, bound: float, expected: Sequence[float]
) -> tuple[float, float] | None:
    """The local maximum of the correlogram nearest a periodogram's period, refined; None without one."""
    room = max(1.0, 0.6 * period * period / count)  # half the spacing of neighbouring frequencies
    low, high = max(int(np.floor(period - room)), 2), min(int(np.ceil(period + room)), len(correlations) - 2)
    if high < low:
        return None
    at = low + int(np.nanargmax(correlations[low : high + 1]))
    value = correlations[at]
    # An isolated wave of a short period need not peak at a whole step: its neighbours must lie lower.
    half = max(int(at // 2), 1)
    if not value > bound or value <= np.nanmin(correlations[half : at + 1]) + bound:
        return None
    if not (value >= correlations[at - 1] - 1e-12 and value >= correlations[at + 1] - 1e-12):
        return None
    for each in expected:
        near = round(each)
        if low <= near <= high and correlations[near] >= value - bound:
            return float(near), float(correlations[near])
    return float(at), float(value)


def _akin(period: float, other: float, count: int) -> bool:
    return abs(period - other) <= max(1.0, 0.6 * other * other / count)


def _is_wave(each: Candidate, found: list[Candidate]) -> bool:
    """Whether a candidate is but a wave of a longer period that is not much weaker."""
    for other in found:
        ratio = other.period / each.period
        whole = round(ratio)
        if whole >= 2 and abs(ratio - whole) < 0.02 * whole and other.share >= 0.2 * each.share:
            return True
    return False
