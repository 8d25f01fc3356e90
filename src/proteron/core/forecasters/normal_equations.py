"""Least squares by normal equations inside compiled code."""

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.panel import Floats

_SINGULAR = 1e-13


@kernel
def solve_normal(inner: Floats, right: Floats, logs: Floats) -> float:
    """Solve `inner` (k, k) x = `right` (k,), both overwritten, `right` by x; returns what the columns explain.

    Only the lower half of `inner` is read. `logs` (k,) get the logarithms of the squared diagonal of the Cholesky
    factor, whose sum is that of the determinant. NaN where the columns cannot be told apart.
    """
    size, explained = len(right), 0.0
    for i in range(size):
        for j in range(i + 1):
            part = inner[i, j]
            for k in range(j):
                part -= inner[i, k] * inner[j, k]
            if i == j:
                if not part > _SINGULAR * inner[i, i]:
                    return np.nan
                inner[i, i] = np.sqrt(part)
                logs[i] = np.log(part)
            else:
                inner[i, j] = part / inner[j, j]
        for k in range(i):
            right[i] -= inner[i, k] * right[k]
        right[i] /= inner[i, i]
        explained += right[i] * right[i]
    for i in range(size - 1, -1, -1):
        for k in range(i + 1, size):
            right[i] -= inner[k, i] * right[k]
        right[i] /= inner[i, i]
    return explained
