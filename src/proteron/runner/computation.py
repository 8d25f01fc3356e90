"""All that steps compute with. A pool process loads it before its first step, or that would count as its time."""

from proteron.core import errors, experiment, judge, outlook
from proteron.core.forecasters import warm
from proteron.core.profile import features
from proteron.records import database, datasets, results
from proteron.runner import memory

__all__ = ["database", "datasets", "errors", "experiment", "features", "judge", "memory", "outlook", "results", "warm"]
