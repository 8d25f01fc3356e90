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
def squash(values: Floats) -> None:
    """tanh of values (n,) in place; of single precision by Lambert's continued fraction, good to 4e-7.

    The fraction is taken of a quarter of the value, at most 2.25, and tanh 2x = 2 tanh x / (1 + tanh² x) used twice:
    nothing but products and quotients, so that many are computed at once.
    """
    if values.itemsize > 4:
        for i in range(values.size):
            values[i] = np.tanh(values[i])
        return
    number = values.dtype.type
    quarter, most, one, two = number(0.25), number(2.25), number(1), number(2)
    a0, a1, a2 = number(135135), number(17325), number(378)
    b1, b2, b3 = number(62370), number(3150), number(28)
    for i in range(values.size):
        x = min(max(values[i] * quarter, -most), most)
        square = x * x
        t = x * (a0 + square * (a1 + square * (a2 + square))) / (a0 + square * (b1 + square * (b2 + square * b3)))
        t = two * t / (one + t * t)
        values[i] = two * t / (one + t * t)


@kernel
def to_shares(values: Floats) -> None:
    """Values (n,) become e^value over the sum of all (softmax); those of single precision are good to 5e-6.

    e^x is then the 64th power of a Taylor sum for x / 64, and e^-40 what lies below: nothing but products.
    """
    highest = values[0]
    for i in range(1, values.size):
        highest = max(highest, values[i])
    number = values.dtype.type
    if values.itemsize > 4:
        for i in range(values.size):
            values[i] = np.exp(values[i] - highest)
    else:
        least, part, one = number(-40), number(1 / 64), number(1)
        c2, c3, c4, c5, c6, c7 = (
            number(1 / 2), number(1 / 6), number(1 / 24), number(1 / 120), number(1 / 720), number(1 / 5040),
        )  # fmt: skip
        for i in range(values.size):
            x = max(values[i] - highest, least) * part
            y = one + x * (one + x * (c2 + x * (c3 + x * (c4 + x * (c5 + x * (c6 + x * c7))))))
            y *= y
            y *= y
            y *= y
            y *= y
            y *= y
            values[i] = y * y
    total = number(0)
    for i in range(values.size):
        total += values[i]
    for i in range(values.size):
        values[i] /= total


@kernel
def activate(values: Floats, activation: int) -> None:
    """Apply an activation to values (n,) in place."""
    if activation == RELU:
        for i in range(values.size):
            values[i] = max(values[i], 0)
    elif activation == TANH:
        squash(values)
    elif activation == SIGMOID:  # 1 / (1 + e^-x) = (1 + tanh(x / 2)) / 2
        half = values.dtype.type(0.5)
        for i in range(values.size):
            values[i] *= half
        squash(values)
        for i in range(values.size):
            values[i] = half + half * values[i]


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


@kernel
def smooth(series: Floats, window: int, out: Floats) -> None:
    """The mean of `window` steps around each (one more before than after), the ends repeated beyond the edges."""
    rows, steps, width = series.shape
    before = window // 2
    for row in range(rows):
        for step in range(steps):
            for channel in range(width):
                total = out.dtype.type(0)
                for at in range(step - before, step - before + window):
                    total += series[row, min(max(at, 0), steps - 1), channel]
                out[row, step, channel] = total / window


@kernel
def smooth_back(flow: Floats, window: int, into: Floats) -> None:
    """Flows of means to the steps they were taken of."""
    rows, steps, width = flow.shape
    before = window // 2
    for row in range(rows):
        for step in range(steps):
            for channel in range(width):
                for at in range(step - before, step - before + window):
                    into[row, min(max(at, 0), steps - 1), channel] += flow[row, step, channel] / window


# recurrence: time first, (n_steps, n_rows, …), so that every step is one product


@kernel
def by_state_weights(states: Floats, flow: Floats, by_weights: Floats) -> None:
    """What states (n_steps + 1, n_rows, n) and flows (n_steps, n_rows, m) of what they drive say of weights (n, m)."""
    steps, rows, width = flow.shape
    before = states[:steps].reshape((steps * rows, states.shape[2]))
    np.dot(before.T, flow.reshape((steps * rows, width)), by_weights)


@kernel
def plain(drive: Floats, weights: Floats, states: Floats) -> None:
    """The simplest recurrence (Elman 1990): states (n_steps + 1, n_rows, n) are tanh of drive and state before."""
    for step in range(drive.shape[0]):
        np.dot(states[step], weights, states[step + 1])
        states[step + 1] += drive[step]
        squash(states[step + 1].reshape(-1))


@kernel
def plain_back(drive: Floats, weights: Floats, states: Floats, flow: Floats, by_weights: Floats) -> None:
    """As `lstm_back`; `drive` is written with its flow."""
    turned = np.ascontiguousarray(weights.T)
    for step in range(drive.shape[0] - 1, -1, -1):
        drive[step] = flow[step + 1]
        through_activation(drive[step].reshape(-1), states[step + 1].reshape(-1), TANH)
        flow[step] += np.dot(drive[step], turned)
    by_state_weights(states, drive, by_weights)


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
        before, cell, state = cells[step], cells[step + 1], states[step + 1]
        for row in range(rows):
            mine = gates[row]
            activate(mine[: 3 * width], SIGMOID)
            squash(mine[3 * width :])
            for i in range(width):
                cell[row, i] = mine[width + i] * before[row, i] + mine[i] * mine[3 * width + i]
                state[row, i] = cell[row, i]
        squash(state.reshape(-1))
        for row in range(rows):
            for i in range(width):
                state[row, i] *= gates[row, 2 * width + i]


@kernel
def lstm_back(gates: Floats, weights: Floats, states: Floats, cells: Floats, flow: Floats, by_weights: Floats) -> None:
    """`flow` (n_steps + 1, n_rows, n) of states becomes complete; `gates` becomes the flow of the drive."""
    steps, rows, width = gates.shape[0], gates.shape[1], states.shape[2]
    by_cell = np.zeros((rows, width), dtype=gates.dtype)
    squashed = np.empty((rows, width), dtype=gates.dtype)
    turned, one = np.ascontiguousarray(weights.T), gates.dtype.type(1)
    for step in range(steps - 1, -1, -1):
        here, told, before = gates[step], flow[step + 1], cells[step]
        squashed[:] = cells[step + 1]
        squash(squashed.reshape(-1))
        for row in range(rows):
            into, forget = here[row, :width], here[row, width : 2 * width]
            out, new = here[row, 2 * width : 3 * width], here[row, 3 * width :]
            for i in range(width):
                total = by_cell[row, i] + told[row, i] * out[i] * (one - squashed[row, i] * squashed[row, i])
                by_cell[row, i] = total * forget[i]
                out[i] = told[row, i] * squashed[row, i] * out[i] * (one - out[i])
                forget[i] = total * before[row, i] * forget[i] * (one - forget[i])
                by_new = total * into[i] * (one - new[i] * new[i])
                into[i] = total * new[i] * into[i] * (one - into[i])
                new[i] = by_new
        flow[step] += np.dot(here, turned)
    by_state_weights(states, gates, by_weights)


@kernel
def gru(drive: Floats, weights: Floats, biases: Floats, states: Floats, kept: Floats) -> None:
    """Gated recurrent unit (Cho et al. 2014), the reset gate applied behind the state's product.

    `drive` (n_steps, n_rows, 3 n) becomes the gates: reset, update, new; `kept` (n_steps, n_rows, n) is what the state
    says to the new value before the reset. `weights` (n, 3 n) and `biases` (n,) are those of the state.
    """
    steps, rows, width = drive.shape[0], drive.shape[1], states.shape[2]
    one = drive.dtype.type(1)
    for step in range(steps):
        gates, before, state, inner = drive[step], states[step], states[step + 1], kept[step]
        said = np.dot(before, weights)
        for row in range(rows):
            mine = gates[row]
            for i in range(2 * width):
                mine[i] += said[row, i]
            activate(mine[: 2 * width], SIGMOID)
            for i in range(width):
                inner[row, i] = said[row, 2 * width + i] + biases[i]
                mine[2 * width + i] += mine[i] * inner[row, i]
            squash(mine[2 * width :])
            for i in range(width):
                update = mine[width + i]
                state[row, i] = (one - update) * mine[2 * width + i] + update * before[row, i]


@kernel
def gru_back(
    gates: Floats, weights: Floats, states: Floats, kept: Floats, flow: Floats, by_weights: Floats, by_biases: Floats
) -> None:
    """As `lstm_back`: flows of states become complete, gates become the flow of the drive."""
    steps, rows, width = gates.shape[0], gates.shape[1], states.shape[2]
    said = np.empty_like(gates)
    turned, one = np.ascontiguousarray(weights.T), gates.dtype.type(1)
    for step in range(steps - 1, -1, -1):
        here, told, before, after, inner = gates[step], said[step], states[step], flow[step + 1], kept[step]
        for row in range(rows):
            reset, update, new = here[row, :width], here[row, width : 2 * width], here[row, 2 * width :]
            for i in range(width):
                by_state = after[row, i]
                by_new = by_state * (one - update[i]) * (one - new[i] * new[i])
                flow[step, row, i] += by_state * update[i]
                update[i] = by_state * (before[row, i] - new[i]) * update[i] * (one - update[i])
                told[row, 2 * width + i] = by_new * reset[i]
                reset[i] = by_new * inner[row, i] * reset[i] * (one - reset[i])
                new[i] = by_new
            told[row, : 2 * width] = here[row, : 2 * width]
        flow[step] += np.dot(told, turned)
    by_state_weights(states, said, by_weights)
    add_columns(said.reshape((steps * rows, 3 * width))[:, 2 * width :], by_biases)


# attention and norms


@kernel
def attend(queries: Floats, keys: Floats, values: Floats, causal: bool, out: Floats, shares: Floats) -> None:
    """Scaled dot-product attention (Vaswani et al. 2017, eq. 1) of n heads, keys and values (n_steps, width) each.

    Queries (n_last, width) are those of the last steps. `shares` (n, n_last, n_steps) are what each of them looks at; a
    causal one looks at itself and before.
    """
    count, last, width = queries.shape
    steps = keys.shape[1]
    scale = queries.dtype.type(1 / np.sqrt(width))
    for head in range(count):
        scores = np.dot(queries[head] * scale, keys[head].T)
        for step in range(last):
            stop = steps - last + step + 1 if causal else steps
            to_shares(scores[step, :stop])
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
    """Flows of what attention gave, (n, n_last, width), into those of queries, keys and values."""
    count, last, width = queries.shape
    steps = keys.shape[1]
    scale = queries.dtype.type(1 / np.sqrt(width))
    for head in range(count):
        np.dot(shares[head].T, flow[head], by_values[head])
        by_scores = np.dot(flow[head], values[head].T)
        for step in range(last):
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
