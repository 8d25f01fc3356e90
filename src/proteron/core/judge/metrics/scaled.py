"""Errors in those of a naive forecast: the seasonal one inside what was learned, or the seasonally adjusted one."""

import numpy as np

from proteron.core.judge.metrics.absolute import ABSOLUTE
from proteron.core.judge.metrics.metric import Loss, Metric
from proteron.core.panel import Floats


def _positive(scale: Floats) -> Floats:
    return np.where(scale > 0, scale, np.nan)


_UNSCALED = "the series has not changed from season to season by the cutoff, so there is nothing to scale by"
_MASE = Loss("mase", lambda scored: np.abs(scored.error) / _positive(scored.scale), frozenset({"scale"}))
_RMSSE = Loss("rmsse", lambda scored: scored.error**2 / _positive(scored.square_scale), frozenset({"square_scale"}))

MASE = Metric(
    "mase", "MASE", "none", _MASE, "mean of |f - y| / s, s the mean |change| from season to season by the cutoff",
    "Hyndman & Koehler 2006", undefined=_UNSCALED,
)  # fmt: skip
RMSSE = Metric(
    "rmsse", "RMSSE", "none", _RMSSE, "√ mean of (f - y)² / q, q the mean squared change from season to season",
    "Makridakis, Spiliotis & Assimakopoulos 2022", report=np.sqrt, undefined=_UNSCALED,
)  # fmt: skip
RELATIVE = Metric(
    "relative", "relative MAE", "none", ABSOLUTE, "Σ|f - y| / Σ|n - y|, n the seasonally adjusted naive forecast",
    "Makridakis, Spiliotis & Assimakopoulos 2020 (there Naive 2)", yardstick="adjusted_naive",
    relate=lambda mean, naive: mean / naive, undefined="the seasonally adjusted naive forecast is not there or exact",
)  # fmt: skip
