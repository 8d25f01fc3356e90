"""Windows: supervised tables cut from a panel, row by row traceable to the points they came from."""

from proteron.core.windows.calendar import CalendarCycle
from proteron.core.windows.covariates import CovariateSteps
from proteron.core.windows.feature import Feature, Rows
from proteron.core.windows.lags import Lags
from proteron.core.windows.plan import FEATURES, Table, WindowPlan, default_plan
from proteron.core.windows.rolling import Rolling, rolling_moments

__all__ = [
    "FEATURES", "CalendarCycle", "CovariateSteps", "Feature", "Lags", "Rolling", "Rows", "Table",
    "WindowPlan", "default_plan", "rolling_moments",
]  # fmt: skip
