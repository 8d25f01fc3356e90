"""Ranks of entrants over series (or folds), and how far apart they must be to mean anything."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from scipy import stats

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
    means = stats.rankdata(known, axis=0).mean(axis=1)
    statistic = 12 * cases / (entrants * (entrants + 1)) * ((means - (entrants + 1) / 2) ** 2).sum()
    return Ranks(
        dict(zip(names, map(float, means), strict=True)), cases,
        _studentized_range(entrants) * float(np.sqrt(entrants * (entrants + 1) / (6 * cases))), float(statistic),
        float(stats.chi2.sf(statistic, entrants - 1)),
    )  # fmt: skip


@lru_cache(maxsize=256)
def _studentized_range(entrants: int) -> float:
    """The quantile of the range of `entrants` normal numbers, over √2."""
    return float(stats.studentized_range.ppf(1 - _ALPHA, entrants, np.inf) / np.sqrt(2))
