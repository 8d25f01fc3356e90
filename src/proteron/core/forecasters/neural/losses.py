"""Losses of networks: what they cost, and their slopes by what the network says.

A network says `width` numbers of every step ahead: one for squared, absolute and Huber; for quantiles the lowest and
what each is above the one before; for a normal distribution its mean and spread. Where numbers must be above zero, the
softplus ln(1 + e^x) of what is said counts, so that quantiles never cross.
"""

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.panel import Floats

SQUARED, ABSOLUTE, HUBER, QUANTILES, GAUSSIAN = range(5)
CODES = {"squared": SQUARED, "absolute": ABSOLUTE, "huber": HUBER, "quantiles": QUANTILES, "gaussian": GAUSSIAN}
_SMALLEST = 1e-4  # of a spread, so that no likelihood is infinite


def width_of(loss: str, levels: int) -> int:
    """Numbers a network says of one step."""
    return {"quantiles": levels, "gaussian": 2}.get(loss, 1)


@kernel
def softplus(value: float) -> float:
    """ln(1 + e^value), without overflow."""
    return max(value, 0.0) + np.log1p(np.exp(-abs(value)))


@kernel
def _slope_of_softplus(value: float) -> float:
    return 1 / (1 + np.exp(-value))


@kernel
def loss_and_flow(
    said: Floats, targets: Floats, weights: Floats, code: int, shares: Floats, flow: Floats
) -> float:  # fmt: skip
    """Weighted mean of losses over rows and steps; its gradient by `said` (n_rows, n_steps, width) into `flow`.

    `targets` (n_rows, n_steps), `weights` (n_rows,), `shares` (n_levels,) of quantiles; of Huber's loss the first of
    them is where it becomes a line.
    """
    rows, steps, width = said.shape
    total, mass = 0.0, 0.0
    for row in range(rows):
        mass += weights[row]
    each = 1.0 / (mass * steps) if mass > 0 else 0.0
    for row in range(rows):
        weight = weights[row] * each
        for step in range(steps):
            target = float(targets[row, step])
            if code == QUANTILES:
                value = 0.0
                by_value = np.zeros(width)
                for level in range(width):
                    value += said[row, step, level] if level == 0 else softplus(said[row, step, level])
                    error = target - value
                    total += weight * error * (shares[level] if error >= 0 else shares[level] - 1)
                    by_value[level] = -shares[level] if error >= 0 else 1 - shares[level]
                slope = 0.0
                for level in range(width - 1, -1, -1):
                    slope += by_value[level]
                    bent = 1.0 if level == 0 else _slope_of_softplus(said[row, step, level])
                    flow[row, step, level] = weight * slope * bent
            elif code == GAUSSIAN:
                spread = softplus(said[row, step, 1]) + _SMALLEST
                error = (said[row, step, 0] - target) / spread
                total += weight * (0.5 * error * error + np.log(spread))
                flow[row, step, 0] = weight * error / spread
                flow[row, step, 1] = weight * (1 - error * error) / spread * _slope_of_softplus(said[row, step, 1])
            else:
                error = said[row, step, 0] - target
                size = abs(error)
                if code == SQUARED:
                    total += weight * error * error
                    flow[row, step, 0] = 2 * weight * error
                elif code == ABSOLUTE or size > shares[0]:
                    bound = shares[0] if code == HUBER else 1.0
                    total += weight * (bound * size - 0.5 * bound * bound if code == HUBER else size)
                    flow[row, step, 0] = weight * bound * (1.0 if error > 0 else (-1.0 if error < 0 else 0.0))
                else:
                    total += weight * 0.5 * error * error
                    flow[row, step, 0] = weight * error
    return total


@kernel
def quantiles_of(said: Floats) -> Floats:
    """Quantiles (n, n_levels), rising, of what was said of them."""
    out = np.empty(said.shape)
    for row in range(said.shape[0]):
        value = 0.0
        for level in range(said.shape[1]):
            value += said[row, level] if level == 0 else softplus(said[row, level])
            out[row, level] = value
    return out
