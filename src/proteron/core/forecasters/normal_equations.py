"""Least squares by normal equations inside compiled code."""

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.panel import Floats

_SINGULAR = 1e-13


@kernel
def invert(inner: Floats, inverse: Floats) -> None:
    """Invert a Gram matrix (k, k), of which the lower half is read; a column that adds nothing stands by itself."""
    size = len(inner)
    factor, lower = np.zeros((size, size)), np.zeros((size, size))
    for i in range(size):
        for j in range(i + 1):
            part = inner[i, j]
            for k in range(j):
                part -= factor[i, k] * factor[j, k]
            if i != j:
                factor[i, j] = part / factor[j, j]
            elif part > _SINGULAR * inner[i, i]:
                factor[i, i] = np.sqrt(part)
            else:
                factor[i, :i] = 0.0
                factor[i, i] = np.sqrt(inner[i, i]) if inner[i, i] > 0 else 1.0
    for j in range(size):
        lower[j, j] = 1.0 / factor[j, j]
        for i in range(j + 1, size):
            for k in range(j, i):
                lower[i, j] -= factor[i, k] * lower[k, j]
            lower[i, j] /= factor[i, i]
    for i in range(size):
        for j in range(i + 1):
            inverse[i, j] = 0.0
            for k in range(i, size):
                inverse[i, j] += lower[k, i] * lower[k, j]
            inverse[j, i] = inverse[i, j]


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
