"""An entrant beside the baseline, over the points that both have."""

from dataclasses import dataclass

import numpy as np

from proteron.core.judge.losses import Losses, mean_over, reported_of
from proteron.core.panel import Floats


@dataclass(frozen=True)
class Pair:
    """Losses of two entrants over the points both have, each (n_folds, n_series, n_steps), as sums over origins, how
    many points these are, the metric's yardstick of them, and how series weigh, where either is."""

    metric: str
    mine: Floats
    theirs: Floats
    counts: Floats
    beside: Floats | None
    weights: Floats | None

    @classmethod
    def of(cls, losses: Losses, name: str, baseline: str) -> "Pair":
        own, base = losses.of(name), losses.of(baseline)
        both = np.isfinite(own) & np.isfinite(base)
        mine, theirs = (np.where(both, each, 0.0).sum(axis=2) for each in (own, base))
        beside = None if losses.beside is None else np.where(both, losses.beside, 0.0).sum(axis=2)
        return cls(losses.metric, mine, theirs, both.sum(axis=2), beside, losses.weights)

    def skill(self, *axes: int) -> Floats:
        """1 - error / the other's error over all of some axes (0 folds, 1 series, 2 steps); NaN where it has none."""
        sums = [self.mine, self.theirs, *([] if self.beside is None else [self.beside])]
        mine, theirs, *beside = (mean_over(each, self.counts, axes, 1, self.weights) for each in sums)
        own, base = (reported_of(self.metric, each, *beside) for each in (mine, theirs))
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.asarray(np.where(base > 0, 1 - own / base, np.nan))
