"""Metrics: what counts as an error, and what each needs to be computed."""

from proteron.core.judge.metrics.metric import Metric, Scored
from proteron.core.judge.metrics.registry import DEFAULT_METRICS, METRICS, kept_losses, metric_of
from proteron.core.judge.metrics.signs import sign_table

__all__ = ["DEFAULT_METRICS", "METRICS", "Metric", "Scored", "kept_losses", "metric_of", "sign_table"]
