"""Thresholds: where scores must lie for a flag, given how many flags one is ready to look at."""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal, get_args

import numpy as np

from proteron.core.detection.scores import JOINT, Limits
from proteron.core.errors import SettingsError

_PRIOR_EXCESS = 20.0
_LATEST = 8


Over = Literal["panel", "series"]


@dataclass(frozen=True)
class Budget:
    """How much one is ready to look at: flags per week or per 1,000 points, `over` the whole panel or every series; or
    a fixed threshold, spreads. With none of them a detector's usual threshold holds."""

    per_thousand: float | None = None
    per_week: float | None = None
    threshold: float | None = None
    over: Over = "panel"

    def check(self) -> None:
        """Raise `SettingsError` for a budget that is not positive, or given twice, or with a threshold."""
        if self.over not in get_args(Over):
            raise SettingsError(f"A budget is over the panel or every series, not “{self.over}”.", field="over")
        if self.per_thousand is not None and self.per_week is not None:
            raise SettingsError("Give flags per week or per 1,000 points, not both.", field="per_week")
        if self.threshold is not None and (self.per_thousand is not None or self.per_week is not None):
            raise SettingsError("Give a budget or a threshold, not both.", field="threshold")
        for field, said in _POSITIVE.items():
            value = getattr(self, field)
            if value is not None and not 0 < value < math.inf:
                raise SettingsError(said, field=field)

    def allowed(self, points: int, series: int, seconds: float) -> float | None:
        """How many flags are allowed in so many points of some series together, `seconds` apart; None: no budget."""
        if self.per_week is not None:
            weeks = points / max(series, 1) * seconds / 604800
            return self.per_week * weeks
        return None if self.per_thousand is None else self.per_thousand * points / 1000


_POSITIVE = {
    "per_week": "The alert budget is a positive number of flags per week.",
    "per_thousand": "The budget is a positive number of flags per 1,000 points.",
    "threshold": "The threshold is a positive number of spreads.",
}


def threshold_by_rank(scores: Sequence[float], allowed: float | None, limits: Limits = JOINT) -> float:
    """The threshold above which as many scores lie as a budget allows, and never below the least."""
    if allowed is None:
        return limits.usual
    ranked = sorted((each for each in scores if each > limits.least), reverse=True)
    return limits.least if len(ranked) <= allowed else ranked[int(allowed)]


def threshold_by_tail(scores: Sequence[float], allowed: float | None, limits: Limits = JOINT) -> float:
    """The threshold that a budget means for what is still to come: an exponential tail fitted to past evidence."""
    if allowed is None:
        return limits.usual
    excess = [each**2 - limits.least**2 for each in scores if each > limits.least]
    if not excess:
        return limits.least
    mean = (float(np.median(excess)) / math.log(2) * len(excess) + _PRIOR_EXCESS) / (len(excess) + 1)
    return math.sqrt(limits.least**2 + max(mean * math.log((len(excess) + 1) / (allowed + 1)), 0.0))


def check_delay(delay: int) -> None:
    """Raise `SettingsError` for a delay that is no number of points, or too long."""
    if not 0 <= delay <= _LATEST:
        raise SettingsError(f"The delay is a number of points from 0 to {_LATEST}.", field="delay")
