"""Metrics: what counts as an error, and what each needs to be computed."""

from proteron.core.judge.metrics.metric import Metric, Scored
from proteron.core.judge.metrics.registry import DEFAULT_METRICS, METRICS
from proteron.core.judge.metrics.scaled import naive_scale

__all__ = ["DEFAULT_METRICS", "METRICS", "Metric", "Scored", "naive_scale"]
