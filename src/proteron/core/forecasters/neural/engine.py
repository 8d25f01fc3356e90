"""Dense networks with hand-derived gradients, trained epoch by epoch in one compiled loop.

All parameters live in one flat vector: per layer the weights (n_in, n_out) in C order, then the
biases (n_out,). Activations are row-major batches, so every product is one BLAS call.
"""

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.forecasters.neural.layers import activate, through_activation
from proteron.core.panel import Floats
from proteron.core.timeline import Ints


def parameter_count(sizes: Ints) -> int:
    """Length of the flat parameter vector of layers `sizes` (n_layers + 1,)."""
    return int((sizes[:-1] * sizes[1:] + sizes[1:]).sum())


def initial_parameters(sizes: Ints, rng: np.random.Generator, dtype: type) -> Floats:
    """He et al. (2015) normal weights, zero biases; the last layer starts ten times smaller."""
    parts = []
    for layer in range(len(sizes) - 1):
        scale = np.sqrt(2.0 / sizes[layer]) * (0.1 if layer == len(sizes) - 2 else 1.0)
        parts += [rng.normal(size=sizes[layer] * sizes[layer + 1]) * scale, np.zeros(sizes[layer + 1])]
    return np.concatenate(parts).astype(dtype)


@kernel
def forward(parameters: Floats, inputs: Floats, sizes: Ints, activation: int) -> list[Floats]:
    """Outputs of every layer for `inputs` (n_rows, n_in); the last one is the network's."""
    outputs = [inputs]
    at = 0
    for layer in range(len(sizes) - 1):
        n_in, n_out = sizes[layer], sizes[layer + 1]
        weights = parameters[at : at + n_in * n_out].reshape((n_in, n_out))
        biases = parameters[at + n_in * n_out : at + n_in * n_out + n_out]
        at += n_in * n_out + n_out
        values = np.dot(outputs[layer], weights)
        values += biases
        if layer < len(sizes) - 2:
            activate(values.reshape(-1), activation)
        outputs.append(values)
    return outputs


@kernel
def loss_and_gradient(
    parameters: Floats, inputs: Floats, targets: Floats, sizes: Ints, activation: int, gradient: Floats
) -> float:
    """Mean squared error over all cells of (n_rows, n_out), its gradient written to `gradient`."""
    outputs = forward(parameters, inputs, sizes, activation)
    flow = outputs[-1] - targets
    loss = 0.0
    cells = flow.reshape(-1)
    for i in range(cells.size):
        loss += cells[i] * cells[i]
    flow *= cells.dtype.type(2.0 / cells.size)
    stop = len(parameters)
    for layer in range(len(sizes) - 2, -1, -1):
        n_in, n_out = sizes[layer], sizes[layer + 1]
        start = stop - n_in * n_out - n_out
        by_bias = gradient[stop - n_out : stop]
        by_bias[:] = 0
        for row in range(flow.shape[0]):
            for j in range(n_out):
                by_bias[j] += flow[row, j]
        np.dot(outputs[layer].T, flow, gradient[start : stop - n_out].reshape((n_in, n_out)))
        if layer > 0:
            weights = parameters[start : stop - n_out].reshape((n_in, n_out))
            flow = np.dot(flow, weights.T)
            through_activation(flow.reshape(-1), outputs[layer].reshape(-1), activation)
        stop = start
    return loss / cells.size


@kernel
def train_epoch(
    parameters: Floats,
    moments: Floats,
    gradient: Floats,
    inputs: Floats,
    targets: Floats,
    order: Ints,
    sizes: Ints,
    activation: int,
    batch: int,
    rate: float,
    decay: float,
    step: int,
) -> tuple[float, int]:
    """One pass over rows in `order`, Adam (Kingma & Ba 2015) with decoupled weight decay.

    `moments` (2, n_parameters) and `parameters` are updated in place; returns the mean loss and the
    number of steps taken so far.
    """
    total = 0.0
    for start in range(0, len(order), batch):
        chosen = order[start : start + batch]
        loss = loss_and_gradient(parameters, inputs[chosen], targets[chosen], sizes, activation, gradient)
        total += loss * len(chosen)
        step += 1
        keep = np.sqrt(1.0 - 0.999**step) / (1.0 - 0.9**step)
        scaled_rate = gradient.dtype.type(rate * keep)
        shrink = gradient.dtype.type(1.0 - rate * decay)
        epsilon = gradient.dtype.type(1e-8 * np.sqrt(1.0 - 0.999**step))
        first, second = moments[0], moments[1]
        b1, b2, one = gradient.dtype.type(0.9), gradient.dtype.type(0.999), gradient.dtype.type(1.0)
        for i in range(len(parameters)):
            first[i] = b1 * first[i] + (one - b1) * gradient[i]
            second[i] = b2 * second[i] + (one - b2) * gradient[i] * gradient[i]
            parameters[i] = parameters[i] * shrink - scaled_rate * first[i] / (np.sqrt(second[i]) + epsilon)
    return total / max(len(order), 1), step


def network_output(parameters: Floats, inputs: Floats, sizes: Ints, activation: int) -> Floats:
    """The network's answer (n_rows, n_out)."""
    return forward(parameters, np.ascontiguousarray(inputs), sizes, activation)[-1]
