"""Symmetric percentage error (Makridakis 1993), between 0 and 200; undefined where truth and forecast are zero."""

import numpy as np

from proteron.core.judge.metrics.metric import Metric, Scored
from proteron.core.panel import Floats


def _smape(scored: Scored) -> Floats:
    size = np.abs(scored.truth) + np.abs(scored.mean)
    return np.where(size > 0, 200.0 * np.abs(scored.error) / size, np.nan)


SMAPE = Metric("smape", "sMAPE", "percent", _smape, undefined="truth and forecast are zero there")
