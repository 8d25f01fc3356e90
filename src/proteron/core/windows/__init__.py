"""Windows: supervised tables cut from a panel, row by row traceable to the points they came from."""

from proteron.core.windows.calendar import CalendarCycle
from proteron.core.windows.changes import Change
from proteron.core.windows.covariates import CovariateSteps
from proteron.core.windows.feature import Feature, Rows, Unit
from proteron.core.windows.flagged import Flagged
from proteron.core.windows.fourier import Fourier
from proteron.core.windows.lags import Lags
from proteron.core.windows.occasions import OccasionNear
from proteron.core.windows.plan import WindowPlan, default_plan, usual_length
from proteron.core.windows.plan_text import WORDS, read_plan, write_plan
from proteron.core.windows.registry import FEATURES, AnyFeature
from proteron.core.windows.rolling import Rolling, rolling
from proteron.core.windows.rolling_kernels import rolling_moments
from proteron.core.windows.static import Static
from proteron.core.windows.table import REASONS, LeftOut, Table
from proteron.core.windows.whole_past import Expanding, Since, Weighted

__all__ = [
    "FEATURES", "REASONS", "WORDS", "AnyFeature", "CalendarCycle", "Change", "CovariateSteps", "Expanding", "Feature",
    "Flagged", "Fourier", "Lags", "LeftOut", "OccasionNear", "Rolling", "Rows", "Since", "Static", "Table", "Unit",
    "Weighted", "WindowPlan", "default_plan", "read_plan", "rolling", "rolling_moments", "usual_length",
    "write_plan",
]  # fmt: skip
