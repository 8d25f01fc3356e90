"""Anomalies: what a contender did not expect, scored out of sample."""

from proteron.core.anomalies.scores import (
    Anomalies,
    Flag,
    Scores,
    budget_threshold,
    find_anomalies,
    flags_above,
    residual_scores,
    scan_folds,
    threshold_as_of,
)

__all__ = [
    "Anomalies", "Flag", "Scores", "budget_threshold", "find_anomalies", "flags_above", "residual_scores", "scan_folds",
    "threshold_as_of",
]  # fmt: skip
