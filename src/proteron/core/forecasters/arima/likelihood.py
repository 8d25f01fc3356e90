"""The exact or conditional Gaussian likelihood of seasonal ARMA models with effects of columns, and its maximum."""

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.forecasters.arima.filters import whiten, whiten_conditional, whiten_gappy
from proteron.core.forecasters.arima.polynomials import expanded, from_partial, to_partial
from proteron.core.forecasters.minimise import GO_ON, bfgs_room, bfgs_tell
from proteron.core.forecasters.normal_equations import solve_normal
from proteron.core.panel import Floats

EXACT, GAPPY, CONDITIONAL = 0, 1, 2
_APART = 1e-6


@kernel
def natural(free: Floats, counts: tuple[int, int, int, int], stationary: bool, invertible: bool) -> Floats:
    """AR, MA, seasonal AR and seasonal MA coefficients from unbounded numbers, each kept within its region.

    Where that is not asked, autoregressions or moving averages are taken as they are.
    """
    out = free.copy()
    at = 0
    for part in range(4):
        size = counts[part]
        if size > 0 and (stationary if part % 2 == 0 else invertible):
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
def profiled(
    coefficients: Floats, counts: tuple[int, int, int, int], period: int, columns: Floats, gaps: int, way: int,
    count: int, white: Floats, effects: Floats,
) -> float:  # fmt: skip
    """Minus the log-likelihood without its constant, spread and effects of columns profiled out.

    `way` is exact, exact with values missing, or conditional on the first p values. `columns` (n, 1 + gaps + k): the
    values, one column per value filled in for a missing one (Gómez, Maravall & Peña 1999), covariates; `effects`
    (gaps + k,) are set; `count` values are known. Inf where nothing can be said.
    """
    ar, ma = polynomials(coefficients, counts, period)
    if way != CONDITIONAL and len(ar) and np.abs(to_partial(ar)).max() >= 1.0 - 1e-9:
        return np.inf
    if way == EXACT:
        logs = whiten(columns, ar, ma, white)
    elif way == GAPPY:
        logs = whiten_gappy(columns, ar, ma, white)
    else:
        logs = whiten_conditional(columns, ar, ma, white)
    if not logs < 1e100:
        return np.inf
    width = columns.shape[1] - 1
    inner, right, squares = np.zeros((width, width)), np.zeros(width), 0.0
    for t in range(len(white)):
        if white[t, 0] != white[t, 0]:
            white[t] = 0.0
            continue
        squares += white[t, 0] * white[t, 0]
        for i in range(width):
            right[i] += white[t, i + 1] * white[t, 0]
            for j in range(i + 1):
                inner[i, j] += white[t, i + 1] * white[t, j + 1]
    if width:
        sizes = np.empty(width)
        squares -= solve_normal(inner, right, sizes)
        if squares != squares:
            return np.inf
        logs += sizes[:gaps].sum()
        effects[:] = right
    if not squares > 0:
        squares = 1e-300
    return 0.5 * (count * np.log(squares / count) + logs)


@kernel
def maximise(
    free: Floats, counts: tuple[int, int, int, int], period: int, columns: Floats, gaps: int, way: int, count: int,
    stationary: bool, invertible: bool, tolerance: float, most: int,
) -> tuple[float, int]:  # fmt: skip
    """Minimise minus the log-likelihood from `free` on, in place; returns it and how often it was worked out.

    Slopes by differences.
    """
    size = len(free)
    white, effects = np.empty(columns.shape), np.empty(columns.shape[1] - 1)
    room = bfgs_room(size)
    gradient = np.zeros(size)
    best, lowest, calls, told = free.copy(), np.inf, 0, GO_ON
    while told == GO_ON and calls < most:
        value = 0.0
        for k in range(-1, size):
            at = free.copy()
            if k >= 0:
                at[k] += _APART
            coefficients = natural(at, counts, stationary, invertible)
            found = profiled(coefficients, counts, period, columns, gaps, way, count, white, effects)
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
