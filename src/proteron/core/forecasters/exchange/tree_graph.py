"""Boosted trees as one operator of standard trees, in double precision but for its sums."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from proteron.core.forecasters.exchange.graph import TREES, Graph
from proteron.core.forecasters.trees.binning import MISSING, Bins
from proteron.core.forecasters.trees.boosting import Boosted
from proteron.core.forecasters.trees.tree import Tree
from proteron.core.panel import Floats


@dataclass
class _Nodes:
    """Nodes of all trees, field by field as the operator names them."""

    trees: list[int] = field(default_factory=list)
    places: list[int] = field(default_factory=list)
    modes: list[str] = field(default_factory=list)
    features: list[int] = field(default_factory=list)
    values: list[float] = field(default_factory=list)
    lefts: list[int] = field(default_factory=list)
    rights: list[int] = field(default_factory=list)
    missing_left: list[int] = field(default_factory=list)
    leaves: list[tuple[int, int, int, float]] = field(default_factory=list)
    sides: list[tuple[int, Floats, Floats]] = field(default_factory=list)
    width: int = 0

    def add(self, tree: Tree, bins: Bins, number: int, target: int, columns: Sequence[int]) -> None:
        """A tree's nodes; its features are `columns` of what the operator reads.

        A split of categories reads a column of its own behind all others: 0 of those that go left, 1 of the rest.
        """
        for place, feature in enumerate(tree.features.tolist()):
            inner = feature >= 0
            read, border = (columns[feature], _border(tree, bins, place)) if inner else (0, 0.0)
            if inner and bins.categorical[feature]:
                edges = bins.edges[feature]
                goes = 1.0 - tree.left_bins[place, [*range(len(edges)), MISSING]].astype(np.float64)
                self.sides.append((read, edges, goes))
                read, border = self.width + len(self.sides) - 1, 0.5
            self.trees.append(number)
            self.places.append(place)
            self.modes.append("BRANCH_LEQ" if inner else "LEAF")
            self.features.append(read)
            self.lefts.append(int(tree.lefts[place]) if inner else 0)
            self.rights.append(int(tree.rights[place]) if inner else 0)
            self.missing_left.append(int(inner and tree.left_bins[place, MISSING]))
            self.values.append(border)
            if not inner:
                self.leaves.append((number, place, target, float(tree.values[place])))


def _border(tree: Tree, bins: Bins, node: int) -> float:
    """The largest value that goes left; those in bins 0 … k do."""
    edges = bins.edges[tree.features[node]]
    left = int(tree.left_bins[node, : len(edges) + 1].sum())
    if left == 0:
        return -np.inf
    return float(edges[left - 1]) if left <= len(edges) else np.inf


def _write_sides(graph: Graph, inputs: str, column: int, nodes: _Nodes) -> str:
    """Where a column's category goes at each split of it, (n_rows, n_splits)."""
    mine = [(edges, goes) for read, edges, goes in nodes.sides if read == column]
    edges = mine[0][0]
    if not len(edges):
        return graph.node("Mul", graph.cast(graph.node("IsNaN", graph.gathered(inputs, [column], 1)), np.float64),
                          graph.constant([[goes[-1] for _, goes in mine]], np.float64))  # fmt: skip
    same = graph.cast(graph.node("Equal", graph.gathered(inputs, [column], 1), graph.constant(edges[None])), np.float64)
    none = graph.node("Sub", graph.constant(1.0, np.float64), graph.over("ReduceMax", same, 1, keep=True))
    which = graph.node("Concat", same, none, axis=1)
    return graph.node("MatMul", which, graph.constant(np.array([goes for _, goes in mine]).T, np.float64))


def write_trees(graph: Graph, models: Sequence[tuple[Boosted, Sequence[int]]], inputs: str, width: int) -> str:
    """Scores (n_rows, n_models) of `inputs` (n_rows, width) in double precision, NaN where missing.

    A model comes with the columns that are its features.
    """
    nodes, number = _Nodes(width=width), 0
    for target, (model, columns) in enumerate(models):
        for tree in model.trees:
            nodes.add(tree, model.bins, number, target, columns)
            number += 1
    base = graph.constant([[model.base for model, _ in models]], np.float64)
    if not number:
        zero = graph.over("ReduceSum", graph.node("Mul", inputs, graph.constant(0.0, np.float64)), 1, keep=True)
        none = graph.node("Where", graph.node("IsNaN", zero), graph.constant(0.0, np.float64), zero)
        return graph.node("Add", none, base)
    from onnx import numpy_helper

    if nodes.sides:
        read = np.array([column for column, _, _ in nodes.sides])
        each = np.unique(read)
        parts = [_write_sides(graph, inputs, int(column), nodes) for column in each]
        order = np.argsort(np.concatenate([np.flatnonzero(read == column) for column in each]), kind="stable")
        behind = graph.gathered(graph.node("Concat", *parts, axis=1), order, 1)
        inputs = graph.node("Concat", inputs, behind, axis=1)

    def doubles(values: Sequence[float]) -> Any:
        return numpy_helper.from_array(np.array(values, dtype=np.float64), "values")

    trees, places, targets, values = zip(*nodes.leaves, strict=True)
    said = graph.node(
        "TreeEnsembleRegressor", inputs, domain=TREES, n_targets=len(models), aggregate_function="SUM",
        post_transform="NONE", nodes_treeids=nodes.trees, nodes_nodeids=nodes.places, nodes_modes=nodes.modes,
        nodes_featureids=nodes.features, nodes_values_as_tensor=doubles(nodes.values), nodes_truenodeids=nodes.lefts,
        nodes_falsenodeids=nodes.rights, nodes_missing_value_tracks_true=nodes.missing_left,
        target_treeids=trees, target_nodeids=places, target_ids=targets,
        target_weights_as_tensor=doubles(values),
    )  # fmt: skip
    return graph.node("Add", graph.cast(said, np.float64), base)
