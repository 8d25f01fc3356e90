"""The exact Gaussian likelihood of ARMA models, by filters.

Polynomials are 1 - φ₁B - φ₂B² … and 1 + θ₁B + θ₂B² …; `ar` (p,) and `ma` (q,) hold φ and θ. Errors have unit variance.
"""

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.forecasters.minimise import GO_ON, bfgs_room, bfgs_tell
from proteron.core.panel import Floats

_SETTLED = 1e-14


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


@kernel
def whiten(columns: Floats, ar: Floats, ma: Floats, white: Floats) -> float:
    """Standardised one-step errors of every column (n, c) under an ARMA model, into `white`; returns Σ log variance.

    Nothing may be missing. Chandrasekhar recursions (Morf, Sidhu & Kailath 1974) from the stationary start: the
    covariance of the state grows by one outer product a step, so that only vectors are carried.
    """
    p, q = len(ar), len(ma)
    size = max(p, q + 1)
    width = columns.shape[1]
    phi, theta = np.zeros(size), np.zeros(size)
    phi[:p] = ar
    theta[0] = 1.0
    theta[1 : q + 1] = ma
    gamma = autocovariances(ar, ma, size + 1)
    psi = impulses(ar, ma, size)
    shared = np.zeros(size + 1)  # covariance of the state with the value
    shared[0] = gamma[0]
    for i in range(1, size):
        for j in range(i, size):
            shared[i] += phi[j] * gamma[1 + j - i] + theta[j] * psi[j - i]
    variance = gamma[0]
    gain, step = np.empty(size), np.empty(size + 1)
    for i in range(size):
        gain[i] = phi[i] * shared[0] + shared[i + 1]
    step[:size] = gain
    step[size] = 0.0
    middle = -1.0 / variance
    state = np.zeros((size + 1, width))
    total, settled = 0.0, False
    for t in range(len(columns)):
        total += np.log(variance)
        root = 1.0 / np.sqrt(variance)
        for c in range(width):
            seen = state[0, c]
            error = columns[t, c] - seen
            white[t, c] = error * root
            scaled = error / variance
            for i in range(size):
                state[i, c] = phi[i] * seen + state[i + 1, c] + gain[i] * scaled
        if not settled:
            front = step[0]
            push = front * middle
            before = variance
            variance += front * push
            ratio = front / before
            for i in range(size):
                moved = phi[i] * front + step[i + 1]
                step[i] = moved - gain[i] * ratio
                gain[i] += moved * push
            middle -= push * push / variance
            settled = (
                abs(front * push) < _SETTLED * variance and np.abs(step[:size]).max() ** 2 * abs(middle) < _SETTLED
            )
    return total


@kernel
def whiten_gappy(columns: Floats, ar: Floats, ma: Floats, white: Floats) -> float:
    """As `whiten`, where values of the first column may be missing: NaN there in all columns of `white`."""
    p, q = len(ar), len(ma)
    size = max(p, q + 1)
    width = columns.shape[1]
    phi, theta = np.zeros(size), np.zeros(size)
    phi[:p] = ar
    theta[0] = 1.0
    theta[1 : q + 1] = ma
    spread = start_covariance(ar, ma)
    state, gain = np.zeros((size + 1, width)), np.empty(size)
    room = np.zeros((size + 1, size + 1))
    total = 0.0
    for t in range(len(columns)):
        known = columns[t, 0] == columns[t, 0]
        if known:
            variance = spread[0, 0]
            total += np.log(variance)
            root = 1.0 / np.sqrt(variance)
            for i in range(size):
                gain[i] = spread[i, 0] / variance
            for c in range(width):
                error = columns[t, c] - state[0, c]
                white[t, c] = error * root
                for i in range(size):
                    state[i, c] += gain[i] * error
            for i in range(size):
                for j in range(size):
                    room[i, j] = spread[i, j] - gain[i] * gain[j] * variance
        else:
            white[t] = np.nan
            room[:size, :size] = spread
        for c in range(width):
            seen = state[0, c]
            for i in range(size):
                state[i, c] = phi[i] * seen + state[i + 1, c]
        for i in range(size):
            for j in range(size):
                spread[i, j] = (
                    phi[i] * phi[j] * room[0, 0] + phi[i] * room[0, j + 1] + phi[j] * room[i + 1, 0]
                    + room[i + 1, j + 1] + theta[i] * theta[j]
                )  # fmt: skip
    return total


@kernel
def start_covariance(ar: Floats, ma: Floats) -> Floats:
    """Covariance (r, r) of the stationary state: value, and what later values owe to the past (Gardner 1980)."""
    p, q = len(ar), len(ma)
    size = max(p, q + 1)
    phi, theta = np.zeros(size + 1), np.zeros(size + 1)
    phi[:p] = ar
    theta[0] = 1.0
    theta[1 : q + 1] = ma
    gamma = autocovariances(ar, ma, size + 1)
    psi = impulses(ar, ma, size + 1)
    out = np.zeros((size, size))
    out[0, 0] = gamma[0]
    for i in range(1, size):
        for j in range(i, size):
            out[i, 0] += phi[j] * gamma[1 + j - i] + theta[j] * psi[j - i]
        out[0, i] = out[i, 0]
    for i in range(size - 1, 0, -1):  # from the last entry upwards, as P = T P Tʹ + R Rʹ holds entry by entry
        for j in range(size - 1, i - 1, -1):
            later = out[i + 1, j + 1] if j + 1 < size else 0.0
            ahead = (out[0, j + 1] if j + 1 < size else 0.0, out[i + 1, 0] if i + 1 < size else 0.0)
            out[i, j] = phi[i] * phi[j] * gamma[0] + phi[i] * ahead[0] + phi[j] * ahead[1] + later + theta[i] * theta[j]
            out[j, i] = out[i, j]
    return out


@kernel
def conditional_errors(values: Floats, ar: Floats, ma: Floats, errors: Floats) -> float:
    """Errors (n,) given that all before the first `len(ar)` values was nothing; returns their squares' mean."""
    p, q = len(ar), len(ma)
    total = 0.0
    errors[: min(p, len(values))] = 0.0
    for t in range(p, len(values)):
        error = values[t]
        for i in range(p):
            error -= ar[i] * values[t - 1 - i]
        for j in range(min(q, t)):
            error -= ma[j] * errors[t - 1 - j]
        errors[t] = error
        total += error * error
        if not total < 1e100:
            return np.inf
    return total / max(len(values) - p, 1)


@kernel
def natural(free: Floats, counts: tuple[int, int, int, int], enforced: bool) -> Floats:
    """AR, MA, seasonal AR and seasonal MA coefficients from unbounded numbers, each kept within its region.

    With `enforced` false the moving averages are taken as they are.
    """
    out = free.copy()
    at = 0
    for part in range(4):
        size = counts[part]
        if size > 0 and (enforced or part % 2 == 0):
            inside = from_partial(np.tanh(free[at : at + size]))
            out[at : at + size] = inside if part % 2 == 0 else -inside
        at += size
    return out


@kernel
def polynomials(coefficients: Floats, counts: tuple[int, int, int, int], period: int) -> tuple[Floats, Floats]:
    """The whole AR and MA polynomials of coefficients in the order AR, MA, seasonal AR, seasonal MA."""
    p, q, seasonal_p = counts[0], counts[1], counts[2]
    ar = expanded(coefficients[:p], coefficients[p + q : p + q + seasonal_p], period, -1.0)
    ma = expanded(coefficients[p : p + q], coefficients[p + q + seasonal_p :], period, 1.0)
    return ar, ma


@kernel
def profiled(  # noqa: C901
    coefficients: Floats, counts: tuple[int, int, int, int], period: int, columns: Floats, gaps: int, gappy: bool,
    count: int, white: Floats, effects: Floats,
) -> float:  # fmt: skip
    """Minus the exact log-likelihood without its constant, spread and effects of columns profiled out.

    `columns` (n, 1 + gaps + k): the values, one column per value filled in for a missing one (Gómez, Maravall &
    Peña 1999), covariates; `effects` (gaps + k,) are set; `count` values are known. Inf where nothing can be said.
    """
    ar, ma = polynomials(coefficients, counts, period)
    if len(ar) and np.abs(to_partial(ar)).max() >= 1.0 - 1e-9:
        return np.inf
    logs = whiten_gappy(columns, ar, ma, white) if gappy else whiten(columns, ar, ma, white)
    if not logs < 1e100:
        return np.inf
    width = columns.shape[1] - 1
    squares = 0.0
    if gappy:
        for t in range(len(white)):
            if white[t, 0] != white[t, 0]:
                white[t] = 0.0
    for t in range(len(white)):
        squares += white[t, 0] * white[t, 0]
    if width:
        inner, right = np.zeros((width, width)), np.zeros(width)
        for t in range(len(white)):
            for i in range(width):
                right[i] += white[t, i + 1] * white[t, 0]
                for j in range(i + 1):
                    inner[i, j] += white[t, i + 1] * white[t, j + 1]
        for i in range(width):  # Cholesky, in place
            for j in range(i + 1):
                part = inner[i, j]
                for k in range(j):
                    part -= inner[i, k] * inner[j, k]
                if i == j:
                    if part <= 1e-13 * inner[i, i]:
                        return np.inf
                    inner[i, i] = np.sqrt(part)
                else:
                    inner[i, j] = part / inner[j, j]
            for k in range(i):
                right[i] -= inner[i, k] * right[k]
            right[i] /= inner[i, i]
            squares -= right[i] * right[i]
            if i < gaps:
                logs += 2.0 * np.log(inner[i, i])
        for i in range(width - 1, -1, -1):
            for k in range(i + 1, width):
                right[i] -= inner[k, i] * right[k]
            right[i] /= inner[i, i]
        effects[:] = right
    if not squares > 0:
        squares = 1e-300
    return 0.5 * (count * np.log(squares / count) + logs)


@kernel
def maximise(
    free: Floats, counts: tuple[int, int, int, int], period: int, columns: Floats, gaps: int, gappy: bool, count: int,
    conditional: bool, enforced: bool, tolerance: float, most: int,
) -> tuple[float, int]:  # fmt: skip
    """Minimise minus the log-likelihood, or the conditional squares of the first column, from `free` on, in place.

    Slopes by differences. Returns the value and how often the function was worked out.
    """
    size = len(free)
    white, effects = np.empty(columns.shape), np.empty(columns.shape[1] - 1)
    errors = np.empty(len(columns))
    values = columns[:, 0].copy()
    room = bfgs_room(size)
    gradient = np.zeros(size)
    best, lowest, calls, told = free.copy(), np.inf, 0, GO_ON
    while told == GO_ON and calls < most:
        value = 0.0
        for k in range(-1, size):
            at = free.copy()
            if k >= 0:
                at[k] += _APART
            coefficients = natural(at, counts, enforced)
            if conditional:
                ar, ma = polynomials(coefficients, counts, period)
                found = 0.5 * count * np.log(max(conditional_errors(values, ar, ma, errors), 1e-300))
            else:
                found = profiled(coefficients, counts, period, columns, gaps, gappy, count, white, effects)
            calls += 1
            if k < 0:
                value = found
                if not value < room[size + 4, 0] and room[size + 4, 4] == 0.0:
                    break  # it will be turned down, so its slope is not needed
            else:
                gradient[k] = (found - value) / _APART
                if not np.isfinite(gradient[k]):
                    gradient[k] = 0.0
        if value < lowest:
            lowest = value
            best[:] = free
        told = bfgs_tell(room, free, value, gradient, tolerance)
    free[:] = best
    return lowest, calls


_APART = 1e-6


@kernel
def states(columns: Floats, ar: Floats, ma: Floats, kept: Floats) -> None:  # noqa: C901
    """Predicted states before each point of the first column and after the last, into (n + 1, r); NaN is missing."""
    size = kept.shape[1]
    phi, theta = np.zeros(size), np.zeros(size)
    phi[: len(ar)] = ar
    theta[0] = 1.0
    theta[1 : len(ma) + 1] = ma
    spread = start_covariance(ar, ma)
    state, gain = np.zeros(size + 1), np.empty(size)
    room = np.zeros((size + 1, size + 1))
    settled = False
    for t in range(len(columns)):
        kept[t] = state[:size]
        value = columns[t, 0]
        if value == value:
            variance = spread[0, 0]
            for i in range(size):
                gain[i] = spread[i, 0] / variance
            error = value - state[0]
            for i in range(size):
                state[i] += gain[i] * error
            settled = settled or abs(variance - 1.0) < 1e-12
            if not settled:
                for i in range(size):
                    for j in range(size):
                        room[i, j] = spread[i, j] - gain[i] * gain[j] * variance
        else:
            if settled:
                settled = False
            room[:size, :size] = spread
        seen = state[0]
        for i in range(size):
            state[i] = phi[i] * seen + state[i + 1]
        if not settled:
            for i in range(size):
                for j in range(size):
                    spread[i, j] = (
                        phi[i] * phi[j] * room[0, 0] + phi[i] * room[0, j + 1] + phi[j] * room[i + 1, 0]
                        + room[i + 1, j + 1] + theta[i] * theta[j]
                    )  # fmt: skip
    kept[len(columns)] = state[:size]


@kernel
def ahead(
    kept: Floats, ar: Floats, undone: Floats, values: Floats, at: int, means: Floats
) -> None:  # fmt: skip
    """Means (horizon,) after `at` points of `values`: the state's own, summed up again.

    `kept` (r,) is the predicted state; `undone` (lost,) are the coefficients δ of 1 - δ₁B - δ₂B² …, the differences.
    """
    size, lost = len(kept), len(undone)
    state = np.zeros(size + 1)
    state[:size] = kept
    for h in range(len(means)):
        mean = state[0]
        for i in range(lost):
            back = h - 1 - i
            mean += undone[i] * (means[back] if back >= 0 else values[at + back])
        means[h] = mean
        seen = state[0]
        for i in range(size):
            state[i] = (ar[i] * seen if i < len(ar) else 0.0) + state[i + 1]
