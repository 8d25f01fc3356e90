"""Polynomials of ARMA models: 1 - φ₁B - φ₂B² … and 1 + θ₁B + θ₂B² …; `ar` (p,) and `ma` (q,) hold φ and θ."""

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.panel import Floats


@kernel
def expanded(plain: Floats, seasonal: Floats, period: int, sign: float) -> Floats:
    """Coefficients of the product of two polynomials with terms `sign` × coefficient × B^lag, (p + P × period,)."""
    out = np.zeros(len(plain) + len(seasonal) * period)
    out[: len(plain)] = plain
    for j in range(len(seasonal)):
        lag = (j + 1) * period
        out[lag - 1] += seasonal[j]
        for i in range(len(plain)):
            out[lag + i] += sign * seasonal[j] * plain[i]
    return out


@kernel
def from_partial(partial: Floats) -> Floats:
    """AR coefficients (p,) with these partial autocorrelations: stationary where all lie within ±1 (Monahan 1984)."""
    out = partial.copy()
    row = np.empty(len(partial))
    for k in range(1, len(partial)):
        row[:k] = out[:k]
        for i in range(k):
            out[i] = row[i] - partial[k] * row[k - 1 - i]
    return out


@kernel
def to_partial(ar: Floats) -> Floats:
    """Partial autocorrelations of AR coefficients (p,), the inverse of `from_partial`."""
    out = ar.copy()
    row = np.empty(len(ar))
    for k in range(len(ar) - 1, 0, -1):
        last = out[k]
        row[:k] = out[:k]
        for i in range(k):
            out[i] = (row[i] + last * row[k - 1 - i]) / (1.0 - last * last)
    return out


@kernel
def impulses(ar: Floats, ma: Floats, count: int) -> Floats:
    """Weights of past errors in a value, ψ₀ … (count,)."""
    out = np.zeros(count)
    for j in range(count):
        total = 1.0 if j == 0 else (ma[j - 1] if j <= len(ma) else 0.0)
        for i in range(min(j, len(ar))):
            total += ar[i] * out[j - 1 - i]
        out[j] = total
    return out


@kernel
def autocovariances(ar: Floats, ma: Floats, count: int) -> Floats:
    """Autocovariances γ(0) … (count,) of a stationary ARMA process (Brockwell & Davis 1991, § 3.3)."""
    p, q = len(ar), len(ma)
    psi = impulses(ar, ma, q + 1)
    right = np.zeros(max(p, q) + 1)
    for k in range(q + 1):
        for i in range(k, q + 1):
            right[k] += (1.0 if i == 0 else ma[i - 1]) * psi[i - k]
    out = np.zeros(max(count, p + 1))
    if p == 0:
        for k in range(min(count, q + 1)):
            out[k] = right[k]
        return out[:count]
    left = np.zeros((p + 1, p + 1))
    for k in range(p + 1):
        left[k, k] += 1.0
        for i in range(p):
            left[k, abs(k - i - 1)] -= ar[i]
    solved = right[: p + 1].copy()
    _solve(left, solved)
    out[: p + 1] = solved
    for k in range(p + 1, count):
        total = right[k] if k <= q else 0.0
        for i in range(p):
            total += ar[i] * out[k - 1 - i]
        out[k] = total
    return out[:count]


@kernel
def _solve(left: Floats, right: Floats) -> None:
    """Solve left x = right by elimination with row exchange, `right` becoming x; NaN where it is singular."""
    size = len(left)
    for k in range(size):
        pivot = k
        for i in range(k + 1, size):
            if abs(left[i, k]) > abs(left[pivot, k]):
                pivot = i
        if not abs(left[pivot, k]) > 1e-300:
            right[:size] = np.nan
            return
        if pivot != k:
            for j in range(k, size):
                left[k, j], left[pivot, j] = left[pivot, j], left[k, j]
            right[k], right[pivot] = right[pivot], right[k]
        for i in range(k + 1, size):
            factor = left[i, k] / left[k, k]
            if factor != 0.0:
                for j in range(k + 1, size):
                    left[i, j] -= factor * left[k, j]
                right[i] -= factor * right[k]
    for k in range(size - 1, -1, -1):
        for j in range(k + 1, size):
            right[k] -= left[k, j] * right[j]
        right[k] /= left[k, k]
