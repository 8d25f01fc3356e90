"""Anomalies: what was not to be expected, looking back or as of every moment."""

from proteron.core.anomalies.drill import Drill, drill
from proteron.core.anomalies.find import find_anomalies
from proteron.core.anomalies.flags import Anomalies, Flag, Mode, Scores
from proteron.core.anomalies.residuals import (
    budget_threshold,
    flags_above,
    residual_scores,
    scan_folds,
    threshold_as_of,
)
from proteron.core.anomalies.watching import Watching, load_watching, watch

__all__ = [
    "Anomalies", "Drill", "Flag", "Mode", "Scores", "Watching", "budget_threshold", "drill", "find_anomalies",
    "flags_above", "load_watching", "residual_scores", "scan_folds", "threshold_as_of", "watch",
]  # fmt: skip
