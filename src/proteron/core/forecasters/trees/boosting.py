"""Gradient boosting (Friedman 2001, 2002): trees, each grown on what those before left over."""

from collections.abc import Callable, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from proteron.core.forecasters.trees.binning import Binned, Bins
from proteron.core.forecasters.trees.losses import Loss
from proteron.core.forecasters.trees.tree import Ground, Shape, Tree
from proteron.core.panel import Floats


@dataclass(frozen=True)
class Rows:
    """What is learned from or held out: bins (n_features, n_rows), targets and weights (n_rows,)."""

    bins: Binned
    targets: Floats
    weights: Floats


@dataclass(frozen=True)
class Boosting:
    """How trees add up: at most `trees`, each shrunk by `rate` and grown on drawn shares of rows and features.

    Growing stops once `patience` trees have not made the held-out loss smaller, and those up to the best stay.
    """

    shape: Shape
    loss: Loss
    trees: int = 200
    rate: float = 0.1
    rows: float = 1.0
    columns: float = 1.0
    patience: int = 20

    def fit(
        self, bins: Bins, learned: Rows, held_out: Rows | None, rng: np.random.Generator,
        monotone: Sequence[int] = (), tell: Callable[[Sequence[float], Sequence[float]], None] | None = None,
        pool: Executor | None = None,
    ) -> "Boosted":  # fmt: skip
        """Grow on rows; before every tree `tell` hears the losses so far, learned and held out, and may
        raise to stop."""
        count, width = len(learned.targets), len(bins.edges)
        signs = np.array(monotone or [0] * width, dtype=np.int64)
        ground = Ground(learned.bins, bins.counts, np.array(bins.categorical), signs, self.shape, pool)
        base = self.loss.begin(learned.targets, learned.weights)
        scores = np.full(count, base)
        later = None if held_out is None else np.full(len(held_out.targets), base)
        grown: list[Tree] = []
        losses: list[float] = []
        later_losses: list[float] = []
        best, kept = np.inf, 0
        for number in range(self.trees):
            if tell is not None:
                tell(losses, later_losses)
            tree = self._grow(ground, learned, scores, rng)
            grown.append(tree)
            losses.append(_mean(self.loss.of(scores, learned.targets), learned.weights))
            if later is None or held_out is None:
                kept = number + 1
                continue
            tree.add_to(held_out.bins, later)
            later_losses.append(_mean(self.loss.of(later, held_out.targets), held_out.weights))
            if later_losses[-1] < best:
                best, kept = later_losses[-1], number + 1
            elif number + 1 - kept >= self.patience:
                break
        return Boosted(bins, base, tuple(grown[:kept]), tuple(losses), tuple(later_losses))

    def _grow(self, ground: Ground, learned: Rows, scores: Floats, rng: np.random.Generator) -> Tree:
        """The next tree, already added to the scores of what is learned."""
        count, width = len(scores), len(ground.counts)
        slopes, curves = self.loss.bent(scores, learned.targets)
        slopes, curves = slopes * learned.weights, curves * learned.weights
        drawn = np.arange(count, dtype=np.int32)
        if self.rows < 1:
            drawn = np.sort(rng.choice(count, max(1, int(count * self.rows)), replace=False)).astype(np.int32)
        allowed = np.ones(width, dtype=np.bool_)
        if self.columns < 1:
            allowed[:] = False
            allowed[rng.choice(width, max(1, round(width * self.columns)), replace=False)] = True

        def says(rows: NDArray[np.int32]) -> float:
            return self.loss.says(learned.targets[rows] - scores[rows], learned.weights[rows])

        tree, rows_of = ground.grow(drawn, slopes, curves, allowed, says if self.loss.renewed else None)
        tree = tree.shrunk(self.rate)
        if len(drawn) < count:
            tree.add_to(learned.bins, scores)
        else:  # where every row lies is known
            for node in np.flatnonzero(tree.features < 0):
                scores[rows_of[node]] += tree.values[node]
        return tree


@dataclass(frozen=True)
class Boosted:
    """What was learned: where scores begin, the trees, and losses after each, of learned and held-out rows."""

    bins: Bins
    base: float
    trees: tuple[Tree, ...]
    losses: tuple[float, ...]
    later_losses: tuple[float, ...]

    def score(self, binned: Binned) -> Floats:
        """Scores of rows by their bins (n_features, n_rows)."""
        out = np.full(binned.shape[1], self.base)
        for tree in self.trees:
            tree.add_to(binned, out)
        return out

    def gains(self) -> Floats:
        """How much splits of every feature gained together, (n_features,)."""
        out = np.zeros(len(self.bins.edges))
        for tree in self.trees:
            inner = tree.features >= 0
            np.add.at(out, tree.features[inner], tree.gains[inner])
        return out

    def arrays(self) -> dict[str, NDArray[Any]]:
        """The trees, one after the other, for storing."""
        sizes = np.array([len(tree.values) for tree in self.trees], dtype=np.int64)
        if not self.trees:
            return {"sizes": sizes}
        joined = {name: np.concatenate([getattr(tree, name) for tree in self.trees]) for name in _FIELDS}
        joined["left_bins"] = np.packbits(joined["left_bins"], axis=1)
        return {"sizes": sizes, **joined}

    @classmethod
    def from_arrays(cls, bins: Bins, base: float, arrays: dict[str, NDArray[Any]]) -> "Boosted":
        """As `arrays` stored it; losses are not among them."""
        trees, stop = [], np.cumsum(arrays["sizes"])
        for first, last in zip(stop - arrays["sizes"], stop, strict=True):
            parts = {name: arrays[name][first:last] for name in _FIELDS}
            parts["left_bins"] = np.unpackbits(parts["left_bins"], axis=1).astype(np.bool_)
            trees.append(Tree(**parts))
        return cls(bins, base, tuple(trees), (), ())


_FIELDS = ("features", "lefts", "rights", "left_bins", "values", "weights", "gains")


def _mean(losses: Floats, weights: Floats) -> float:
    return float(np.average(losses, weights=weights))
