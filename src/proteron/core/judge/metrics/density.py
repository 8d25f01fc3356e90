"""The loss of a predictive density."""

import numpy as np

from proteron.core.judge.metrics.metric import Loss, Metric, Scored
from proteron.core.panel import Floats


def _log_score(scored: Scored) -> Floats:
    assert scored.log_density is not None
    return np.asarray(-scored.log_density)


LOG_SCORE = Metric(
    "log_score", "log score", "none", Loss("log_score", _log_score, frozenset({"density"})), "mean(-log p(y))",
    "Good 1952; Gneiting & Raftery 2007, sec. 4.1", ratios=False,
    undefined="there is no density: ranges are not those of one normal distribution behind the transforms",
)  # fmt: skip
