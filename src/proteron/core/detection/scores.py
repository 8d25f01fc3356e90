"""The scale of scores: by how many spreads a single point is off that is as unlikely; and where thresholds lie."""

import math
from dataclasses import dataclass

PRICE = 18.0  # evidence against a single point that its price takes away; scores are on the scale of such a point


@dataclass(frozen=True)
class Limits:
    """Where a detector's threshold lies without a budget, and below which it is never, whatever the budget."""

    usual: float
    least: float


JOINT = Limits(math.sqrt(26 + PRICE), math.sqrt(15 + PRICE))


def score_of(net: float) -> float:
    """Net evidence as how many spreads a single point would be off by; never below zero, always finite."""
    return math.sqrt(min(max(net + PRICE, 0.0), 1e12))
