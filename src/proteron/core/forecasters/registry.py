"""All forecasters: one line each."""

from typing import Annotated, get_args

from pydantic import Field

from proteron.core.forecasters.additive import Additive
from proteron.core.forecasters.arima.forecaster import Arima
from proteron.core.forecasters.automatic.forecaster import Automatic
from proteron.core.forecasters.baselines import (
    Drift,
    LastValue,
    Mean,
    MovingAverage,
    SeasonalLastValue,
    SeasonalMean,
    Zero,
)  # fmt: skip
from proteron.core.forecasters.blend.forecaster import Blend
from proteron.core.forecasters.boosted_trees import BoostedTrees
from proteron.core.forecasters.forecaster import Forecaster
from proteron.core.forecasters.intermittent import Intermittent
from proteron.core.forecasters.made_elsewhere import MadeElsewhere
from proteron.core.forecasters.networks.architectures import (
    AttentionNetwork,
    AutoregressiveNetwork,
    BasisNetwork,
    ConvolutionalNetwork,
    DecompositionNetwork,
    DenseNetwork,
    DilatedNetwork,
    RecurrentNetwork,
)
from proteron.core.forecasters.processes import RandomWalkProcess
from proteron.core.forecasters.regimes import SwitchingRegimes
from proteron.core.forecasters.regression.forecaster import Regression
from proteron.core.forecasters.ridge import ElasticNet, Ridge
from proteron.core.forecasters.season_aligned import SeasonAlignedRidge
from proteron.core.forecasters.smoothing.average import SmoothingAverage
from proteron.core.forecasters.smoothing.forecaster import Smoothing
from proteron.core.forecasters.smoothing.several_seasons import SeveralSeasons
from proteron.core.forecasters.structural import LocalLevel, LocalTrend, Structural
from proteron.core.forecasters.theta import Theta
from proteron.core.forecasters.trend_curves import TrendCurve
from proteron.core.forecasters.vector import VectorAutoregression
from proteron.core.forecasters.volatility import Garch
from proteron.core.panel import Panel
from proteron.core.timeline import Moment

AnyForecaster = Annotated[
    LastValue
    | SeasonalLastValue
    | Drift
    | Mean
    | SeasonalMean
    | MovingAverage
    | Zero
    | TrendCurve
    | Smoothing
    | SmoothingAverage
    | Theta
    | SeveralSeasons
    | Intermittent
    | Arima
    | LocalLevel
    | LocalTrend
    | Structural
    | Additive
    | Regression
    | Garch
    | SwitchingRegimes
    | RandomWalkProcess
    | VectorAutoregression
    | Ridge
    | ElasticNet
    | SeasonAlignedRidge
    | Automatic
    | BoostedTrees
    | DenseNetwork
    | AutoregressiveNetwork
    | ConvolutionalNetwork
    | DilatedNetwork
    | RecurrentNetwork
    | AttentionNetwork
    | BasisNetwork
    | DecompositionNetwork
    | Blend
    | MadeElsewhere,
    Field(discriminator="kind"),
]
FORECASTERS: tuple[type[Forecaster], ...] = tuple(each for each in get_args(get_args(AnyForecaster)[0]) if each.listed)


def reasons_against(panel: Panel, index: int, until: Moment | None = None) -> dict[str, str]:
    """Why kinds of forecaster, with the settings they begin with, do not suit a series as it is known at `until`.

    A kind that is not among the keys may be tried.
    """
    known, reasons = panel.select([index]).cut_at(until), {}
    for each in FORECASTERS:
        alone = "It needs at least two series; there is one." if each.joint and len(panel) < 2 else None
        reason = each().unsuited(known) or alone
        if reason is not None:
            reasons[each.model_fields["kind"].default] = reason
    return reasons
