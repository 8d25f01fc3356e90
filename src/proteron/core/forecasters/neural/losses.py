"""Losses of networks: what they cost, and their slopes by what the network says.

A network says `width` numbers of every step ahead: one for squared, absolute and Huber; for quantiles the middle one,
and how far each other lies beyond its neighbour towards the middle; for a normal distribution its mean and spread.
Where numbers must be above zero, the softplus ln(1 + e^x) of what is said counts, so that quantiles never cross.
"""

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.panel import Floats

SQUARED, ABSOLUTE, HUBER, QUANTILES, GAUSSIAN = range(5)
CODES = {"squared": SQUARED, "absolute": ABSOLUTE, "huber": HUBER, "quantiles": QUANTILES, "gaussian": GAUSSIAN}
SMALLEST = 1e-4  # of a spread, so that no likelihood is infinite


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
def spread_out(said: Floats, out: Floats) -> None:
    """Quantiles (n_levels,), rising, of what was said of them."""
    middle = len(said) // 2
    out[middle] = said[middle]
    for level in range(middle + 1, len(said)):
        out[level] = out[level - 1] + softplus(said[level])
    for level in range(middle - 1, -1, -1):
        out[level] = out[level + 1] - softplus(said[level])


@kernel
def _quantiles(said: Floats, target: float, shares: Floats, weight: float, flow: Floats) -> float:
    """Sum of pinball losses (Koenker & Bassett 1978) of one step's quantiles; their weighted slopes into `flow`."""
    width, middle, total = len(said), len(said) // 2, 0.0
    values, by_value = np.empty(width), np.empty(width)
    spread_out(said, values)
    for level in range(width):
        error = target - values[level]
        total += error * (shares[level] if error >= 0 else shares[level] - 1)
        by_value[level] = -shares[level] if error >= 0 else 1 - shares[level]
    above, below = 0.0, 0.0
    for level in range(width - 1, middle, -1):
        above += by_value[level]
        flow[level] = weight * above * _slope_of_softplus(said[level])
    for level in range(middle):
        below += by_value[level]
        flow[level] = -weight * below * _slope_of_softplus(said[level])
    flow[middle] = weight * (above + below + by_value[middle])
    return total


@kernel
def loss_and_flow(
    said: Floats, targets: Floats, weights: Floats, code: int, shares: Floats, flow: Floats
) -> float:  # fmt: skip
    """Weighted mean of losses over rows and steps; its gradient by `said` (n_rows, n_steps, width) into `flow`.

    `targets` (n_rows, n_steps), `weights` (n_rows,), `shares` (n_levels,) of quantiles; of Huber's loss the first of
    them is where it becomes a line.
    """
    rows, steps, _ = said.shape
    total, mass = 0.0, 0.0
    for row in range(rows):
        mass += weights[row]
    each = 1.0 / (mass * steps) if mass > 0 else 0.0
    for row in range(rows):
        weight = weights[row] * each
        for step in range(steps):
            target = float(targets[row, step])
            if code == QUANTILES:
                total += weight * _quantiles(said[row, step], target, shares, weight, flow[row, step])
            elif code == GAUSSIAN:
                spread = softplus(said[row, step, 1]) + SMALLEST
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
        spread_out(said[row], out[row])
    return out


@kernel
def spreads_of(said: Floats) -> Floats:
    """Spreads (n,) of what was said of them."""
    out = np.empty(said.shape)
    for row in range(said.size):
        out[row] = softplus(said[row]) + SMALLEST
    return out
