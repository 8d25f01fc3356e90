"""What was last known: plainly, or at the same phase of a cycle."""

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.panel import Floats
from proteron.core.timeline import Ints


@kernel
def previous_of_phase(values: Floats, period: int) -> Floats:
    """For every position up to one cycle beyond the end, the last known value of its phase before it.

    Returns (n_points + period,), NaN where the phase was never known; position i reads only i - period,
    i - 2 period and so on. With `period` 1 this is the last known value.
    """
    latest = np.full(period, np.nan)
    out = np.empty(len(values) + period)
    for i in range(len(out)):
        phase = i % period
        out[i] = latest[phase]
        if i < len(values) and not np.isnan(values[i]):
            latest[phase] = values[i]
    return out


def last_known(values: Floats, at: Ints) -> Floats:
    """The last value that is not missing before each of `at` places, NaN where there is none."""
    return previous_of_phase(np.ascontiguousarray(values), 1)[at]
