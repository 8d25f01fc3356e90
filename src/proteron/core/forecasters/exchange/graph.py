"""A graph of operators under construction, and its file in the Open Neural Network Exchange format (onnx.ai)."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

_OPERATORS, _TREE_OPERATORS, _FORMAT = 18, 3, 9  # versions that runtimes of the last years understand
TREES = "ai.onnx.ml"


@dataclass(frozen=True)
class _Node:
    operator: str
    inputs: tuple[str, ...]
    outputs: tuple[str, ...]
    domain: str
    attributes: dict[str, Any]


@dataclass
class Graph:
    """Operators in the order they are computed; values go by the names that every method gives."""

    nodes: list[_Node] = field(default_factory=list)
    constants: list[NDArray[Any]] = field(default_factory=list)

    def constant(self, values: ArrayLike, dtype: Any = None) -> str:
        """The name of an array that never changes."""
        self.constants.append(np.asarray(values, dtype=dtype, order="C"))
        return f"c{len(self.constants) - 1}"

    def node(
        self, operator: str, *inputs: str, count: int = 1, taken: int = 0, domain: str = "", **attributes: Any
    ) -> str:
        """The name of what an operator makes: of `count` outputs that number `taken`."""
        outputs = tuple(f"n{len(self.nodes)}_{place}" for place in range(count))
        self.nodes.append(_Node(operator, inputs, outputs, domain, attributes))
        return outputs[taken]

    def cast(self, one: str, dtype: Any) -> str:
        """The same in another precision."""
        return self.node("Cast", one, to=_code(dtype))

    def shaped(self, one: str, *shape: int) -> str:
        """The same numbers in another shape; -1 is whatever is left."""
        return self.node("Reshape", one, self.constant(shape, np.int64))

    def gathered(self, one: str, places: ArrayLike, axis: int) -> str:
        """Places along an axis."""
        return self.node("Gather", one, self.constant(places, np.int64), axis=axis)

    def cut(self, one: str, start: int, stop: int, axis: int) -> str:
        """Places from `start` to `stop` along an axis."""
        return self.node("Slice", one, *(self.constant([each], np.int64) for each in (start, stop, axis)))

    def over(self, operator: str, one: str, axis: int, keep: bool = False) -> str:
        """A reduction (`ReduceMean`, `ReduceMax`, `ReduceSum`) along one axis."""
        return self.node(operator, one, self.constant([axis], np.int64), keepdims=int(keep))

    def turned(self, one: str, *order: int) -> str:
        """Axes in another order."""
        return self.node("Transpose", one, perm=list(order))

    def bytes(
        self, inputs: Sequence[tuple[str, Sequence[int | str]]], outputs: Sequence[tuple[str, str, Sequence[int | str]]]
    ) -> bytes:
        """The checked file: `inputs` by name and shape, `outputs` by their own name, that in here, and shape; all
        in double precision."""
        from onnx import TensorProto, checker, helper, numpy_helper

        nodes = [
            helper.make_node(each.operator, each.inputs, each.outputs, domain=each.domain, **each.attributes)
            for each in self.nodes
        ]
        nodes += [helper.make_node("Identity", [inner], [name]) for name, inner, _ in outputs]
        read = {name for each in self.nodes for name in each.inputs}
        constants = [
            numpy_helper.from_array(each, f"c{place}")
            for place, each in enumerate(self.constants)
            if f"c{place}" in read
        ]

        def told(name: str, shape: Sequence[int | str]) -> Any:
            return helper.make_tensor_value_info(name, TensorProto.DOUBLE, shape)

        made = helper.make_graph(
            nodes, "forecast", [told(*each) for each in inputs], [told(name, shape) for name, _, shape in outputs],
            constants,
        )  # fmt: skip
        versions = [helper.make_opsetid("", _OPERATORS), helper.make_opsetid(TREES, _TREE_OPERATORS)]
        model = helper.make_model(made, opset_imports=versions, ir_version=_FORMAT, producer_name="Proteron")
        checker.check_model(model)
        return bytes(model.SerializeToString())


def _code(dtype: Any) -> int:
    from onnx import helper

    return int(helper.np_dtype_to_tensor_dtype(np.dtype(dtype)))


@dataclass(frozen=True)
class Asked:
    """What a forecaster on windows writes its graph for: scaled features (n_rows, n_features), and level and spread
    (n_rows, 1) of the rows' series; all in double precision."""

    graph: Graph
    width: int
    features: str
    level: str
    spread: str

    def flat(self, scaled: str) -> str:
        """What is scaled, (n_rows, n), in flat units."""
        return self.graph.node("Add", self.graph.node("Mul", scaled, self.spread), self.level)

    def number(self, value: ArrayLike) -> str:
        """A constant in double precision."""
        return self.graph.constant(value, np.float64)


Told = dict[str, tuple[str, Sequence[int | str]]]  # what a graph says: name in the graph and shape by its own name
