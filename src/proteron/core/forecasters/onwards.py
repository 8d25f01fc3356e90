"""How trends go on beyond what was learned."""

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.panel import Floats

FADINGS = (1.0, 0.98, 0.9, 0.7, 0.0)  # tried


def faded(places: Floats, end: float, fading: float) -> Floats:
    """Places in time (n,): beyond `end` each step is `fading` times the one before, the first included."""
    beyond = np.maximum(places - end, 0.0)
    if fading != 1:
        beyond = fading * (1 - fading**beyond) / (1 - fading)
    return np.asarray(np.minimum(places, end) + beyond)


@kernel
def carried(left: Floats, follow: float, keep: float) -> Floats:
    """What is carried on before each point of what is left (n,), and after the last, (n + 1,); NaN tells nothing."""
    out = np.zeros(len(left) + 1)
    for t in range(len(left)):
        level = keep * out[t]
        if left[t] == left[t]:
            level += follow * (left[t] - level)
        out[t + 1] = level
    return out
