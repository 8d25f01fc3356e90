"""Errors in those of the seasonal naive forecast inside what was learned (Hyndman & Koehler 2006)."""

import numpy as np

from proteron.core.judge.metrics.metric import Metric
from proteron.core.panel import Floats


def naive_scale(known: Floats, season: int, power: int = 1) -> float:
    """Mean `power` of the absolute seasonal differences of known values (n_points,), NaN if undefined."""
    if len(known) <= season:
        return float("nan")
    changes = np.abs(known[season:] - known[:-season]) ** power
    present = changes[np.isfinite(changes)]
    return float(present.mean()) if len(present) else float("nan")


def _positive(scale: Floats) -> Floats:
    return np.where(scale > 0, scale, np.nan)


_UNSCALED = "the series has not changed from season to season by the cutoff, so there is nothing to scale by"
MASE = Metric(
    "mase", "MASE", "none", lambda scored: np.abs(scored.error) / _positive(scored.scale), frozenset({"scale"}),
    undefined=_UNSCALED,
)  # fmt: skip
RMSSE = Metric(
    "rmsse", "RMSSE", "none", lambda scored: scored.error**2 / _positive(scored.square_scale),
    frozenset({"square_scale"}), report=np.sqrt, undefined=_UNSCALED,
)  # fmt: skip
