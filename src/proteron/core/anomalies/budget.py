"""Thresholds: where scores must lie for a flag, given how many flags one is ready to look at."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from proteron.core.errors import SettingsError

PRICE = 18.0  # evidence against a single point that its price takes away; scores are on the scale of such a point
_PRIOR_EXCESS = 20.0
_LATEST = 8


@dataclass(frozen=True)
class Limits:
    """Where a detector's threshold lies without a budget, and below which it is never, whatever the budget."""

    usual: float
    least: float


JOINT = Limits(math.sqrt(26 + PRICE), math.sqrt(15 + PRICE))


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


def check_budget(per_thousand: float | None, per_week: float | None, threshold: float | None, delay: int) -> None:
    """Raise `SettingsError` for a budget that is not positive, or given twice, or with a threshold; or for a delay."""
    if not 0 <= delay <= _LATEST:
        raise SettingsError(f"The delay is a number of points from 0 to {_LATEST}.", field="delay")
    if threshold is not None and (per_thousand is not None or per_week is not None):
        raise SettingsError("Give a budget or a threshold, not both.", field="threshold")
    if threshold is not None and not threshold > 0:
        raise SettingsError("The threshold is a positive number of spreads.", field="threshold")
    flags_allowed(1, 1.0, per_thousand, per_week)
