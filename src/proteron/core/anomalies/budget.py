"""Thresholds: where scores must lie for a flag, given how many flags one is ready to look at."""

import math
from collections.abc import Sequence

import numpy as np

from proteron.core.errors import SettingsError

PRICE = 18.0  # evidence against a single point that its price takes away; scores are on the scale of such a point
USUAL = math.sqrt(26 + PRICE)  # without a budget
LEAST = math.sqrt(15 + PRICE)  # whatever the budget
_PRIOR_EXCESS = 20.0


def score_of(net: float) -> float:
    """Net evidence as how many spreads a single point would be off by; never below zero, always finite."""
    return math.sqrt(min(max(net + PRICE, 0.0), 1e12))


def flags_allowed(points: int, seconds: float, per_thousand: float | None, per_week: float | None) -> float | None:
    """How many flags a budget allows in so many points, `seconds` apart; None without a budget.

    Raises `SettingsError` for two budgets, or one that is not positive."""
    if per_thousand is not None and per_week is not None:
        raise SettingsError("Give flags per week or per 1,000 points, not both.", field="per_week")
    if per_week is not None:
        if not per_week > 0:
            raise SettingsError("The alert budget is a positive number of flags per week.", field="per_week")
        return per_week * points * seconds / 604800
    if per_thousand is not None:
        if not per_thousand > 0:
            raise SettingsError("The budget is a positive number of flags per 1,000 points.", field="per_thousand")
        return per_thousand * points / 1000
    return None


def threshold_by_rank(scores: Sequence[float], allowed: float | None) -> float:
    """The threshold above which as many scores lie as a budget allows, and never below the least."""
    if allowed is None:
        return USUAL
    ranked = sorted((each for each in scores if each > LEAST), reverse=True)
    return LEAST if len(ranked) <= allowed else ranked[int(allowed)]


def threshold_by_tail(scores: Sequence[float], allowed: float | None) -> float:
    """The threshold that a budget means for what is still to come: an exponential tail fitted to past evidence."""
    if allowed is None:
        return USUAL
    excess = [each**2 - LEAST**2 for each in scores if each > LEAST]
    mean = (float(np.median(excess)) / math.log(2) * len(excess) + _PRIOR_EXCESS) / (len(excess) + 1) if excess else 0.0
    return math.sqrt(LEAST**2 + max(mean * math.log((len(excess) + 1) / (allowed + 1)), 0.0))
