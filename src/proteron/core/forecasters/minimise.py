"""Quasi-Newton minimisation inside compiled code, by asking and telling, so that any kernel can be minimised."""

from collections.abc import Callable

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.panel import Floats

GO_ON, DONE, STUCK = 0, 1, 2
_SUFFICIENT = 1e-4
_CURVATURE = 1e-12
_CURVATURE_KNOWN = 2.0


@kernel
def bfgs_room(size: int) -> Floats:
    """What `bfgs_tell` remembers of a function of `size` variables, (size + 5, size + 5)."""
    room = np.zeros((size + 5, size + 5))
    room[size + 4, 4] = 1.0  # the first telling
    return room


@kernel
def bfgs_knows(room: Floats, inverse: Floats) -> None:
    """Say before the first telling what the inverse Hessian (size, size) is, roughly."""
    size = len(inverse)
    room[:size, :size] = inverse
    room[size + 4, 4] = _CURVATURE_KNOWN


@kernel
def bfgs_wants(room: Floats, value: float) -> bool:
    """Whether `bfgs_tell` will look at the gradient where a function has this value, or turn the step down without."""
    facts = room[len(room) - 1]
    return facts[4] > 0 or value < facts[0]


@kernel
def bfgs_tell(room: Floats, x: Floats, value: float, gradient: Floats, tolerance: float) -> int:
    """Tell what a function has at `x`, (size,), and have `x` set to where to look next.

    Returns `GO_ON`, `DONE` (two steps in a row gained less than `tolerance`, relative to 1 + |value|, or the
    gradient vanished), or `STUCK` (no step goes down); then `x` is the best place seen. BFGS updates of the inverse
    Hessian with backtracking by quadratic interpolation (Nocedal & Wright 2006, ch. 3 and 6). A value
    that is not finite is a step too far.
    """
    size = len(x)
    best, slope = room[size, :size], room[size + 1, :size]
    facts = room[size + 4]  # best value, step, slope along the direction, small gains in a row, first
    if facts[4] > 0:
        known = facts[4] == _CURVATURE_KNOWN
        facts[4] = 0.0
        if not np.isfinite(value):
            return STUCK
        facts[0] = value
        best[:], slope[:] = x, gradient
        if known:
            return _onwards(room, x)
        _start(room, x)
        return GO_ON if facts[2] < 0 else DONE
    if not np.isfinite(value) or value > facts[0] + _SUFFICIENT * facts[1] * facts[2]:
        return _nearer(room, x, value)
    gain = facts[0] - value
    _learn(room, x - best, gradient - slope)
    facts[3] = max(facts[3], 0.0) + 1.0 if gain < tolerance * (1.0 + np.abs(value)) else 0.0
    facts[0] = value
    best[:], slope[:] = x, gradient
    room[size + 3, 0] = 0.0
    if facts[3] >= 2 or np.abs(gradient).max() < 1e-9 * (1.0 + np.abs(value)):
        return DONE
    return _onwards(room, x)


@kernel
def _nearer(room: Floats, x: Floats, value: float) -> int:
    """Shorten a step that did not go down; where it is as good as none, go straight down once, or stop."""
    size = len(x)
    best, direction, facts = room[size, :size], room[size + 2, :size], room[size + 4]
    shorter = 0.25
    if np.isfinite(value):
        bend = value - facts[0] - facts[1] * facts[2]
        shorter = min(max(-0.5 * facts[1] * facts[2] / bend, 0.1), 0.5) if bend > 0 else 0.5
    facts[1] *= shorter
    if facts[1] * np.abs(direction).max() >= 1e-13 * (1.0 + np.abs(best).max()):
        x[:] = best + facts[1] * direction
        return GO_ON
    if room[size + 3, 0] == 0.0:
        _start(room, x)
        room[size + 3, 0] = 1.0
        return GO_ON if facts[2] < 0 else DONE
    x[:] = best
    return DONE


@kernel
def _learn(room: Floats, moved: Floats, turned: Floats) -> None:
    """Bring the inverse Hessian up to date with a step and how the slope turned on it."""
    size = len(moved)
    inverse, facts = room[:size, :size], room[size + 4]
    curvature = (moved * turned).sum()
    if curvature <= _CURVATURE * np.sqrt((moved * moved).sum() * (turned * turned).sum()):
        return
    if facts[3] < 0:  # the first step of all gives the scale
        for i in range(size):
            inverse[i, i] = curvature / (turned * turned).sum()
    image = np.zeros(size)
    for i in range(size):
        for j in range(size):
            image[i] += inverse[i, j] * turned[j]
    bend = (turned * image).sum()
    for i in range(size):
        for j in range(size):
            inverse[i, j] += (1.0 + bend / curvature) * moved[i] * moved[j] / curvature
            inverse[i, j] -= (image[i] * moved[j] + moved[i] * image[j]) / curvature


@kernel
def _onwards(room: Floats, x: Floats) -> int:
    """A whole step along what the inverse Hessian makes of the slope, or straight down where that does not go down."""
    size = len(x)
    inverse, slope, direction = room[:size, :size], room[size + 1, :size], room[size + 2, :size]
    facts = room[size + 4]
    for i in range(size):
        direction[i] = 0.0
        for j in range(size):
            direction[i] -= inverse[i, j] * slope[j]
    facts[1], facts[2] = 1.0, (direction * slope).sum()
    if facts[2] < 0:
        x[:] = room[size, :size] + direction
        return GO_ON
    _start(room, x)
    return GO_ON if facts[2] < 0 else DONE


@kernel
def _start(room: Floats, x: Floats) -> None:
    """Forget the curvature and go straight down by at most a tenth."""
    size = len(x)
    room[:size, :size] = 0.0
    for i in range(size):
        room[i, i] = 1.0
    slope, direction, facts = room[size + 1, :size], room[size + 2, :size], room[size + 4]
    direction[:] = -slope
    steep = np.sqrt((slope * slope).sum())
    facts[1] = min(1.0, 0.1 / steep) if steep > 0 else 1.0
    facts[2], facts[3] = -(slope * slope).sum(), -1.0
    x[:] = room[size, :size] + facts[1] * direction


def hessian(function: Callable[[Floats], float], point: Floats, steps: Floats) -> Floats:
    """Second derivatives (k, k) of a function of (k,) by central differences."""
    size = len(point)
    out = np.empty((size, size))
    for i in range(size):
        for j in range(i + 1):
            total = 0.0
            for one in (1, -1):
                for two in (1, -1):
                    moved = point.copy()
                    moved[i] += one * steps[i]
                    moved[j] += two * steps[j]
                    total += one * two * function(moved)
            out[i, j] = out[j, i] = total / (4 * steps[i] * steps[j])
    return out


def covariance_from(minus: Callable[[Floats], float], place: Floats, steps: Floats) -> Floats:
    """Covariance (k, k) of numbers where minus a log-likelihood of (k,) is smallest; NaN where its Hessian is singular.

    Second derivatives are central differences by `steps` (k,).
    """
    curvature = hessian(minus, place, steps)
    try:
        return np.asarray(np.linalg.inv(curvature)) if np.isfinite(curvature).all() else np.full_like(curvature, np.nan)
    except np.linalg.LinAlgError:
        return np.full_like(curvature, np.nan)


def errors_of(covariance: Floats) -> Floats:
    """Standard errors (k,) of numbers with this covariance (k, k); NaN where it has no variance for them."""
    spread = np.diag(covariance)
    return np.asarray(np.sqrt(np.where(spread > 0, spread, np.nan)))


def errors_from(minus: Callable[[Floats], float], place: Floats, steps: Floats) -> Floats:
    """Standard errors (k,) by `covariance_from`; NaN where the likelihood does not bend."""
    return errors_of(covariance_from(minus, place, steps))
