"""Flatten: reversible stages that take trend, seasons and scale out, and put them back."""

from proteron.core.flatten.box_cox import BoxCox
from proteron.core.flatten.chain import Chain, FittedChain
from proteron.core.flatten.classical_season import ClassicalSeason
from proteron.core.flatten.curve_trend import CurveTrend
from proteron.core.flatten.decomposition import Decomposition, decompose
from proteron.core.flatten.fourier_season import FourierSeason
from proteron.core.flatten.fractional_difference import FractionalDifference
from proteron.core.flatten.level import Level
from proteron.core.flatten.linear_trend import LinearTrend
from proteron.core.flatten.local_scale import LocalScale
from proteron.core.flatten.loess_seasons import LoessSeasons
from proteron.core.flatten.log import Log, Log1p
from proteron.core.flatten.logit import Logit
from proteron.core.flatten.min_max import MinMax
from proteron.core.flatten.moving_average import MovingAverage
from proteron.core.flatten.occasion_effects import OccasionEffects
from proteron.core.flatten.period_means import PeriodMeans
from proteron.core.flatten.period_spread import PeriodSpread
from proteron.core.flatten.piecewise_trend import PiecewiseTrend, find_knots
from proteron.core.flatten.registry import STAGES, AnyStage
from proteron.core.flatten.returns import Returns
from proteron.core.flatten.robust_lines import Line, fit_line
from proteron.core.flatten.robust_scale import RobustScale
from proteron.core.flatten.seasonal_difference import SeasonalDifference
from proteron.core.flatten.smooth_trend import SmoothTrend
from proteron.core.flatten.stage import Calendar, Figure, Stage, StageState
from proteron.core.flatten.without_anomalies import WithoutAnomalies
from proteron.core.flatten.yeo_johnson import YeoJohnson
from proteron.core.flatten.z_score import ZScore

__all__ = [
    "STAGES",
    "AnyStage",
    "BoxCox",
    "Calendar",
    "Chain",
    "ClassicalSeason",
    "CurveTrend",
    "Decomposition",
    "Figure",
    "FittedChain",
    "FourierSeason",
    "FractionalDifference",
    "Level",
    "Line",
    "LinearTrend",
    "LocalScale",
    "LoessSeasons",
    "Log",
    "Log1p",
    "Logit",
    "MinMax",
    "MovingAverage",
    "OccasionEffects",
    "PeriodMeans",
    "PeriodSpread",
    "PiecewiseTrend",
    "Returns",
    "RobustScale",
    "SeasonalDifference",
    "SmoothTrend",
    "Stage",
    "StageState",
    "WithoutAnomalies",
    "YeoJohnson",
    "ZScore",
    "decompose",
    "find_knots",
    "fit_line",
]  # fmt: skip
