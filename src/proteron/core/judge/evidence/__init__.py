"""Is a difference real: blocks to resample, intervals of skill, tests, ranks, and who may be the best."""

from proteron.core.judge.evidence.best import BestSet, best_set
from proteron.core.judge.evidence.blocks import Sample, sample_of
from proteron.core.judge.evidence.differences import DifferenceTest, compare_losses
from proteron.core.judge.evidence.intervals import Interval, skill_interval
from proteron.core.judge.evidence.ranks import Ranks, rank_entrants

__all__ = [
    "BestSet",
    "DifferenceTest",
    "Interval",
    "Ranks",
    "Sample",
    "best_set",
    "compare_losses",
    "rank_entrants",
    "sample_of",
    "skill_interval",
]  # fmt: skip
