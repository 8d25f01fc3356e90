"""The entrants of which one may well be the best."""

from dataclasses import dataclass

import numpy as np
from scipy.special import ndtri, stdtrit

from proteron.core.judge.evidence.blocks import Sample
from proteron.core.judge.evidence.intervals import FEWEST_BLOCKS, drawn, standard_error
from proteron.core.panel import Floats

_ALPHA = 0.05


@dataclass(frozen=True)
class BestSet:
    """Of every entrant compared, how well “it is among the best” goes with what was seen, from 0 to 1."""

    p_values: dict[str, float]
    alpha: float = _ALPHA

    @property
    def members(self) -> tuple[str, ...]:
        """Those that cannot be told apart from the best."""
        return tuple(name for name, value in self.p_values.items() if value >= self.alpha)


def best_set(sample: Sample) -> BestSet | None:
    """The model confidence set of Hansen, Lunde & Nason 2011 at 95 %: it holds the truly best in 95 of 100 samples.

    While the largest standardised distance from the mean of those left (T_max there) is more than chance, by a
    bootstrap over blocks, the farthest is left out. The bootstrap's distances are stretched from a normal's to those of
    Student's distribution, for blocks may be few. None with fewer than two entrants or three blocks.
    """
    if len(sample.names) < 2 or sample.blocks < FEWEST_BLOCKS:
        return None
    left, found, reached = list(sample.names), dict.fromkeys(sample.names, 1.0), 0.0
    while len(left) > 1:
        farthest, p_value = _farthest(np.array([sample.of(name) for name in left]))
        reached = max(reached, p_value)
        found[left.pop(farthest)] = reached
    return BestSet(found)


def _farthest(losses: Floats) -> tuple[int, float]:
    """Which of (n_entrants, n_blocks, n_series) is the worst, and the chance of one as bad where all are alike."""
    entrants, blocks, _ = losses.shape
    away = losses - losses.mean(axis=0)
    errors, degrees = standard_error(away)
    scale = np.where(errors > 0, errors, np.finfo(float).tiny)
    level = 1 - _ALPHA / entrants
    stretch = stdtrit(degrees, level) / ndtri(level)
    by_block = away.mean(axis=2)
    centre = by_block.mean(axis=1)
    alone = by_block.std(axis=1, ddof=1) * np.sqrt((blocks - 1) / blocks / blocks)  # as far as resampled means go
    resampled = (drawn(by_block.T) - centre) / np.where(alone > 0, alone, np.inf)
    statistic = centre / scale
    largest = (resampled * stretch).max(axis=1)
    return int(statistic.argmax()), float((largest >= statistic.max()).mean())
