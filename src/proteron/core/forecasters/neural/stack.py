"""Networks of plain layers taught in one compiled call: for small ones, calls layer by layer cost more than products.

What a layer computes is what `bound` binds, to the bit; the calls are only made from compiled code, so that several
networks learn at once on several cores.
"""

from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.forecasters.neural import bound, layers, losses
from proteron.core.forecasters.neural.network import Layer, Network
from proteron.core.forecasters.neural.optimisers import Pace, move
from proteron.core.forecasters.neural.rows import Rows, gather
from proteron.core.panel import Floats
from proteron.core.timeline import Ints

_TAKE, _DENSE, _SUM, _JOIN, _BASIS, _EMBEDDING, _SMOOTH = range(7)
_KINDS: dict[Callable[..., bound.Calls], int] = {
    bound.bind_take: _TAKE, bound.bind_dense: _DENSE, bound.bind_sum: _SUM, bound.bind_join: _JOIN,
    bound.bind_basis: _BASIS, bound.bind_embedding: _EMBEDDING, bound.bind_smooth: _SMOOTH,
}  # fmt: skip
_KIND, _ONE, _OTHER, _OUT, _STEPS, _ONE_WIDTH, _OTHER_WIDTH, _OUT_WIDTH, _FIRST, _EXTRA, _CONSTANT = range(11)


class Stack(NamedTuple):
    """A network as a table (n_layers, 11): the kind of each layer, where what it reads and writes begins in a row's
    numbers, its steps and channels, its first parameter, a setting, and its first constant.

    `layout` ends with the numbers of a row, where the output begins, and how many it has.
    """

    table: Ints
    constants: Floats
    layout: tuple[int, int, int]


def stack_of(network: Network, precision: np.dtype) -> Stack | None:
    """A network as a stack, or None where it has a layer of another kind."""
    if any(layer.bind not in _KINDS for layer in network.layers):
        return None
    constants: list[Floats] = [np.zeros(0)]
    table = []
    for layer in network.layers:
        setting, more = _settings(layer)
        start = sum(map(len, constants))
        constants.append(more)
        one, other, out = (network.shapes[each] for each in (layer.one, layer.other, layer.out))
        table.append([
            _KINDS[layer.bind], one[0] if layer.one else -1, other[0], out[0], out[1], one[2], other[2], out[2],
            layer.first, setting, start,
        ])  # fmt: skip
    start, steps, channels = network.shapes[network.layers[-1].out]
    return Stack(np.array(table), np.concatenate(constants).astype(precision), (network.size, start, steps * channels))


def _settings(layer: Layer) -> tuple[int, Floats]:
    """What a layer is told beside its tensors: a whole number, and constants."""
    if layer.bind is bound.bind_basis:
        return 0, np.asarray(layer.extra[0], dtype=float).ravel()
    if layer.bind is bound.bind_embedding:
        count, scale = layer.extra
        return int(str(count)), np.array([float(str(scale))])
    return (int(str(layer.extra[0])) if layer.extra else 0), np.zeros(0)


@kernel
def _part(buffer: Floats, start: int, rows: int, steps: int, width: int) -> Floats:
    """A tensor's steps one below the other: (n_rows · n_steps, n_channels)."""
    first = start * rows
    return buffer[first : first + rows * steps * width].reshape((rows * steps, width))


@kernel
def _sizes(layer: Ints) -> tuple[int, int, int, int, int]:
    """Kind, steps, channels read and made, and the first parameter of a row of the table."""
    return layer[_KIND], layer[_STEPS], layer[_ONE_WIDTH], layer[_OUT_WIDTH], layer[_FIRST]


@kernel
def _category(number: float, scale: float, count: int) -> int:
    return int(min(max(np.rint(number * scale), 0), count - 1))


@kernel
def _forward(stack: Stack, parameters: Floats, values: Floats, rows: int) -> None:
    for layer in stack.table:
        kind, steps, width, wide, first = _sizes(layer)
        out = _part(values, layer[_OUT], rows, steps, wide)
        start = max(layer[_ONE], 0)
        if kind == _TAKE:
            read, at = _part(values, start, rows, 1, width), layer[_EXTRA]
            out.reshape((rows, steps * wide))[:] = read[:, at : at + steps * wide]
            continue
        one = _part(values, start, rows, steps, width)
        if kind == _DENSE:
            weights = parameters[first : first + width * wide].reshape((width, wide))
            biases = parameters[first + width * wide : first + width * wide + wide]
            layers.dense(one, weights, biases, layer[_EXTRA], out)
        elif kind in (_SUM, _JOIN):
            other = _part(values, layer[_OTHER], rows, steps, layer[_OTHER_WIDTH])
            if kind == _JOIN:
                out[:, :width] = one
                out[:, width:] = other
            elif layer[_EXTRA] > 0:
                out[:] = one + other
            else:
                out[:] = one - other
        elif kind == _BASIS:
            matrix = stack.constants[layer[_CONSTANT] : layer[_CONSTANT] + width * wide].reshape((width, wide))
            np.dot(one, matrix, out)
        elif kind == _EMBEDDING:
            table = parameters[first : first + layer[_EXTRA] * wide].reshape((layer[_EXTRA], wide))
            for row in range(rows):
                out[row] = table[_category(one[row, 0], stack.constants[layer[_CONSTANT]], layer[_EXTRA])]
        else:
            layers.smooth(one.reshape((rows, steps, width)), layer[_EXTRA], out.reshape((rows, steps, wide)))


@kernel
def _back(stack: Stack, parameters: Floats, gradient: Floats, values: Floats, flows: Floats, rows: int) -> None:
    for place in range(len(stack.table) - 1, -1, -1):
        layer = stack.table[place]
        kind, steps, width, wide, first = _sizes(layer)
        if kind == _TAKE:
            continue  # nobody wants the flow of the input
        out, flow = _part(values, layer[_OUT], rows, steps, wide), _part(flows, layer[_OUT], rows, steps, wide)
        start = max(layer[_ONE], 0)
        one, by_one = _part(values, start, rows, steps, width), _part(flows, start, rows, steps, width)
        if kind == _DENSE:
            middle = first + width * wide
            layers.dense_back(
                one, parameters[first:middle].reshape((width, wide)), out, layer[_EXTRA], flow,
                gradient[first:middle].reshape((width, wide)), gradient[middle : middle + wide], by_one,
                layer[_ONE] < 0,
            )  # fmt: skip
        elif kind in (_SUM, _JOIN):
            by_other = _part(flows, layer[_OTHER], rows, steps, layer[_OTHER_WIDTH])
            if kind == _JOIN:
                by_one += flow[:, :width]
                by_other += flow[:, width:]
            else:
                by_one += flow
                if layer[_EXTRA] > 0:
                    by_other += flow
                else:
                    by_other -= flow
        elif kind == _BASIS:
            matrix = stack.constants[layer[_CONSTANT] : layer[_CONSTANT] + width * wide].reshape((width, wide))
            by_one += np.dot(flow, matrix.T)
        elif kind == _EMBEDDING:
            by_table = gradient[first : first + layer[_EXTRA] * wide].reshape((layer[_EXTRA], wide))
            by_table[:] = 0
            for row in range(rows):
                by_table[_category(one[row, 0], stack.constants[layer[_CONSTANT]], layer[_EXTRA])] += flow[row]
        else:
            layers.smooth_back(flow.reshape((rows, steps, wide)), layer[_EXTRA], by_one.reshape((rows, steps, width)))


@kernel
def taught(
    stack: Stack, parameters: Floats, moments: Floats, rows: Rows, order: Ints, batch: int, loss: int, shares: Floats,
    pace: Pace, taken: int,
) -> float:  # fmt: skip
    """One pass over rows in `order`, `taken` steps having been made before: parameters and moments are moved in place;
    gives the mean loss."""
    size, begin, wide = stack.layout
    steps, kind = rows.targets.shape[1], parameters.dtype
    gradient = np.zeros(parameters.size, kind)
    values, flows = np.zeros(size * batch, kind), np.zeros(size * batch, kind)
    targets, weights, units = np.empty((batch, steps), kind), np.empty(batch), np.empty(batch)
    total = 0.0
    for start in range(0, len(order), batch):
        chosen = order[start : start + batch]
        count = len(chosen)
        gather(rows, chosen, values[: count * rows.inputs.shape[1]].reshape((count, rows.inputs.shape[1])),
               targets, weights, units)  # fmt: skip
        _forward(stack, parameters, values, count)
        flows[: size * count] = 0
        first, last = begin * count, (begin + wide) * count
        shape = (count, steps, wide // steps)
        total += count * losses.loss_and_flow(
            values[first:last].reshape(shape), targets[:count], weights[:count], units[:count], loss, shares,
            flows[first:last].reshape(shape),
        )  # fmt: skip
        _back(stack, parameters, gradient, values, flows, count)
        taken += 1
        move(parameters, moments, gradient, pace, taken)
    return total / max(len(order), 1)
