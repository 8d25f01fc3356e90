"""What every feature adds to a forecast: exact Shapley values of trees (Lundberg et al. 2020).

What a tree would say without knowing a feature is the mean over both sides of its splits, by the weight that lies
there. Of one leaf, what it says is then a product over the features on its way, whose Shapley values follow from
those of a polynomial.
"""

import numpy as np
from numpy.typing import NDArray

from proteron.core.compiled import kernel
from proteron.core.forecasters.trees.binning import Binned
from proteron.core.forecasters.trees.boosting import Boosted
from proteron.core.forecasters.trees.tree import Tree
from proteron.core.panel import Floats

_Ways = tuple[NDArray[np.int32], NDArray[np.int32], NDArray[np.int32], Floats, Floats, NDArray[np.bool_]]


def attribute(model: Boosted, binned: Binned) -> tuple[Floats, float]:
    """Shares of the score by feature, (n_rows, n_features), and the average score: together they are the score."""
    out = np.zeros((binned.shape[1], binned.shape[0]))
    average = model.base
    for tree in model.trees:
        starts, nodes, leaves, values, shares, bins = _ways(tree)
        average += float((values * tree.weights[leaves]).sum() / tree.weights[0])
        _add_shapley(binned, starts, nodes, values, shares, bins, tree.features, out)
    return out, average


def _ways(tree: Tree) -> _Ways:
    """Ways from the root to each leaf that says anything: where each starts in what follows, the nodes on it; the
    leaves, what they say; of each node on a way the share of weight that goes on, and which bins go on (…, 256)."""
    starts, nodes, leaves, values, shares, bins = [0], [], [], [], [], []
    open_ways: list[tuple[int, list[tuple[int, bool]]]] = [(0, [])]
    while open_ways:
        at, way = open_ways.pop()
        if tree.features[at] >= 0:
            open_ways += [(int(tree.lefts[at]), [*way, (at, True)]), (int(tree.rights[at]), [*way, (at, False)])]
            continue
        leaves.append(at)
        values.append(tree.values[at])
        for node, left in way:
            child = tree.lefts[node] if left else tree.rights[node]
            nodes.append(node)
            shares.append(tree.weights[child] / tree.weights[node])
            bins.append(tree.left_bins[node] if left else ~tree.left_bins[node])
        starts.append(len(nodes))
    going_on = np.array(bins) if bins else np.zeros((0, 256), dtype=np.bool_)
    return (
        np.array(starts, dtype=np.int32), np.array(nodes, dtype=np.int32), np.array(leaves, dtype=np.int32),
        np.array(values), np.array(shares), going_on,
    )  # fmt: skip


@kernel
def _polynomial(known: Floats, unknown: Floats, count: int, without: int, out: Floats) -> None:
    """Coefficients of Π (unknown_j + known_j x) over all but one of `count` features, into out (count,)."""
    out[:] = 0.0
    out[0] = 1.0
    degree = 0
    for j in range(count):
        if j == without:
            continue
        degree += 1
        for power in range(degree, 0, -1):
            out[power] = out[power] * unknown[j] + out[power - 1] * known[j]
        out[0] *= unknown[j]


@kernel
def _add_shapley(
    binned: Binned,
    starts: NDArray[np.int32],
    nodes: NDArray[np.int32],
    values: Floats,
    shares: Floats,
    bins: NDArray[np.bool_],
    features: NDArray[np.int32],
    out: Floats,
) -> None:
    """Add the Shapley values of one tree's features for every row, (n_rows, n_features)."""
    longest = 1
    for leaf in range(len(values)):
        longest = max(longest, starts[leaf + 1] - starts[leaf])
    met = np.empty(longest, dtype=np.int64)
    known, unknown, coefficients = np.empty(longest), np.empty(longest), np.empty(longest)
    for row in range(binned.shape[1]):
        for leaf in range(len(values)):
            count = 0
            for at in range(starts[leaf], starts[leaf + 1]):
                feature = features[nodes[at]]
                goes_on = 1.0 if bins[at, binned[feature, row]] else 0.0
                place = 0
                while place < count and met[place] != feature:
                    place += 1
                if place == count:
                    met[count], known[count], unknown[count] = feature, 1.0, 1.0
                    count += 1
                known[place] *= goes_on
                unknown[place] *= shares[at]
            for place in range(count):
                _polynomial(known, unknown, count, place, coefficients)
                weight, total = 1.0 / count, 0.0
                for size in range(count):
                    total += weight * coefficients[size]
                    weight *= (size + 1.0) / (count - size - 1.0) if size + 1 < count else 0.0
                out[row, met[place]] += values[leaf] * (known[place] - unknown[place]) * total
