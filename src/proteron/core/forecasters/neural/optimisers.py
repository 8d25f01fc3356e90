"""How parameters move along a gradient."""

from typing import NamedTuple

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.panel import Floats


class Pace(NamedTuple):
    """How far a step goes: by Adam or momentum, its rate, what parameters decay by, the longest gradient (0: any)."""

    adam: bool
    rate: float
    decay: float
    clip: float


@kernel
def _clipped(gradient: Floats, clip: float) -> None:
    """Shorten a gradient to the length `clip` (Pascanu et al. 2013); 0 leaves it as it is."""
    square = 0.0
    for i in range(gradient.size):
        square += float(gradient[i]) * float(gradient[i])
    if clip > 0 and square > clip * clip:
        gradient *= gradient.dtype.type(clip / np.sqrt(square))


@kernel
def move(parameters: Floats, moments: Floats, gradient: Floats, pace: Pace, step: int) -> None:
    """One step of Adam with decoupled decay (Kingma & Ba 2015; Loshchilov & Hutter 2019), or of momentum 0.9, along
    the clipped gradient."""
    _clipped(gradient, pace.clip)
    number = gradient.dtype.type
    first, second = moments[0], moments[1]
    b1, b2, one = number(0.9), number(0.999), number(1.0)
    shrink = number(1.0 - pace.rate * pace.decay)
    if not pace.adam:
        slow = number(pace.rate)
        for i in range(parameters.size):
            first[i] = b1 * first[i] + gradient[i]
            parameters[i] = parameters[i] * shrink - slow * first[i]
        return
    scaled = number(pace.rate * np.sqrt(1.0 - 0.999**step) / (1.0 - 0.9**step))
    epsilon = number(1e-8 * np.sqrt(1.0 - 0.999**step))
    for i in range(parameters.size):
        first[i] = b1 * first[i] + (one - b1) * gradient[i]
        second[i] = b2 * second[i] + (one - b2) * gradient[i] * gradient[i]
        parameters[i] = parameters[i] * shrink - scaled * first[i] / (np.sqrt(second[i]) + epsilon)
