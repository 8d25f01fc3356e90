"""How much the errors of a filter speak against points, blocks and steps, and which of these explain them best.

The filter that turns values into errors is a banded precision of the values: with Q = A' W A and g = A' W e, a block is
told from what both of its sides expect of it by g' Q^-1 g over the block, a chi-square of its length where all is well.
"""

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.panel import Floats
from proteron.core.timeline import Ints

NOTHING, POINT, STEP, BLOCK = 0, 1, 2, 3
POINT_PRICE, STEP_PRICE, BLOCK_PRICE, BLOCK_POINT_PRICE = 18.0, 16.0, 22.0, 5.0
STEP_AHEAD = 12  # points from which a step is told
APART = 2  # points between what is chosen
_GATE = 14.0  # evidence in five points, below which no block begins there
_HOPELESS = 40.0


@kernel
def point_evidence(errors: Floats, weights: Floats, taps: Ints, filter_: Floats) -> tuple[Floats, Floats]:
    """g and the diagonal of Q, (n_points,) each; `weights` are one over the squared spread, 0 where none is known."""
    n = len(errors)
    g, q = np.zeros(n), np.zeros(n)
    for t in range(n):
        for k in range(len(taps)):
            row = t + taps[k]
            if row < n:
                g[t] += filter_[k] * weights[row] * errors[row]
                q[t] += filter_[k] * filter_[k] * weights[row]
    return g, q


@kernel
def precision_between(t: int, apart: int, weights: Floats, taps: Ints, filter_: Floats) -> float:
    """Entry of Q between a point and one that lies `apart` later."""
    total = 0.0
    n = len(weights)
    for i in range(len(taps)):
        row = t + taps[i]
        if row >= n:
            break
        for j in range(len(taps)):
            if taps[i] - taps[j] == apart:
                total += filter_[i] * filter_[j] * weights[row]
    return total


@kernel
def step_evidence(errors: Floats, weights: Floats, response: Floats) -> tuple[Floats, Floats]:
    """Evidence that the level moves at each point, and how far; `response` (n,) is the filter's to a step of one."""
    n, ahead = len(errors), len(response)
    found, size = np.zeros(n), np.zeros(n)
    for t in range(n):
        above, below = 0.0, 0.0
        for k in range(min(ahead, n - t)):
            above += response[k] * errors[t + k] * weights[t + k]
            below += response[k] * response[k] * weights[t + k]
        if below > 0:
            found[t], size[t] = above * above / below, above / below
    return found, size


def step_response(taps: Ints, filter_: Floats, ahead: int) -> Floats:
    """What a filter makes of a step of one, (ahead,)."""
    return np.array([filter_[taps <= k].sum() for k in range(ahead)])


@kernel
def choose(  # noqa: C901
    g: Floats, q: Floats, weights: Floats, taps: Ints, filter_: Floats, steps: Floats, longest: int, strict: float
) -> tuple[Ints, Ints]:
    """Disjoint points, steps and blocks that explain most for their price, which is `strict` times the usual.

    Returns for every point what begins there (a kind) and where it ends.
    """
    n = len(g)
    own = np.zeros(n)
    for t in range(n):
        if q[t] > 0:
            own[t] = g[t] * g[t] / q[t]
    best = np.full(n + 1, -np.inf)
    kind, origin = np.zeros(n + 1, dtype=np.int64), np.zeros(n + 1, dtype=np.int64)
    stop = np.zeros(n + 1, dtype=np.int64)
    best[0] = 0.0
    factor, half = np.zeros((longest, longest)), np.zeros(longest)
    for t in range(n):
        if best[t] > best[t + 1]:
            best[t + 1], kind[t + 1], origin[t + 1], stop[t + 1] = best[t], NOTHING, t, t
        end = min(t + 1 + APART, n)
        if best[t] + own[t] - strict * POINT_PRICE > best[end]:
            best[end], kind[end], origin[end], stop[end] = best[t] + own[t] - strict * POINT_PRICE, POINT, t, t + 1
        if best[t] + steps[t] - strict * STEP_PRICE > best[end]:
            best[end], kind[end], origin[end], stop[end] = best[t] + steps[t] - strict * STEP_PRICE, STEP, t, t + 1
        near = 0.0
        for k in range(t, min(t + 5, n)):
            near += own[k]
        if near < _GATE * strict or own[t] < 2.0 or q[t] <= 0:
            continue
        evidence, cap, highest = 0.0, own[t - 1] if t > 0 else 0.0, -np.inf
        for size in range(min(longest, n - t)):
            row = t + size
            pivot = q[row] * (1 + 1e-9) + 1e-300
            for k in range(size):
                value = precision_between(t + k, size - k, weights, taps, filter_)
                for j in range(k):
                    value -= factor[size, j] * factor[k, j]
                factor[size, k] = value / factor[k, k]
                pivot -= factor[size, k] * factor[size, k]
            factor[size, size] = np.sqrt(max(pivot, 1e-9 * q[row] + 1e-300))
            value = g[row]
            for k in range(size):
                value -= factor[size, k] * half[k]
            half[size] = value / factor[size, size]
            evidence += half[size] * half[size]
            cap += own[row]
            beside = own[row + 1] if row + 1 < n else 0.0
            worth = min(evidence, cap + beside) - strict * (BLOCK_PRICE + BLOCK_POINT_PRICE * (size + 1))
            end = min(row + 1 + APART, n)
            if size > 0 and best[t] + worth > best[end]:
                best[end], kind[end], origin[end], stop[end] = best[t] + worth, BLOCK, t, row + 1
            highest = max(highest, worth)
            if worth < highest - strict * _HOPELESS:
                break
    kinds, ends = np.zeros(n, dtype=np.int64), np.zeros(n, dtype=np.int64)
    t = n
    while t > 0:
        if kind[t] != NOTHING:
            kinds[origin[t]], ends[origin[t]] = kind[t], stop[t]
        t = origin[t]
    return kinds, ends


@kernel
def precision(start: int, stop: int, weights: Floats, taps: Ints, filter_: Floats) -> Floats:
    """Q over a block, (n, n)."""
    size = stop - start
    out = np.zeros((size, size))
    for i in range(size):
        for j in range(i, size):
            out[i, j] = precision_between(start + i, j - i, weights, taps, filter_)
            out[j, i] = out[i, j]
    return out
