"""What the best of many worthless candidates would have shown by luck."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from proteron.core.panel import Floats

_DRAWS = 2000
_FEWEST = 3  # blocks that can be resampled


@dataclass(frozen=True)
class Luck:
    """Skill of the best of `tries` candidates that are no better than the baseline: what is to be expected, and what
    one of twenty such searches exceeds; how probable a best as good as the one found is there, by White's reality check
    and by Hansen's test. Both figures and Hansen's test set aside candidates that are clearly worse."""

    tries: int
    expected: float
    high: float
    p_white: float
    p_hansen: float


def reality_check(losses: Sequence[Floats], baseline: Floats, seed: int) -> Luck | None:
    """White 2000 (test of the best of many) and Hansen 2005 (studentised, with his consistent centring).

    Losses of every candidate (n_blocks, n_points), NaN where it was not tried, and of the baseline. Blocks are
    resampled whole, the same for all. Candidates that were dropped before all blocks count as tries whose skill would
    have varied like that of the others, independently of it.
    """
    there = [np.isfinite(each) & np.isfinite(baseline) for each in losses]
    blocks, everywhere = len(baseline), np.isfinite(baseline).any(axis=1)
    kept = [place for place, each in enumerate(there) if (each.any(axis=1) == everywhere).all()]
    if not kept or blocks < _FEWEST:
        return None
    own = np.array([np.where(there[place], losses[place], 0.0).sum(axis=1) for place in kept])  # candidates, blocks
    base = np.array([np.where(there[place], baseline, 0.0).sum(axis=1) for place in kept])
    gains = base - own
    total = base.sum(axis=1)
    if not (total > 0).all():
        return None
    skills = gains.sum(axis=1) / total
    rng = np.random.default_rng(seed)
    counts = rng.multinomial(blocks, np.full(blocks, 1 / blocks), size=_DRAWS)  # how often a block is drawn
    stretch = np.sqrt(blocks / (blocks - 1))  # blocks are few: a sample's spread is too small
    drawn = counts @ ((gains - gains.mean(axis=1, keepdims=True)) * stretch).T
    spread = drawn.std(axis=0)
    dropped = rng.normal(size=(_DRAWS, len(losses) - len(kept))) * float(np.median(spread / total))
    best, sure = skills.max(), spread > 0
    p_white = float((np.concatenate([drawn / total, dropped], axis=1).max(axis=1) >= best).mean())
    t = np.where(sure, gains.sum(axis=1) / np.where(sure, spread, 1.0), 0.0)
    clearly_worse = t < -np.sqrt(2 * np.log(np.log(max(blocks, 3))))
    centred = drawn + np.where(clearly_worse, gains.sum(axis=1), 0.0)
    usual = float(np.median(spread[sure])) if sure.any() else 1.0
    unseen = dropped / float(np.median(spread / total)) if sure.any() else dropped
    largest = np.concatenate([centred / np.where(sure, spread, usual), unseen], axis=1).max(axis=1)
    p_hansen = float((np.maximum(largest, 0.0) >= max(t.max(), 0.0)).mean())
    by_luck = np.concatenate([centred / total, dropped], axis=1).max(axis=1)
    return Luck(len(losses), float(by_luck.mean()), float(np.quantile(by_luck, 0.95)), p_white, p_hansen)
