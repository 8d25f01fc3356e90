"""Filters of ARMA models with errors of unit variance: one-step errors, states, forecasts."""

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.forecasters.arima.polynomials import autocovariances, impulses
from proteron.core.panel import Floats

_SETTLED = 1e-14
_STEADY = 1e-12


@kernel
def padded(ar: Floats, ma: Floats) -> tuple[Floats, Floats]:
    """Both polynomials' coefficients as long as the state, (r,): φ₁ …, and 1, θ₁ …."""
    size = max(len(ar), len(ma) + 1)
    phi, theta = np.zeros(size), np.zeros(size)
    phi[: len(ar)] = ar
    theta[0] = 1.0
    theta[1 : len(ma) + 1] = ma
    return phi, theta


@kernel
def moved(phi: Floats, theta: Floats, room: Floats, spread: Floats) -> None:
    """The covariance (r, r) of the state one step on, from that in `room` (r + 1, r + 1), whose last row is zero."""
    size = len(phi)
    for i in range(size):
        for j in range(size):
            spread[i, j] = (
                phi[i] * phi[j] * room[0, 0] + phi[i] * room[0, j + 1] + phi[j] * room[i + 1, 0]
                + room[i + 1, j + 1] + theta[i] * theta[j]
            )  # fmt: skip


@kernel
def whiten(columns: Floats, ar: Floats, ma: Floats, white: Floats) -> float:
    """Standardised one-step errors of every column (n, c) under an ARMA model, into `white`; returns Σ log variance.

    Nothing may be missing. Chandrasekhar recursions (Morf, Sidhu & Kailath 1974) from the stationary start: the
    covariance of the state grows by one outer product a step, so that only vectors are carried.
    """
    phi, theta = padded(ar, ma)
    size, width = len(phi), columns.shape[1]
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
    phi, theta = padded(ar, ma)
    size, width = len(phi), columns.shape[1]
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
        moved(phi, theta, room, spread)
    return total


@kernel
def start_covariance(ar: Floats, ma: Floats) -> Floats:
    """Covariance (r, r) of the stationary state: value, and what later values owe to the past (Gardner 1980)."""
    phi, theta = padded(ar, ma)
    size = len(phi)
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
def whiten_conditional(columns: Floats, ar: Floats, ma: Floats, white: Floats) -> float:
    """As `whiten`, given the first p rows, whose errors count as none; nothing need be stationary. Returns 0 or inf."""
    p, q = len(ar), len(ma)
    for c in range(columns.shape[1]):
        total = 0.0
        for t in range(len(columns)):
            error = 0.0
            if t >= p:
                error = columns[t, c]
                for i in range(p):
                    error -= ar[i] * columns[t - 1 - i, c]
                for j in range(min(q, t)):
                    error -= ma[j] * white[t - 1 - j, c]
            white[t, c] = error
            total += error * error
        if not total < 1e100:
            return np.inf
    return 0.0


@kernel
def states(values: Floats, ar: Floats, ma: Floats, kept: Floats) -> None:
    """Predicted states (n + 1, r) before each value of a stationary series and after the last; NaN is missing."""
    phi, theta = padded(ar, ma)
    size = len(phi)
    spread = start_covariance(ar, ma)
    state, gain = np.zeros(size + 1), np.empty(size)
    room = np.zeros((size + 1, size + 1))
    settled = False
    for t in range(len(values)):
        kept[t] = state[:size]
        known = values[t] == values[t]
        if known:
            variance = spread[0, 0]
            for i in range(size):
                gain[i] = spread[i, 0] / variance
            error = values[t] - state[0]
            for i in range(size):
                state[i] += gain[i] * error
            settled = settled or abs(variance - 1.0) < _STEADY
        if not known or not settled:
            for i in range(size):
                for j in range(size):
                    room[i, j] = spread[i, j] - (gain[i] * gain[j] * variance if known else 0.0)
        seen = state[0]
        for i in range(size):
            state[i] = phi[i] * seen + state[i + 1]
        if not known or not settled:
            moved(phi, theta, room, spread)
            settled = False
    kept[len(values)] = state[:size]


@kernel
def conditional_states(values: Floats, ar: Floats, ma: Floats, kept: Floats) -> None:
    """As `states` where nothing need be stationary: errors of the first p values and of missing ones count as none."""
    phi, theta = padded(ar, ma)
    size = len(phi)
    state = np.zeros(size + 1)
    for t in range(len(values)):
        kept[t] = state[:size]
        value = values[t] if values[t] == values[t] else state[0]
        error = value - state[0] if t >= len(ar) else 0.0
        for i in range(size):
            state[i] = phi[i] * value + state[i + 1] + (theta[i + 1] * error if i + 1 < size else 0.0)
    kept[len(values)] = state[:size]


@kernel
def level_states(  # noqa: C901
    values: Floats, ar: Floats, ma: Floats, undone: Floats, diffuse: float, kept: Floats
) -> None:  # fmt: skip
    """States (n + 1, r + lost) of a series with gaps whose differences are ARMA, exact whatever is missing.

    The state: that of the differenced series, then the last `lost` values, as they are expected from what was known
    by then (Harvey 1989, § 3.3). `undone` (lost,) are the coefficients of the differences; a value missing among the
    first `lost` begins at the next one known, with variance `diffuse`. Rows before `lost` are NaN.
    """
    phi, theta = padded(ar, ma)
    size, lost = len(phi), len(undone)
    whole = size + lost
    seen = np.zeros(whole)
    seen[0] = 1.0
    seen[size:] = undone
    state, after = np.zeros(whole), np.empty(whole)
    spread, room = np.zeros((whole, whole)), np.zeros((whole, whole))
    spread[:size, :size] = start_covariance(ar, ma)
    for i in range(lost):
        place = lost - 1 - i
        if values[place] != values[place]:
            spread[size + i, size + i] = diffuse
            while place < len(values) - 1 and values[place] != values[place]:
                place += 1
        state[size + i] = values[place] if values[place] == values[place] else 0.0
    kept[:lost] = np.nan
    gain, settled = np.zeros(whole), False
    for t in range(lost, len(values)):
        kept[t] = state
        known = values[t] == values[t]
        if known:
            if not settled:
                variance = 0.0
                for i in range(whole):
                    gain[i] = 0.0
                    for j in range(whole):
                        gain[i] += spread[i, j] * seen[j]
                for i in range(whole):
                    variance += seen[i] * gain[i]
                for i in range(whole):
                    for j in range(whole):
                        spread[i, j] -= gain[i] * gain[j] / variance
                for i in range(whole):
                    gain[i] /= variance
            error = values[t]
            for i in range(whole):
                error -= seen[i] * state[i]
            for i in range(whole):
                state[i] += gain[i] * error
        level = 0.0
        for i in range(whole):
            level += seen[i] * state[i]
        for i in range(size):
            after[i] = phi[i] * state[0] + (state[i + 1] if i + 1 < size else 0.0)
        for i in range(lost - 1, 0, -1):
            after[size + i] = state[size + i - 1]
        if lost:
            after[size] = level
        state, after = after, state
        if known and settled:
            continue
        _transported(spread, phi, seen, size, lost, room)
        _transported(room, phi, seen, size, lost, spread)
        for i in range(size):
            for j in range(size):
                spread[i, j] += theta[i] * theta[j]
        settled = False
        if known and abs(variance - 1.0) < _STEADY:
            settled = True
            for i in range(lost):
                settled = settled and spread[size + i, size + i] < _STEADY
    kept[len(values)] = state


@kernel
def _transported(spread: Floats, phi: Floats, seen: Floats, size: int, lost: int, out: Floats) -> None:
    """The transpose of the transition times `spread`; twice over, the covariance one step on."""
    whole = size + lost
    for c in range(whole):
        for i in range(size):
            out[c, i] = phi[i] * spread[0, c] + (spread[i + 1, c] if i + 1 < size else 0.0)
        for i in range(lost - 1, 0, -1):
            out[c, size + i] = spread[size + i - 1, c]
        if lost:
            total = 0.0
            for j in range(whole):
                total += seen[j] * spread[j, c]
            out[c, size] = total


@kernel
def ahead(kept: Floats, ar: Floats, undone: Floats, before: Floats, means: Floats) -> None:
    """Means (horizon,) after a predicted state (r,), summed up again.

    `before` (lost,) are the last values, newest first; `undone` (lost,) are δ of 1 - δ₁B - δ₂B² …, the differences.
    """
    size, lost = len(kept), len(undone)
    state = np.zeros(size + 1)
    state[:size] = kept
    for h in range(len(means)):
        mean = state[0]
        for i in range(lost):
            mean += undone[i] * (means[h - 1 - i] if h > i else before[i - h])
        means[h] = mean
        seen = state[0]
        for i in range(size):
            state[i] = (ar[i] * seen if i < len(ar) else 0.0) + state[i + 1]
