"""Ranges that do not hold what they say."""

from dataclasses import replace

import numpy as np
from scipy import special

from proteron.core.judge.deceptions.case import Case, Deception
from proteron.core.judge.evidence import sample_of

_FEWEST_BLOCKS = 4
_FEWEST = 40
_SURE = 0.002
_FAR = 0.03
_OWN = 4  # points of a block that tell something of their own at most, where all of them agree


def narrow_or_wide(case: Case) -> Deception | None:
    """The share of truths inside a range is farther from its level than chance allows, by blocks of folds or origins.

    The level whose share is farthest from it, in standard errors, is told of.
    """
    found = [each for level in case.levels if (each := _level(case, level)) is not None]
    if not found:
        return None
    _, level, share = max(found)
    narrow = share < level
    return case.says(
        "too_narrow" if narrow else "too_wide", f"ranges too {'narrow' if narrow else 'wide'}",
        f"Its {100 * level:g} % range held {100 * share:.1f} % of what happened.",
    )  # fmt: skip


def _level(case: Case, level: float) -> tuple[float, float, float] | None:
    """Standard errors between level and share, the level, the share; None where they agree."""
    name = f"coverage_{100 * level:g}"
    if name not in case.told:
        return None
    losses = case.told[name]
    inside = sample_of(losses, [case.name], case.folds)
    each_once = replace(losses, values=np.where(np.isfinite(losses.values), 1.0, np.nan))
    counts = sample_of(each_once, [case.name], case.folds).sums[0].sum(axis=1)
    points, blocks = counts.sum(), inside.blocks
    if blocks < _FEWEST_BLOCKS or points < _FEWEST:
        return None
    share = inside.sums.sum() / points
    away = inside.sums[0].sum(axis=1) - share * counts
    error = np.sqrt((away**2).sum() * blocks / (blocks - 1)) / points
    # where all points agree the blocks show no spread, which is no proof that there is none
    error = max(error, np.sqrt(level * (1 - level) / (blocks * min(_OWN, points / blocks))))
    distance = abs(share - level) / error
    sure = distance > special.stdtrit(blocks - 1, 1 - _SURE / 2) and abs(share - level) > min(_FAR, (1 - level) / 1.5)
    return (float(distance), level, float(share)) if sure else None
