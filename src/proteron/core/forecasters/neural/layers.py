"""Compiled layers with hand-derived gradients.

A batch of a tensor is (n_rows, n_steps, n_channels) in C order; a vector is a tensor of one step. Every layer has a
function that computes `out` and one that adds to the flow (gradient of the loss) of what it read and writes those of
its parameters; what the latter needs of the former lies in `kept`.
"""

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.panel import Floats

NONE, RELU, TANH, SIGMOID = 0, 1, 2, 3


@kernel
def activate(values: Floats, activation: int) -> None:
    """Apply an activation to values (n,) in place."""
    if activation == RELU:
        for i in range(values.size):
            values[i] = max(values[i], 0)
    elif activation == TANH:
        for i in range(values.size):
            values[i] = np.tanh(values[i])
    elif activation == SIGMOID:
        for i in range(values.size):
            values[i] = 1 / (1 + np.exp(-values[i]))


@kernel
def through_activation(flow: Floats, out: Floats, activation: int) -> None:
    """Multiply a flow (n,) by the activation's derivative, written by what it gave."""
    if activation == RELU:
        for i in range(flow.size):
            if out[i] <= 0:
                flow[i] = 0
    elif activation == TANH:
        for i in range(flow.size):
            flow[i] *= 1 - out[i] * out[i]
    elif activation == SIGMOID:
        for i in range(flow.size):
            flow[i] *= out[i] * (1 - out[i])


@kernel
def add_columns(flow: Floats, into: Floats) -> None:
    """Sums of columns (n_rows, n_columns) into (n_columns,)."""
    into[:] = 0
    for row in range(flow.shape[0]):
        for column in range(flow.shape[1]):
            into[column] += flow[row, column]


# dense: the same weights at every step


@kernel
def dense(rows: Floats, weights: Floats, biases: Floats, activation: int, out: Floats) -> None:
    """rows (n, n_in) @ weights (n_in, n_out) + biases (n_out,), activated, into out (n, n_out)."""
    np.dot(rows, weights, out)
    out += biases
    activate(out.reshape(-1), activation)


@kernel
def dense_back(
    rows: Floats,
    weights: Floats,
    out: Floats,
    activation: int,
    flow: Floats,
    by_weights: Floats,
    by_biases: Floats,
    by_rows: Floats,
    reads_data: bool,
) -> None:
    """The flow (n, n_out) of what a dense layer gave, which is changed, into those of weights, biases and rows."""
    through_activation(flow.reshape(-1), out.reshape(-1), activation)
    add_columns(flow, by_biases)
    np.dot(rows.T, flow, by_weights)
    if not reads_data:
        by_rows += np.dot(flow, weights.T)


# convolution: causal, a step sees itself and steps `dilation` apart before it


@kernel
def unfold(series: Floats, taps: int, dilation: int, stride: int, out: Floats) -> None:
    """What every step sees: (n_rows, n_steps, n_in) to out (n_rows, n_out_steps, taps * n_in), 0 before the window.

    The last step out is that of the last step in.
    """
    rows, steps, width = series.shape
    last = out.shape[1] - 1
    for row in range(rows):
        for step in range(out.shape[1]):
            end = steps - 1 - (last - step) * stride
            for tap in range(taps):
                at = end - (taps - 1 - tap) * dilation
                for channel in range(width):
                    out[row, step, tap * width + channel] = series[row, at, channel] if at >= 0 else 0


@kernel
def fold(seen: Floats, taps: int, dilation: int, stride: int, into: Floats) -> None:
    """The reverse of `unfold`: flows of what was seen added to those of the steps."""
    rows, steps, width = into.shape
    last = seen.shape[1] - 1
    for row in range(rows):
        for step in range(seen.shape[1]):
            end = steps - 1 - (last - step) * stride
            for tap in range(taps):
                at = end - (taps - 1 - tap) * dilation
                if at >= 0:
                    for channel in range(width):
                        into[row, at, channel] += seen[row, step, tap * width + channel]


@kernel
def pool_most(series: Floats, size: int, out: Floats, kept: Floats) -> None:
    """The largest of every `size` steps, counted from the end; `kept` says which."""
    rows, steps, width = series.shape
    for row in range(rows):
        for step in range(out.shape[1]):
            end = steps - (out.shape[1] - 1 - step) * size
            for channel in range(width):
                best = end - size
                for at in range(end - size + 1, end):
                    if series[row, at, channel] > series[row, best, channel]:
                        best = at
                out[row, step, channel] = series[row, best, channel]
                kept[row, step, channel] = best


@kernel
def pool_most_back(flow: Floats, kept: Floats, into: Floats) -> None:
    """Flows of the largest to where they were."""
    for row in range(flow.shape[0]):
        for step in range(flow.shape[1]):
            for channel in range(flow.shape[2]):
                into[row, int(kept[row, step, channel]), channel] += flow[row, step, channel]


@kernel
def pool_mean(series: Floats, size: int, out: Floats) -> None:
    """The mean of every `size` steps, counted from the end."""
    rows, steps, width = series.shape
    for row in range(rows):
        for step in range(out.shape[1]):
            end = steps - (out.shape[1] - 1 - step) * size
            for channel in range(width):
                total = out.dtype.type(0)
                for at in range(end - size, end):
                    total += series[row, at, channel]
                out[row, step, channel] = total / size


@kernel
def pool_mean_back(flow: Floats, size: int, into: Floats) -> None:
    """Flows of means to what they were taken of."""
    steps = into.shape[1]
    for row in range(flow.shape[0]):
        for step in range(flow.shape[1]):
            end = steps - (flow.shape[1] - 1 - step) * size
            for channel in range(flow.shape[2]):
                for at in range(end - size, end):
                    into[row, at, channel] += flow[row, step, channel] / size


# recurrence: time first, (n_steps, n_rows, …), so that every step is one product


@kernel
def lstm(drive: Floats, weights: Floats, states: Floats, cells: Floats) -> None:
    """Long short-term memory (Hochreiter & Schmidhuber 1997; forget gate of Gers et al. 2000).

    `drive` (n_steps, n_rows, 4 n) is what inputs and biases say, and becomes the gates: in, forget, out, new. `weights`
    (n, 4 n) are those of the state; `states` and `cells` (n_steps + 1, n_rows, n) begin with zeros.
    """
    steps, rows, width = drive.shape[0], drive.shape[1], states.shape[2]
    for step in range(steps):
        gates = drive[step]
        gates += np.dot(states[step], weights)
        for row in range(rows):
            activate(gates[row, : 3 * width], SIGMOID)
            activate(gates[row, 3 * width :], TANH)
            for i in range(width):
                cell = gates[row, width + i] * cells[step, row, i] + gates[row, i] * gates[row, 3 * width + i]
                cells[step + 1, row, i] = cell
                states[step + 1, row, i] = gates[row, 2 * width + i] * np.tanh(cell)


@kernel
def lstm_back(gates: Floats, weights: Floats, states: Floats, cells: Floats, flow: Floats, by_weights: Floats) -> None:
    """`flow` (n_steps + 1, n_rows, n) of states becomes complete; `gates` becomes the flow of the drive."""
    steps, rows, width = gates.shape[0], gates.shape[1], states.shape[2]
    by_weights[:] = 0
    by_cell = np.zeros((rows, width), dtype=gates.dtype)
    turned = np.ascontiguousarray(weights.T)
    for step in range(steps - 1, -1, -1):
        here = gates[step]
        for row in range(rows):
            for i in range(width):
                into, forget, out, new = (
                    here[row, i],
                    here[row, width + i],
                    here[row, 2 * width + i],
                    here[row, 3 * width + i],
                )
                squashed = np.tanh(cells[step + 1, row, i])
                by_state = flow[step + 1, row, i]
                total = by_cell[row, i] + by_state * out * (1 - squashed * squashed)
                here[row, i] = total * new * into * (1 - into)
                here[row, width + i] = total * cells[step, row, i] * forget * (1 - forget)
                here[row, 2 * width + i] = by_state * squashed * out * (1 - out)
                here[row, 3 * width + i] = total * into * (1 - new * new)
                by_cell[row, i] = total * forget
        by_weights += np.dot(states[step].T, here)
        flow[step] += np.dot(here, turned)


@kernel
def gru(drive: Floats, weights: Floats, biases: Floats, states: Floats, kept: Floats) -> None:
    """Gated recurrent unit (Cho et al. 2014), the reset gate applied behind the state's product.

    `drive` (n_steps, n_rows, 3 n) becomes the gates: reset, update, new; `kept` (n_steps, n_rows, n) is what the state
    says to the new value before the reset. `weights` (n, 3 n) and `biases` (n,) are those of the state.
    """
    steps, rows, width = drive.shape[0], drive.shape[1], states.shape[2]
    for step in range(steps):
        gates = drive[step]
        said = np.dot(states[step], weights)
        for row in range(rows):
            for i in range(2 * width):
                gates[row, i] = 1 / (1 + np.exp(-(gates[row, i] + said[row, i])))
            for i in range(width):
                kept[step, row, i] = said[row, 2 * width + i] + biases[i]
                new = np.tanh(gates[row, 2 * width + i] + gates[row, i] * kept[step, row, i])
                gates[row, 2 * width + i] = new
                update = gates[row, width + i]
                states[step + 1, row, i] = (1 - update) * new + update * states[step, row, i]


@kernel
def gru_back(
    gates: Floats, weights: Floats, states: Floats, kept: Floats, flow: Floats, by_weights: Floats, by_biases: Floats
) -> None:
    """As `lstm_back`: flows of states become complete, gates become the flow of the drive."""
    steps, rows, width = gates.shape[0], gates.shape[1], states.shape[2]
    by_weights[:] = 0
    by_biases[:] = 0
    said = np.empty((rows, 3 * width), dtype=gates.dtype)
    turned = np.ascontiguousarray(weights.T)
    for step in range(steps - 1, -1, -1):
        here = gates[step]
        for row in range(rows):
            for i in range(width):
                reset, update, new = here[row, i], here[row, width + i], here[row, 2 * width + i]
                by_state = flow[step + 1, row, i]
                by_new = by_state * (1 - update) * (1 - new * new)
                by_update = by_state * (states[step, row, i] - new) * update * (1 - update)
                by_reset = by_new * kept[step, row, i] * reset * (1 - reset)
                here[row, i], here[row, width + i], here[row, 2 * width + i] = by_reset, by_update, by_new
                said[row, i], said[row, width + i], said[row, 2 * width + i] = by_reset, by_update, by_new * reset
                by_biases[i] += by_new * reset
                flow[step, row, i] += by_state * update
        by_weights += np.dot(states[step].T, said)
        flow[step] += np.dot(said, turned)


# attention and norms


@kernel
def attend(queries: Floats, keys: Floats, values: Floats, causal: bool, out: Floats, shares: Floats) -> None:
    """Scaled dot-product attention (Vaswani et al. 2017, eq. 1) of n heads, each (n_steps, width).

    `shares` (n, n_steps, n_steps) are what every step looks at; a causal one looks at itself and before.
    """
    count, steps, width = queries.shape
    scale = queries.dtype.type(1 / np.sqrt(width))
    for head in range(count):
        scores = np.dot(queries[head] * scale, keys[head].T)
        for step in range(steps):
            stop = step + 1 if causal else steps
            highest = scores[step, 0]
            for at in range(1, stop):
                highest = max(highest, scores[step, at])
            total = queries.dtype.type(0)
            for at in range(stop):
                scores[step, at] = np.exp(scores[step, at] - highest)
                total += scores[step, at]
            for at in range(stop):
                scores[step, at] /= total
            scores[step, stop:] = 0
        shares[head] = scores
        np.dot(scores, values[head], out[head])


@kernel
def attend_back(
    queries: Floats,
    keys: Floats,
    values: Floats,
    shares: Floats,
    flow: Floats,
    by_queries: Floats,
    by_keys: Floats,
    by_values: Floats,
) -> None:
    """Flows of what attention gave, (n, n_steps, width), into those of queries, keys and values."""
    count, steps, width = queries.shape
    scale = queries.dtype.type(1 / np.sqrt(width))
    for head in range(count):
        np.dot(shares[head].T, flow[head], by_values[head])
        by_scores = np.dot(flow[head], values[head].T)
        for step in range(steps):
            mean = queries.dtype.type(0)
            for at in range(steps):
                mean += by_scores[step, at] * shares[head, step, at]
            for at in range(steps):
                by_scores[step, at] = shares[head, step, at] * (by_scores[step, at] - mean) * scale
        np.dot(by_scores, keys[head], by_queries[head])
        np.dot(by_scores.T, queries[head], by_keys[head])


@kernel
def layer_norm(rows: Floats, gains: Floats, biases: Floats, out: Floats, normed: Floats, kept: Floats) -> None:
    """Every row (n, width) less its mean, over its spread (Ba et al. 2016): `normed`, and `kept` (n,) one over it."""
    width = rows.shape[1]
    for row in range(len(rows)):
        mean = rows.dtype.type(0)
        for i in range(width):
            mean += rows[row, i]
        mean /= width
        square = rows.dtype.type(0)
        for i in range(width):
            square += (rows[row, i] - mean) ** 2
        kept[row] = 1 / np.sqrt(square / width + rows.dtype.type(1e-5))
        for i in range(width):
            normed[row, i] = (rows[row, i] - mean) * kept[row]
            out[row, i] = normed[row, i] * gains[i] + biases[i]


@kernel
def layer_norm_back(
    normed: Floats, kept: Floats, gains: Floats, flow: Floats, by_gains: Floats, by_biases: Floats, by_rows: Floats
) -> None:
    """Flows of normed rows into those of gains, biases and the rows."""
    width = normed.shape[1]
    by_gains[:] = 0
    by_biases[:] = 0
    for row in range(len(normed)):
        mean = normed.dtype.type(0)
        along = normed.dtype.type(0)
        for i in range(width):
            by_gains[i] += flow[row, i] * normed[row, i]
            by_biases[i] += flow[row, i]
            mean += flow[row, i] * gains[i]
            along += flow[row, i] * gains[i] * normed[row, i]
        for i in range(width):
            share = flow[row, i] * gains[i] - mean / width - normed[row, i] * along / width
            by_rows[row, i] += kept[row] * share
