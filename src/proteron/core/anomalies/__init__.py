"""Anomalies: what was not to be expected, looking back or as of every moment."""

from proteron.core.anomalies.budget import Budget, Over
from proteron.core.anomalies.drill import Drill, drill
from proteron.core.anomalies.find import find_anomalies
from proteron.core.anomalies.flags import Anomalies, Flag, Mode, Scores
from proteron.core.anomalies.residuals import residual_candidates, residual_scores, scan_folds
from proteron.core.anomalies.watching import Watching, load_watching, watch

__all__ = [
    "Anomalies", "Budget", "Drill", "Flag", "Mode", "Over", "Scores", "Watching", "drill", "find_anomalies",
    "load_watching", "residual_candidates", "residual_scores", "scan_folds", "watch",
]  # fmt: skip
