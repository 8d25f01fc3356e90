"""Ranks of entrants over series (or folds), and how far apart they must be to mean anything."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from scipy import optimize, special

from proteron.core.panel import Floats

_ALPHA = 0.05


@dataclass(frozen=True)
class Ranks:
    """Mean rank of every entrant (1 is best) over `cases`; means at least `critical_difference` apart differ at 95 %.

    `statistic` and `p_value` are Friedman's: whether the entrants differ at all.
    """

    mean_ranks: dict[str, float]
    cases: int
    critical_difference: float
    statistic: float
    p_value: float


def rank_entrants(names: Sequence[str], errors: Floats) -> Ranks | None:
    """Friedman 1937 and Nemenyi 1963, as in Demšar 2006 (section 3.2.2), from errors (n_entrants, n_cases).

    Cases where any error is missing are left out; equal errors share their rank. None with fewer than two entrants or
    two cases.
    """
    known = errors[:, np.isfinite(errors).all(axis=0)]
    entrants, cases = known.shape
    if entrants < 2 or cases < 2:
        return None
    means = np.array([_rank_within(known, at).mean() for at in range(entrants)])
    statistic = 12 * cases / (entrants * (entrants + 1)) * ((means - (entrants + 1) / 2) ** 2).sum()
    return Ranks(
        dict(zip(names, map(float, means), strict=True)), cases,
        _studentized_range(entrants) * float(np.sqrt(entrants * (entrants + 1) / (6 * cases))), float(statistic),
        float(special.chdtrc(entrants - 1, statistic)),
    )  # fmt: skip


def _rank_within(errors: Floats, at: int) -> Floats:
    """The rank of one entrant in every case; those that tie share the mean of their places."""
    return (errors < errors[at]).sum(axis=0) + ((errors == errors[at]).sum(axis=0) + 1) / 2


@lru_cache(maxsize=256)
def _studentized_range(entrants: int) -> float:
    """The quantile of the range of `entrants` normal numbers, over √2."""
    lowest = np.linspace(-9.0, 9.0, 4001)
    density = np.exp(-(lowest**2) / 2) / np.sqrt(2 * np.pi)

    def beyond(width: float) -> float:
        within = (special.ndtr(lowest + width) - special.ndtr(lowest)) ** (entrants - 1)
        return float(entrants * np.trapezoid(density * within, lowest)) - (1 - _ALPHA)

    return float(optimize.brentq(beyond, 0.1, 20.0) / np.sqrt(2))
