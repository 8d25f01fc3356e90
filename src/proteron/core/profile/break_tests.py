"""Tests for a structural break: somewhere, or at a given point."""

import numpy as np
from numpy.typing import ArrayLike
from scipy import special

from proteron.core.compiled import kernel
from proteron.core.errors import SettingsError, TooShortError
from proteron.core.panel import Floats
from proteron.core.profile.hypothesis_tests import TestResult, known_values

_CRITICAL = {"1%": 1.143, "5%": 0.948, "10%": 0.850}  # Brown, Durbin & Evans 1975, p. 154


@kernel
def recursive_residuals(values: Floats) -> Floats:
    """One-step errors of a line fitted to the points before, each scaled to the same variance, (n_points - 2,)."""
    out = np.empty(len(values) - 2)
    count, mean_t, mean_y = 2.0, 0.5, 0.5 * (values[0] + values[1])
    spread, cross = 0.5, 0.5 * (values[1] - values[0])
    for i in range(2, len(values)):
        slope = cross / spread
        gap = i - mean_t
        error = values[i] - mean_y - slope * gap
        out[i - 2] = error / np.sqrt(1 + 1 / count + gap * gap / spread)
        count += 1
        rise = values[i] - mean_y
        mean_t += gap / count
        mean_y += rise / count
        spread += gap * (i - mean_t)
        cross += gap * (values[i] - mean_y)
    return out


def cusum(x: ArrayLike) -> TestResult:
    """Cumulated recursive residuals of a line in time against their crossing lines (Brown, Durbin & Evans 1975)."""
    values = known_values(x, 8, "The test of a break")
    null = "one line holds for the whole series"
    residuals = recursive_residuals(np.ascontiguousarray(values))
    count = len(residuals)
    spread = float(np.sqrt(((residuals - residuals.mean()) ** 2).sum() / (count - 1)))
    if spread <= 1e-12 * max(1.0, np.abs(values).max()):
        return TestResult("break", np.nan, np.nan, 0, null, "A line fits exactly: nothing to test.")
    path = np.cumsum(residuals) / (spread * np.sqrt(count))
    heights = np.abs(path) / (1 + 2 * np.arange(1, count + 1) / count)
    statistic = float(heights.max())
    p = _crossing_probability(statistic)
    verdict = "The line breaks: level or slope changed." if p < 0.05 else "No break found."
    return TestResult("break", statistic, p, 0, null, verdict, dict(_CRITICAL))


def _crossing_probability(height: float) -> float:
    """Probability that Brownian motion crosses ±height (1 + 2t) before t = 1."""
    if height < 0.3:
        return 1.0
    a, normal = height, special.ndtr
    p = 2 * (
        1 - normal(3 * a) + np.exp(-4 * a**2) * (normal(a) + normal(5 * a) - 1) - np.exp(-16 * a**2) * (1 - normal(a))
    )
    return float(min(p, 1.0))


def chow(x: ArrayLike, at: int, trend: str = "linear") -> TestResult:
    """Whether a line (or a level) is the same before and from position `at` on (Chow 1960), an F test."""
    values = np.asarray(x, dtype=np.float64).ravel()
    if trend not in ("constant", "linear"):
        raise SettingsError("A break of the level (constant) or of the line (linear) is tested.", field="trend")
    width = 2 if trend == "linear" else 1
    if not 0 < at < len(values):
        raise SettingsError(f"The break lies inside the series, not at {at}.", field="at")
    design = np.column_stack([np.ones(len(values)), np.arange(len(values)) / len(values)])[:, :width]
    present = np.isfinite(values)
    sides = [present & (np.arange(len(values)) < at), present & (np.arange(len(values)) >= at)]
    if min(int(side.sum()) for side in sides) <= width:
        raise TooShortError(f"Each side of the break needs more than {width} known points.", field="at")

    def squares(rows: "np.ndarray[tuple[int, ...], np.dtype[np.bool_]]") -> float:
        y, columns = values[rows], design[rows]
        return float(((y - columns @ np.linalg.lstsq(columns, y, rcond=None)[0]) ** 2).sum())

    whole, apart = squares(present), sum(squares(side) for side in sides)
    freedom = int(present.sum()) - 2 * width
    null = f"the same {'line' if width == 2 else 'level'} holds before and after"
    if whole <= (1e-12 * max(1.0, float(np.abs(values[present]).max()))) ** 2:
        return TestResult("break at a date", np.nan, np.nan, 0, null, "It fits exactly: nothing to test.")
    statistic = (whole - apart) / width / max(apart / freedom, 1e-300)
    p = float(special.fdtrc(width, freedom, max(statistic, 0.0)))
    verdict = "It changes there." if p < 0.05 else "No change found there."
    return TestResult("break at a date", float(statistic), p, 0, null, verdict)
