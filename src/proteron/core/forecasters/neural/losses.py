"""Losses of networks: what they cost, and their slopes by what the network says.

A network says `width` numbers of every step ahead: one for squared, absolute and Huber; for quantiles the middle one,
and how far each other lies beyond its neighbour towards the middle; for a normal distribution its mean and spread.
Where numbers must be above zero, the softplus ln(1 + e^x) of what is said counts, so that quantiles never cross.
"""

import math
from collections.abc import Sequence

import numpy as np
from scipy import special

from proteron.core.compiled import kernel
from proteron.core.panel import Floats

SQUARED, ABSOLUTE, HUBER, QUANTILES, GAUSSIAN, COUNTS = range(6)
CODES = {
    "squared": SQUARED, "absolute": ABSOLUTE, "huber": HUBER, "quantiles": QUANTILES, "gaussian": GAUSSIAN,
    "negative_binomial": COUNTS,
}  # fmt: skip
INVERSE_SOFTPLUS_OF_ONE = float(np.log(np.expm1(1.0)))
_SMALLEST_MEAN = 1e-6  # of a count
SMALLEST = 1e-4  # of a spread, so that no likelihood is infinite


def width_of(loss: str, levels: int) -> int:
    """Numbers a network says of one step."""
    return {"quantiles": levels, "gaussian": 2, "negative_binomial": 2}.get(loss, 1)


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
def _digamma(value: float) -> float:
    """The slope of the logarithm of Γ, value > 0, to 1e-10 (Abramowitz & Stegun 1964, 6.3.5 and 6.3.18)."""
    out = 0.0
    while value < 8:
        out -= 1 / value
        value += 1
    square = 1 / (value * value)
    return (
        out + math.log(value) - 0.5 / value
        - square * (1 / 12 - square * (1 / 120 - square * (1 / 252 - square * (1 / 240 - square / 132))))
    )  # fmt: skip


@kernel
def _counts(said: Floats, target: float, unit: float, weight: float, flow: Floats) -> float:
    """Minus the log likelihood of one count, negative binomial with the mean and dispersion that are said (Salinas et
    al. 2020, sec. 3.1); target and mean are told in `unit`. Weighted slopes into `flow`."""
    mean, count = softplus(said[0]) * unit + _SMALLEST_MEAN, target * unit
    dispersion = softplus(said[1]) + SMALLEST
    size = 1 / dispersion
    both = size + mean
    loss = (
        math.lgamma(size) + math.lgamma(count + 1) - math.lgamma(count + size)
        - size * math.log(size / both) - count * math.log(mean / both)
    )  # fmt: skip
    by_mean = (size + count) / both - count / mean
    by_size = (
        _digamma(size) - _digamma(count + size) - math.log(size / both) - 1 + (size + count) / both
    )  # fmt: skip
    flow[0] = weight * by_mean * unit * _slope_of_softplus(said[0])
    flow[1] = weight * by_size * -size * size * _slope_of_softplus(said[1])
    return loss


@kernel
def loss_and_flow(
    said: Floats, targets: Floats, weights: Floats, units: Floats, code: int, shares: Floats, flow: Floats
) -> float:  # fmt: skip
    """Weighted mean of losses over rows and steps; its gradient by `said` (n_rows, n_steps, width) into `flow`.

    `targets` (n_rows, n_steps), `weights` and, of counts, `units` (n_rows,) that targets are told in, `shares`
    (n_levels,) of quantiles; of Huber's loss the first of
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
            elif code == COUNTS:
                total += weight * _counts(said[row, step], target, units[row], weight, flow[row, step])
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


def softplus_of(said: Floats) -> Floats:
    """ln(1 + e^said), any shape."""
    return np.logaddexp(0.0, said)


def counted_ends(said: Floats, unit: float, ends: Sequence[tuple[float, float]]) -> Floats:
    """Ends of ranges of counts (n_levels, 2, n_rows, n_steps), from means and dispersions that repeats say (n_repeats,
    n_rows, n_steps, 2), told in `unit`; the distribution has the mean and the variance of their mixture."""
    means = softplus_of(said[..., 0]) * unit + _SMALLEST_MEAN
    variances = means + (softplus_of(said[..., 1]) + SMALLEST) * means**2
    mean = means.mean(axis=0)
    variance = variances.mean(axis=0) + means.var(axis=0)
    size = mean**2 / np.maximum(variance - mean, 1e-12 * mean**2)
    chance = size / (size + mean)
    found = [[special.nbdtrik(share, size, chance) for share in pair] for pair in ends]
    return np.ceil(np.maximum(np.nan_to_num(np.array(found)), 0.0) - 1e-9)
