"""Every stage of a chain: one line here, one file each."""

from typing import Annotated, get_args

from pydantic import Field

from proteron.core.flatten.box_cox import BoxCox
from proteron.core.flatten.classical_season import ClassicalSeason
from proteron.core.flatten.curve_trend import CurveTrend
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
from proteron.core.flatten.piecewise_trend import PiecewiseTrend
from proteron.core.flatten.returns import Returns
from proteron.core.flatten.robust_scale import RobustScale
from proteron.core.flatten.seasonal_difference import SeasonalDifference
from proteron.core.flatten.smooth_trend import SmoothTrend
from proteron.core.flatten.stage import Stage
from proteron.core.flatten.without_anomalies import WithoutAnomalies
from proteron.core.flatten.yeo_johnson import YeoJohnson
from proteron.core.flatten.z_score import ZScore

AnyStage = Annotated[
    WithoutAnomalies
    | Log
    | Log1p
    | BoxCox
    | YeoJohnson
    | Logit
    | Level
    | LinearTrend
    | CurveTrend
    | PiecewiseTrend
    | MovingAverage
    | SmoothTrend
    | LoessSeasons
    | PeriodMeans
    | FourierSeason
    | ClassicalSeason
    | OccasionEffects
    | SeasonalDifference
    | FractionalDifference
    | Returns
    | ZScore
    | MinMax
    | RobustScale
    | PeriodSpread
    | LocalScale,
    Field(discriminator="kind"),
]
STAGES: tuple[type[Stage], ...] = get_args(get_args(AnyStage)[0])
