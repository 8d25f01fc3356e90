"""Outlook: the final forecast with ranges that were earned out of sample."""

from proteron.core.outlook.ahead import Ahead, continued, with_future
from proteron.core.outlook.errors import PastErrors, walk_forward_errors
from proteron.core.outlook.keeping import arrays_of
from proteron.core.outlook.learned import Learned, load_learned, save_learned
from proteron.core.outlook.outlook import MOST_PATHS, MOST_STEPS, Outlook, RangesBy, outlook, steps_to
from proteron.core.outlook.recent import Recent
from proteron.core.outlook.scenarios import Scenario

__all__ = [
    "MOST_PATHS", "MOST_STEPS", "Ahead", "Learned", "Outlook", "PastErrors", "RangesBy", "Recent", "Scenario",
    "arrays_of", "continued", "load_learned", "outlook", "save_learned", "steps_to", "walk_forward_errors",
    "with_future",
]  # fmt: skip
