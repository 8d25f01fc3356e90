"""Trained networks as graphs of standard operators, in single precision.

A tensor is (n_rows, n_steps, n_channels) here as in the network; tensor 0, the input, has one step.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from proteron.core.forecasters.exchange.graph import Graph
from proteron.core.forecasters.neural import bound, layers
from proteron.core.forecasters.neural.losses import SMALLEST
from proteron.core.forecasters.neural.network import Layer, Network
from proteron.core.panel import Floats

_ACTIVATIONS = {layers.RELU: "Relu", layers.TANH: "Tanh", layers.SIGMOID: "Sigmoid"}
_FAR_BELOW = -1e9  # a score that weighs nothing


@dataclass(frozen=True)
class _Place:
    """A layer where it is written: its parameters, and the names of what it reads."""

    graph: Graph
    network: Network
    layer: Layer
    parts: tuple[NDArray[np.float32], ...]
    one: str
    other: str

    @property
    def read(self) -> tuple[int, int]:
        return self.network.shape(self.layer.one)

    @property
    def made(self) -> tuple[int, int]:
        return self.network.shape(self.layer.out)

    def constant(self, values: Any) -> str:
        return self.graph.constant(values, np.float32)


def write_network(graph: Graph, network: Network, parameters: Floats, inputs: str) -> str:
    """What a network says of `inputs` (n_rows, width), as (n_rows, n_out); all in single precision."""
    names = {0: graph.shaped(inputs, -1, 1, network.width)}

    def named(tensor: int) -> str:
        if tensor not in names:  # the same numbers, seen in another shape
            start = network.shapes[tensor][0]
            same = next(each for each in names if network.shapes[each][0] == start)
            names[tensor] = graph.shaped(names[same], -1, *network.shape(tensor))
        return names[tensor]

    for layer in network.layers:
        mine = parameters[layer.first : layer.first + layer.count].astype(np.float32)
        stops = np.cumsum([int(np.prod(shape)) for shape, _ in layer.parts])
        cut = np.split(mine, stops[:-1]) if layer.parts else []
        parts = tuple(each.reshape(shape) for each, (shape, _) in zip(cut, layer.parts, strict=True))
        place = _Place(graph, network, layer, parts, named(layer.one), named(layer.other))
        names[layer.out] = WRITERS[layer.bind](place, *layer.extra)
    last = network.layers[-1].out
    return graph.shaped(names[last], -1, int(np.prod(network.shape(last))))


def _product(at: _Place, rows: str, activation: int) -> str:
    weights, biases = at.parts
    said = at.graph.node("Add", at.graph.node("MatMul", rows, at.constant(weights)), at.constant(biases))
    return at.graph.node(_ACTIVATIONS[activation], said) if activation in _ACTIVATIONS else said


def _take(at: _Place, first: int) -> str:
    steps, channels = at.made
    return at.graph.shaped(at.graph.cut(at.one, first, first + steps * channels, 2), -1, steps, channels)


def _dense(at: _Place, activation: int) -> str:
    return _product(at, at.one, activation)


def _convolution(at: _Place, taps: int, dilation: int, stride: int, activation: int) -> str:
    steps, channels = at.read
    count, before = at.made[0], (taps - 1) * dilation
    padded = at.graph.node("Pad", at.one, at.graph.constant([0, before, 0, 0, 0, 0], np.int64))
    ends = steps - 1 - np.arange(count - 1, -1, -1) * stride
    seen = before + ends[:, None] - np.arange(taps - 1, -1, -1) * dilation
    read = at.graph.shaped(at.graph.gathered(padded, seen.ravel(), 1), -1, count, taps * channels)
    return _product(at, read, activation)


def _pooled(at: _Place, size: int, operator: str) -> str:
    steps, channels = at.read
    count = at.made[0]
    kept = at.graph.shaped(at.graph.cut(at.one, steps - count * size, steps, 1), -1, count, size, channels)
    return at.graph.over(operator, kept, 2)


def _smooth(at: _Place, window: int) -> str:
    steps, channels = at.read
    around = np.arange(steps)[:, None] - window // 2 + np.arange(window)
    seen = at.graph.gathered(at.one, around.clip(0, steps - 1).ravel(), 1)
    return at.graph.over("ReduceMean", at.graph.shaped(seen, -1, steps, window, channels), 2)


def _recurrence(at: _Place, operator: str, order: tuple[int, ...], **attributes: Any) -> str:
    """Gates in the order of the operator: `order` are their places in ours."""
    into, weights, biases, *rest = at.parts
    width = at.made[1]

    def gates(part: NDArray[np.float32]) -> NDArray[np.float32]:
        cut = part.reshape(-1, len(order), width)
        return cut[:, list(order)].reshape(len(cut), -1)

    inner = np.zeros((1, len(order) * width), dtype=np.float32)
    if rest:
        inner[:, -width:] = rest[0]
    wide = np.concatenate([gates(biases[None]), inner], axis=1)
    states = at.graph.node(
        operator, at.graph.turned(at.one, 1, 0, 2), at.constant(gates(into).T[None]),
        at.constant(gates(weights).T[None]), at.constant(wide), hidden_size=width, **attributes,
    )  # fmt: skip
    steps = at.graph.node("Squeeze", states, at.graph.constant([1], np.int64))
    return at.graph.turned(steps, 1, 0, 2)


def _attention(at: _Place, heads: int, causal: int) -> str:
    graph, (last, width), (steps, _) = at.graph, at.made, at.read

    def head(place: int, *order: int) -> str:
        part = graph.cut(at.one, place * width, (place + 1) * width, 2)
        count = steps if place else last  # of queries those of the last steps
        part = graph.cut(part, steps - count, steps, 1) if count < steps else part
        return graph.turned(graph.shaped(part, -1, count, heads, width // heads), *order)

    queries, keys, values = head(0, 0, 2, 1, 3), head(1, 0, 2, 3, 1), head(2, 0, 2, 1, 3)
    scale = at.constant(np.sqrt(heads / width))
    scores = graph.node("MatMul", graph.node("Mul", queries, scale), keys)
    if causal:
        scores = graph.node("Add", scores, at.constant(np.triu(np.full((last, steps), _FAR_BELOW), 1 + steps - last)))
    seen = graph.node("MatMul", graph.node("Softmax", scores, axis=-1), values)
    return graph.shaped(graph.turned(seen, 0, 2, 1, 3), -1, last, width)


def _position(at: _Place) -> str:
    return at.graph.node("Add", at.one, at.constant(at.parts[0]))


def _norm(at: _Place) -> str:
    gains, biases = map(at.constant, at.parts)
    return at.graph.node("LayerNormalization", at.one, gains, biases, axis=-1, epsilon=1e-5)


def _batch_norm(at: _Place) -> str:
    gains, biases, means, squares = (each.astype(np.float64) for each in at.parts)
    slope = gains / np.sqrt(squares + 1e-5)
    return at.graph.node("Add", at.graph.node("Mul", at.one, at.constant(slope)), at.constant(biases - means * slope))


def _embedding(at: _Place, count: int, scale: float) -> str:
    graph = at.graph
    number = graph.node("Round", graph.node("Mul", at.one, at.constant(scale)))
    inside = graph.node("Clip", number, at.constant(0), at.constant(count - 1))
    numbers = graph.shaped(graph.cast(inside, np.int64), -1)
    return graph.shaped(graph.node("Gather", at.constant(at.parts[0]), numbers, axis=0), -1, *at.made)


def _thin(at: _Place, stride: int) -> str:
    steps = at.read[0]
    return at.graph.gathered(at.one, range((steps - 1) % stride, steps, stride), 1)


def _last(at: _Place) -> str:
    return at.graph.cut(at.one, at.read[0] - 1, at.read[0], 1)


WRITERS: dict[Callable[..., bound.Calls], Callable[..., str]] = {
    bound.bind_take: _take,
    bound.bind_dense: _dense,
    bound.bind_convolution: _convolution,
    bound.bind_most: lambda at, size: _pooled(at, size, "ReduceMax"),
    bound.bind_mean: lambda at, size: _pooled(at, size, "ReduceMean"),
    bound.bind_smooth: _smooth,
    bound.bind_plain: lambda at: _recurrence(at, "RNN", (0,)),
    bound.bind_lstm: lambda at: _recurrence(at, "LSTM", (0, 2, 1, 3)),
    bound.bind_gru: lambda at: _recurrence(at, "GRU", (1, 0, 2), linear_before_reset=1),
    bound.bind_attention: _attention,
    bound.bind_position: _position,
    bound.bind_norm: _norm,
    bound.bind_batch_norm: _batch_norm,
    bound.bind_dropout: lambda at, _share: at.one,
    bound.bind_embedding: _embedding,
    bound.bind_thin: _thin,
    bound.bind_last: _last,
    bound.bind_repeat: lambda at: at.graph.node("Add", at.one, at.constant(np.zeros((1, at.made[0], 1)))),
    bound.bind_join: lambda at: at.graph.node("Concat", at.one, at.other, axis=2),
    bound.bind_sum: lambda at, sign: at.graph.node("Add" if sign > 0 else "Sub", at.one, at.other),
    bound.bind_basis: lambda at, matrix: at.graph.node("MatMul", at.one, at.constant(matrix)),
}


def write_spreads(graph: Graph, said: str) -> str:
    """Spreads of what was said of them, as `losses.spreads_of`."""
    return graph.node("Add", graph.node("Softplus", said), graph.constant(SMALLEST, np.float64))


def write_quantiles(graph: Graph, said: str, width: int) -> str:
    """Quantiles (…, n_levels), rising, of what was said of them (four axes), as `losses.quantiles_of`."""
    middle, axis = width // 2, graph.constant(3, np.int64)
    centre = graph.cut(said, middle, middle + 1, 3)
    parts = [centre]
    if middle:
        below = graph.node("CumSum", graph.node("Softplus", graph.cut(said, 0, middle, 3)), axis, reverse=1)
        parts.insert(0, graph.node("Sub", centre, below))
    if middle + 1 < width:
        above = graph.node("CumSum", graph.node("Softplus", graph.cut(said, middle + 1, width, 3)), axis)
        parts.append(graph.node("Add", centre, above))
    return graph.node("Concat", *parts, axis=3)
