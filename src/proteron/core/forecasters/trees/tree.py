"""One tree, grown from slopes and curves of a loss (Friedman 2001; Chen & Guestrin 2016, eq. 7)."""

from collections.abc import Callable
from concurrent.futures import Executor
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from proteron.core.forecasters.trees import kernels
from proteron.core.forecasters.trees.binning import MISSING, Binned
from proteron.core.panel import Floats
from proteron.core.timeline import Ints

_SHARED_FROM = 2_000_000  # rows × features of a histogram that is worth being shared out over threads
Order = Literal["best", "level"]


@dataclass(frozen=True)
class Shape:
    """How trees grow: at most so many leaves and so deep; each leaf with at least so many rows (by their weight)."""

    leaves: int = 31
    depth: int = 32
    least: float = 20.0
    shrink: float = 1.0
    order: Order = "best"


@dataclass(frozen=True)
class Tree:
    """Nodes (n_nodes,): the feature a node splits (-1: a leaf), its children, which bins go left (n_nodes, 256), what
    it says, how much weight it holds, and what its split gained."""

    features: NDArray[np.int32]
    lefts: NDArray[np.int32]
    rights: NDArray[np.int32]
    left_bins: NDArray[np.bool_]
    values: Floats
    weights: Floats
    gains: Floats

    def shrunk(self, rate: float) -> "Tree":
        """The same, saying only that share of what it says."""
        return replace(self, values=self.values * rate)

    def add_to(self, bins: Binned, out: Floats) -> None:
        """Add what the tree says of rows, by their bins (n_features, n_rows)."""
        kernels.walk(bins, self.features, self.lefts, self.rights, self.left_bins, self.values, out)


@dataclass
class _Node:
    rows: NDArray[np.int32]
    sums: Floats
    depth: int
    low: float
    high: float
    split: tuple[float, int, NDArray[np.bool_]]


@dataclass(frozen=True)
class Ground:
    """What all trees of a boosting grow on: bins (n_features, n_rows), how many each feature has, and its nature."""

    bins: Binned
    counts: Ints
    categorical: NDArray[np.bool_]
    monotone: Ints
    shape: Shape
    pool: Executor | None = None

    def grow(
        self, rows: NDArray[np.int32], slopes: Floats, curves: Floats, allowed: NDArray[np.bool_],
        say: Callable[[NDArray[np.int32]], float] | None = None,
    ) -> tuple[Tree, list[NDArray[np.int32]]]:  # fmt: skip
        """A tree on some rows of slopes and curves (n_rows,), splitting `allowed` features, and the rows of its nodes.

        Leaves say what a Newton step does, or what `say` makes of their rows.
        """
        nodes = [self._node(rows, self._sums(rows, slopes, curves), 0, -np.inf, np.inf, allowed)]
        lefts, rights = [-1], [-1]
        features, bins, gains = [-1], [np.zeros(MISSING + 1, dtype=np.bool_)], [0.0]
        leaves = 1
        while leaves < self.shape.leaves:
            at = self._next(nodes, features, lefts)
            if at is None:
                break
            node = nodes[at]
            gain, feature, left_bins = node.split
            count = kernels.share_out(self.bins[feature], node.rows, left_bins)
            one, other = node.rows[:count], node.rows[count:]
            small = self._sums(min(one, other, key=len), slopes, curves)
            large = node.sums - small
            sums = (small, large) if len(one) <= len(other) else (large, small)
            bounds = self._bounds(node, feature, sums)
            for part, mine, (low, high) in zip((one, other), sums, bounds, strict=True):
                nodes.append(self._node(part, mine, node.depth + 1, low, high, allowed))
                features.append(-1)
                lefts.append(-1)
                rights.append(-1)
                bins.append(np.zeros(MISSING + 1, dtype=np.bool_))
                gains.append(0.0)
            features[at], bins[at], gains[at] = feature, left_bins, gain
            lefts[at], rights[at] = len(nodes) - 2, len(nodes) - 1
            node.sums = np.empty(0)
            leaves += 1
        values = [
            min(max(say(node.rows), node.low), node.high)
            if say is not None and feature < 0
            else 0.0
            if feature >= 0
            else self._says(node)
            for node, feature in zip(nodes, features, strict=True)
        ]
        tree = Tree(
            np.array(features, dtype=np.int32), np.array(lefts, dtype=np.int32), np.array(rights, dtype=np.int32),
            np.array(bins), np.array(values), np.array([float(len(node.rows)) for node in nodes]), np.array(gains),
        )  # fmt: skip
        return tree, [node.rows for node in nodes]

    def _next(self, nodes: list[_Node], features: list[int], lefts: list[int]) -> int | None:
        """The leaf to split next: the one that gains most, or the highest one that gains anything."""
        open_nodes = [
            at for at, node in enumerate(nodes)
            if features[at] < 0 and lefts[at] < 0 and node.split[1] >= 0 and node.depth < self.shape.depth
        ]  # fmt: skip
        if not open_nodes:
            return None
        if self.shape.order == "level":
            return min(open_nodes, key=lambda at: (nodes[at].depth, -nodes[at].split[0]))
        return max(open_nodes, key=lambda at: nodes[at].split[0])

    def _node(
        self, rows: NDArray[np.int32], sums: Floats, depth: int, low: float, high: float, allowed: NDArray[np.bool_]
    ) -> _Node:
        shape = self.shape
        split = kernels.best_split(
            sums, self.counts, self.categorical, self.monotone, allowed, shape.shrink, shape.least, low, high
        )
        return _Node(rows, sums, depth, low, high, split)

    def _sums(self, rows: NDArray[np.int32], slopes: Floats, curves: Floats) -> Floats:
        out = np.empty((len(self.counts), MISSING + 1, 2))
        mine, bent = slopes[rows], curves[rows]
        if self.pool is None or len(rows) * len(self.counts) < _SHARED_FROM:
            kernels.add_up(self.bins, rows, mine, bent, 0, len(self.counts), out)
            return out
        half = len(self.counts) // 2
        other = self.pool.submit(kernels.add_up, self.bins, rows, mine, bent, half, len(self.counts), out)
        kernels.add_up(self.bins, rows, mine, bent, 0, half, out)
        other.result()
        return out

    def _says(self, node: _Node) -> float:
        slope, curve = node.sums[0].sum(axis=0)
        return float(min(max(-slope / (curve + self.shape.shrink), node.low), node.high))

    def _bounds(self, node: _Node, feature: int, sums: tuple[Floats, Floats]) -> list[tuple[float, float]]:
        """What the sides of a split may say: on a monotone feature neither beyond the middle of both."""
        sign = self.monotone[feature]
        if sign == 0:
            return [(node.low, node.high)] * 2
        totals = [each[feature].sum(axis=0) for each in sums]
        said = [min(max(-slope / (curve + self.shape.shrink), node.low), node.high) for slope, curve in totals]
        middle = (said[0] + said[1]) / 2
        below, above = (node.low, middle), (middle, node.high)
        return [below, above] if sign > 0 else [above, below]
