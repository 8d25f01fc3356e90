"""Whether a series has a season worth taking out, and the series without it."""

from typing import Any

import numpy as np

from proteron.core.panel import Floats
from proteron.core.timeline import Ints

WAYS: tuple[str | None, ...] = (None, "additive", "multiplicative")
_BOUND = 1.645  # one-sided, at ten percent


def season_way(values: Floats, period: int, wanted: str) -> str | None:
    """“add”, “mul” or None: as `wanted`, or for “auto” multiplied where it is significant and all is above zero.

    Significant is an autocorrelation at the period beyond what those at shorter lags allow for (Bartlett 1946).
    """
    known = values[np.isfinite(values)]
    if wanted == "none" or period < 2 or len(known) < 2 * period + 2:
        return None
    positive = known.min() > 0
    if wanted != "auto":
        return wanted if wanted == "additive" or positive else "additive"
    apart = np.where(np.isfinite(values), values - known.mean(), 0.0)
    total = (apart**2).sum()
    if total <= 1e-20 * max(float(np.abs(known).max()), 1e-300) ** 2 * len(known):
        return None
    correlations = np.array([(apart[k:] * apart[:-k]).sum() / total for k in range(1, period + 1)])
    bound = _BOUND * np.sqrt((1 + 2 * (correlations[:-1] ** 2).sum()) / len(known))
    if abs(correlations[-1]) <= bound:
        return None
    return "multiplicative" if positive else "additive"


def season_behind_trend(values: Floats, period: int, wanted: str) -> str | None:
    """As `season_way`, but a trend, which is alike at every lag, is not taken for a season: changes show one too."""
    if wanted == "auto" and season_way(np.diff(values), period, "auto") is None:
        return None
    return season_way(values, period, wanted)


def without_season(values: Floats, figure: Floats, way: str | None) -> Floats:
    """Values (n,) less, or over, a figure (period,) that begins with the first."""
    if way is None:
        return values
    whole = np.resize(figure, len(values))
    return values - whole if way == "additive" else values / whole


def with_season(means: Floats, figure: Floats, way: str | None, at: Ints) -> Floats:
    """Means (n_origins, horizon) after `at` points (n_origins,) with the season put back."""
    if way is None:
        return means
    shown = figure[(at[:, None] + np.arange(means.shape[1])) % len(figure)]
    return means + shown if way == "additive" else means * shown


def season_sizes(figure: Floats, way: str | None, at: int, horizon: int) -> Floats:
    """What a unit of the series without its season is at each step after `at` points, (horizon,)."""
    return figure[(at + np.arange(horizon)) % len(figure)] if way == "multiplicative" else np.ones(horizon)


def season_of(learned: Any) -> tuple[str | None, Floats]:
    """How a season that was taken out is put back, and its figure from the first point learned.

    `learned` has `way`, `figure` and its length `cycle` by name.
    """
    return WAYS[int(learned["way"])], learned["figure"][: int(learned["cycle"])]
