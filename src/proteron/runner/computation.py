"""All that steps compute with. A pool process loads it before its first step, or that would count as its time."""

from proteron.core import anomalies, errors, experiment, judge, outlook, search
from proteron.core.anomalies import detectors
from proteron.core.forecasters import warm
from proteron.core.profile import features
from proteron.records import database, datasets, findings, results
from proteron.runner import memory
from proteron.runner.work import races

__all__ = ["anomalies", "database", "datasets", "detectors", "errors", "experiment", "features", "findings",
           "judge", "memory", "outlook", "races", "results", "search", "warm"]  # fmt: skip
