"""Errors in percent of the truth, or of truth and forecast together."""

import numpy as np

from proteron.core.judge.metrics.metric import Loss, Metric, Scored
from proteron.core.panel import Floats


def _mape(scored: Scored) -> Floats:
    return np.where(scored.truth != 0, 100.0 * np.abs(scored.error / scored.truth), np.nan)


def _smape(scored: Scored) -> Floats:
    size = np.abs(scored.truth) + np.abs(scored.mean)
    return np.where(size > 0, 200.0 * np.abs(scored.error) / size, np.nan)


MAPE = Metric(
    "mape", "MAPE", "percent", Loss("mape", _mape), "mean of 100 |f - y| / |y|", "Makridakis 1993",
    undefined="the truth is zero there",
)  # fmt: skip
SMAPE = Metric(
    "smape", "sMAPE", "percent", Loss("smape", _smape), "mean of 200 |f - y| / (|f| + |y|), from 0 to 200",
    "Makridakis 1993", undefined="truth and forecast are zero there",
)  # fmt: skip
