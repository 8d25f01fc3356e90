"""Every window feature: one line here, one file each."""

from typing import Annotated

from pydantic import Field

from proteron.core.windows.calendar import CalendarCycle
from proteron.core.windows.changes import Change
from proteron.core.windows.covariates import CovariateSteps
from proteron.core.windows.feature import Feature
from proteron.core.windows.flagged import Flagged
from proteron.core.windows.fourier import Fourier
from proteron.core.windows.lags import Lags
from proteron.core.windows.occasions import OccasionNear
from proteron.core.windows.rolling import Rolling
from proteron.core.windows.static import Static
from proteron.core.windows.whole_past import Expanding, Since, Weighted

FEATURES: tuple[type[Feature], ...] = (
    Lags, Rolling, CalendarCycle, CovariateSteps, Change, Weighted, Expanding, Since, Fourier, OccasionNear, Flagged,
    Static,
)  # fmt: skip
AnyFeature = Annotated[
    Change | Weighted | Expanding | Since | Fourier | OccasionNear | Flagged | Static | CalendarCycle,
    Field(discriminator="kind"),
]  # what a plan lists under `more`; lags, rolling and covariates have lists of their own
