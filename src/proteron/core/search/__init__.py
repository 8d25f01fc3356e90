"""Search: candidates race over folds within a budget; the best, and a blend of the best, are judged on sealed folds."""

from proteron.core.search.contest import CellOutcome, Contest, Mark
from proteron.core.search.local import Tidings, raced, search
from proteron.core.search.race import Heard, Race, Rung, Step, Trial
from proteron.core.search.report import Finalist, Moved, SearchReport, Story, TrialFacts, importance_of
from proteron.core.search.settings import SearchSettings
from proteron.core.search.space import Family, Range, Space, proposed

__all__ = [
    "CellOutcome", "Contest", "Family", "Finalist", "Heard", "Mark", "Moved", "Race", "Range", "Rung", "SearchReport",
    "SearchSettings", "Space", "Step", "Story", "Tidings", "Trial", "TrialFacts", "importance_of", "proposed",
    "raced", "search",
]  # fmt: skip
