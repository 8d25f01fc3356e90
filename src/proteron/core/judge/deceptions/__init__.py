"""The ways in which a good number deceives, each named where it applies."""

from proteron.core.judge.deceptions.case import Case, Deception, Outcome, gather_outcomes
from proteron.core.judge.deceptions.registry import DECEPTIONS, caution_of, find_deceptions

__all__ = ["DECEPTIONS", "Case", "Deception", "Outcome", "caution_of", "find_deceptions", "gather_outcomes"]
