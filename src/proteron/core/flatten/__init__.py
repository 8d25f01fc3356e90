"""Flatten: reversible stages that take trend, seasons and scale out, and put them back."""

from proteron.core.flatten.chain import STAGES, AnyStage, Chain, FittedChain
from proteron.core.flatten.linear_trend import LinearTrend
from proteron.core.flatten.log import Log
from proteron.core.flatten.period_means import PeriodMeans
from proteron.core.flatten.seasonal_difference import SeasonalDifference
from proteron.core.flatten.stage import Stage, StageState
from proteron.core.flatten.z_score import ZScore

__all__ = [
    "STAGES", "AnyStage", "Chain", "FittedChain", "LinearTrend", "Log", "PeriodMeans",
    "SeasonalDifference", "Stage", "StageState", "ZScore",
]  # fmt: skip
