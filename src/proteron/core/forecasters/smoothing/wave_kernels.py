"""Passes of smoothing with turning waves, the start that fits them best, and maximising over the rest.

The state and what it is moved by are told in `pass_waves`.
"""

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.forecasters.arima.polynomials import from_partial
from proteron.core.forecasters.minimise import GO_ON, bfgs_room, bfgs_tell, bfgs_wants
from proteron.core.forecasters.normal_equations import solve_normal
from proteron.core.panel import Floats

_APART = 1e-6
_GROWS, _GROWS_AS_TIME = 1.02, 2.2  # late over early effect on the errors; more is a start that is never forgotten
_NEVER = 1e9


@kernel
def pass_waves(  # noqa: C901
    values: Floats, numbers: Floats, turns: Floats, gammas: Floats, ar: Floats, ma: Floats, sloped: bool,
    begin: Floats, zero: bool, errors: Floats, kept: Floats,
) -> None:  # fmt: skip
    """One-step errors (n,) from a start (size,); `kept` (n + 1, size), or with no rows, gets the states.

    `numbers` are level and slope weights and damping, `gammas` (k, 2) the weights of each wave. The state: level, slope
    where `sloped`, both halves of each wave, the last p disturbances, the last q errors. With `zero`, values count as
    nothing where they are known, which gives what a start does to the errors. NaN is missing.
    """
    p, q, waves = len(ar), len(ma), len(turns)
    first = 2 if sloped else 1
    after = first + 2 * waves
    alpha, beta, phi = numbers[0], numbers[1], numbers[2]
    cosines, sines = np.cos(turns), np.sin(turns)
    state = begin.copy()
    for t in range(len(values)):
        if t < len(kept):
            kept[t] = state
        base = state[0] + (phi * state[1] if sloped else 0.0)
        mean = base
        for k in range(waves):
            mean += state[first + 2 * k]
        pushed = 0.0
        for i in range(p):
            pushed += ar[i] * state[after + i]
        for i in range(q):
            pushed += ma[i] * state[after + p + i]
        mean += pushed
        value = values[t]
        error = 0.0
        if value == value:
            error = (0.0 if zero else value) - mean
            errors[t] = error
        else:
            errors[t] = 0.0
        moved = pushed + error
        state[0] = base + alpha * moved
        if sloped:
            state[1] = phi * state[1] + beta * moved
        for k in range(waves):
            here, there = state[first + 2 * k], state[first + 2 * k + 1]
            state[first + 2 * k] = cosines[k] * here + sines[k] * there + gammas[k, 0] * moved
            state[first + 2 * k + 1] = cosines[k] * there - sines[k] * here + gammas[k, 1] * moved
        for i in range(p - 1, 0, -1):
            state[after + i] = state[after + i - 1]
        if p:
            state[after] = moved
        for i in range(q - 1, 0, -1):
            state[after + p + i] = state[after + p + i - 1]
        if q:
            state[after + p] = error
    if len(kept) > len(values):
        kept[len(values)] = state


@kernel
def wave_numbers(
    free: Floats, trend: int, turns: Floats, owners: Floats, seasons: int, p: int, q: int
) -> tuple[Floats, Floats, Floats, Floats]:
    """Weights (3,), weights of each wave (k, 2), AR and MA from unbounded numbers.

    A season's two weights act on its waves along and across what the level leaves of them, and before they turn: there
    the first need only be above zero for any wave to be forgotten, while weights after the turn, as in the paper,
    would have to differ from wave to wave.
    """
    numbers = np.zeros(3)
    numbers[0] = 1.0 / (1.0 + np.exp(-free[0]))
    numbers[2] = 1.0
    at = 1
    if trend:
        numbers[1] = numbers[0] / (1.0 + np.exp(-free[at]))
        at += 1
    if trend == 2:
        numbers[2] = 0.8 + 0.2 / (1.0 + np.exp(-free[at]))
        at += 1
    gammas = np.empty((len(owners), 2))
    for k in range(len(owners)):
        place = at + 2 * int(owners[k])
        along, across = 0.5 / (1.0 + np.exp(-free[place])), 0.5 * np.tanh(0.1 * free[place + 1])
        lag = _left_of_wave(turns[k], numbers)
        ahead, aside = lag.real * along - lag.imag * across, lag.real * across + lag.imag * along
        cosine, sine = np.cos(turns[k]), np.sin(turns[k])
        gammas[k, 0], gammas[k, 1] = cosine * ahead + sine * aside, cosine * aside - sine * ahead
    at += 2 * seasons
    ar = from_partial(np.tanh(free[at : at + p]))
    ma = -from_partial(np.tanh(free[at + p : at + p + q]))
    return numbers, gammas, ar, ma


@kernel
def _left_of_wave(turn: float, numbers: Floats) -> complex:
    """Which way what level and slope leave of a wave lies from it, as a complex number of size one."""
    alpha, beta, phi = numbers[0], numbers[1], numbers[2]
    back = np.exp(-1j * turn)
    still = (1.0 - back) * (1.0 - phi * back)
    left = still / (still + alpha * back * (1.0 - phi * back) + phi * beta * back)
    return left / abs(left)


@kernel
def start_of_waves(
    values: Floats, numbers: Floats, turns: Floats, gammas: Floats, ar: Floats, ma: Floats, sloped: bool,
    begin: Floats, room: Floats,
) -> float:  # fmt: skip
    """The start (seeds of `begin`) with the smallest squares, and these; inf where some start is never forgotten.

    The model is linear in its start, so this is least squares on what a unit of each part of it does (n, seeds).
    """
    seeds = room.shape[1] - 1
    nothing = np.empty((0, len(begin)))
    begin[:] = 0.0
    pass_waves(values, numbers, turns, gammas, ar, ma, sloped, begin, False, room[:, 0], nothing)
    half, quarter = len(values) // 2, len(values) - len(values) // 4
    for i in range(seeds):
        begin[i] = 1.0
        pass_waves(values, numbers, turns, gammas, ar, ma, sloped, begin, True, room[:, 1 + i], nothing)
        begin[i] = 0.0
        early, late = 0.0, 0.0
        for t in range(len(values)):
            size = abs(room[t, 1 + i])
            if not size < _NEVER:
                return np.inf
            if t < half:
                early = max(early, size)
            elif t >= quarter:
                late = max(late, size)
        if late > (_GROWS_AS_TIME if sloped and i < 2 else _GROWS) * early:
            return np.inf
    inner, right, squares = np.zeros((seeds, seeds)), np.zeros(seeds), 0.0
    for t in range(len(values)):
        squares += room[t, 0] * room[t, 0]
        for i in range(seeds):
            right[i] -= room[t, 1 + i] * room[t, 0]
            for j in range(i + 1):
                inner[i, j] += room[t, 1 + i] * room[t, 1 + j]
    explained = solve_normal(inner, right, np.empty(seeds))
    if explained != explained:
        return np.inf
    begin[:seeds] = right
    return max(squares - explained, 1e-300)


@kernel
def maximise_waves(
    values: Floats, turns: Floats, owners: Floats, seasons: int, trend: int, p: int, q: int, count: int,
    free: Floats, begin: Floats, most: int,
) -> float:  # fmt: skip
    """Minimise half the count times the logarithm of the mean square from `free` on, in place; `begin` is set."""
    size = len(free)
    seeds = len(begin) - p - q
    table = np.empty((len(values), seeds + 1))
    room, gradient = bfgs_room(size), np.zeros(size)
    best, lowest, told, steps = free.copy(), np.inf, GO_ON, 0
    while told == GO_ON and steps < most:
        value = 0.0
        for k in range(-1, size):
            at = free.copy()
            if k >= 0:
                at[k] += _APART
            numbers, gammas, ar, ma = wave_numbers(at, trend, turns, owners, seasons, p, q)
            squares = start_of_waves(values, numbers, turns, gammas, ar, ma, trend > 0, begin, table)
            found = 0.5 * count * np.log(squares / count)
            if k < 0:
                value = found
                if not bfgs_wants(room, value):
                    break
            else:
                gradient[k] = (found - value) / _APART if np.isfinite(found) else 0.0
        if value < lowest:
            lowest = value
            best[:] = free
        told = bfgs_tell(room, free, value, gradient, 1e-9)
        steps += 1
    free[:] = best
    numbers, gammas, ar, ma = wave_numbers(free, trend, turns, owners, seasons, p, q)
    start_of_waves(values, numbers, turns, gammas, ar, ma, trend > 0, begin, table)
    return lowest
