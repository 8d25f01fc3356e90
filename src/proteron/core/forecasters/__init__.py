"""Forecasters: baselines and learners behind one protocol, alone or inside a chain."""

from proteron.core.forecasters.contender import (
    Contender,
    FittedContender,
    blend,
    forecaster,
    forecasters,
)
from proteron.core.forecasters.forecast import Forecast, quantile_rows
from proteron.core.forecasters.forecaster import Forecaster, ForecasterState, Work
from proteron.core.forecasters.registry import FORECASTERS
from proteron.core.forecasters.window_forecaster import WindowForecaster

__all__ = [
    "FORECASTERS", "Contender", "FittedContender", "Forecast", "Forecaster", "ForecasterState", "WindowForecaster",
    "Work", "blend", "forecaster", "forecasters", "quantile_rows",
]  # fmt: skip
