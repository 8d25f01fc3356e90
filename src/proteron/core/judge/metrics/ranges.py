"""Told of ranges: how often the truth lay inside, how wide they are, and both at once."""

import numpy as np

from proteron.core.judge.metrics.metric import Loss, Metric, Need, Scored
from proteron.core.panel import Floats

_RANGES: frozenset[Need] = frozenset({"ranges"})
_NONE = "there are no ranges"


def _ends(scored: Scored, level: float) -> tuple[Floats, Floats]:
    """Low and high end at `level`; NaN where it is not among the levels."""
    assert scored.lower is not None and scored.upper is not None
    if level not in scored.levels:
        return np.full(scored.truth.shape, np.nan), np.full(scored.truth.shape, np.nan)
    at = scored.levels.index(level)
    return scored.lower[at], scored.upper[at]


def coverage(level: float) -> Metric:
    """How often the truth lay inside the ranges at `level`; undefined where a forecaster gives none."""

    def inside(scored: Scored) -> Floats:
        low, high = _ends(scored, level)
        known = np.isfinite(scored.truth) & np.isfinite(low) & np.isfinite(high)
        return np.where(known, (scored.truth >= low) & (scored.truth <= high), np.nan)

    name = f"coverage_{level * 100:g}"
    return Metric(
        name, f"in {level * 100:g} %", "share", Loss(name, inside, _RANGES), "mean of 1 where low ≤ y ≤ high, else 0",
        "Gneiting, Balabdaoui & Raftery 2007", nominal=level, undefined=_NONE,
    )  # fmt: skip


def width(level: float) -> Metric:
    """How wide the ranges at `level` are; of two that cover alike, the narrower is better."""

    def wide(scored: Scored) -> Floats:
        low, high = _ends(scored, level)
        return np.where(np.isfinite(scored.truth), high - low, np.nan)

    name = f"width_{level * 100:g}"
    return Metric(
        name, f"width of {level * 100:g} %", "series", Loss(name, wide, _RANGES), "mean of high - low",
        "Gneiting, Balabdaoui & Raftery 2007", undefined=_NONE,
    )  # fmt: skip


def _interval(scored: Scored) -> Floats:
    """Width, and for a truth outside its distance times 2/α; the mean over levels."""
    assert scored.lower is not None and scored.upper is not None
    share = 2 / (1 - np.array(scored.levels).reshape(-1, 1, 1, 1))
    below = np.maximum(scored.lower - scored.truth, 0)
    above = np.maximum(scored.truth - scored.upper, 0)
    return np.asarray((scored.upper - scored.lower + share * (below + above)).mean(axis=0))


INTERVAL = Metric(
    "interval", "interval score", "series", Loss("interval", _interval, _RANGES),
    "mean over levels of high - low + 2/α (distance of y outside)", "Gneiting & Raftery 2007, eq. 43", undefined=_NONE,
)  # fmt: skip
