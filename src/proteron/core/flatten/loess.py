"""Local regression of a regular series."""

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.panel import Floats


@kernel
def _moments_at(
    values: Floats, weights: Floats, x: float, window: int
) -> tuple[float, float, float, float, float, float]:
    """Weighted moments of distance and value around `x`, and the weight of the point at `x` itself."""
    size = len(values)
    span = min(window, size)
    start = min(max(int(np.floor(x)) - (span - 1) // 2, 0), size - span)
    while start + span < size and x - start > start + span - x:
        start += 1
    reach = max(x - start, start + span - 1 - x)
    if window > size:
        reach += (window - size) // 2
    reach = max(reach, 1.0)
    m0, m1, m2, y0, y1, own = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    for j in range(start, start + span):
        d = j - x
        cube = min(abs(d) / reach, 1.0)
        cube = 1.0 - cube * cube * cube
        weight = weights[j] * cube * cube * cube
        m0 += weight
        m1 += weight * d
        m2 += weight * d * d
        y0 += weight * values[j]
        y1 += weight * d * values[j]
        if abs(d) < 0.5:
            own = weight
    return m0, m1, m2, y0, y1, own


@kernel
def _fit_at(values: Floats, weights: Floats, x: float, window: int) -> tuple[float, float]:
    """Locally linear value at `x` and the weight the point at `x` itself has in it (its leverage).

    The `window` nearest points count, by tricube weights times `weights`; the window is doubled until
    something in it has a weight. NaN when nothing has.
    """
    while True:
        m0, m1, m2, y0, y1, own = _moments_at(values, weights, x, window)
        if m0 > 1e-12:
            break
        if window > 4 * len(values):
            return np.nan, np.nan
        window = 2 * window + 1
    spread = m2 * m0 - m1 * m1
    if spread <= 1e-6 * m0 * m0:
        return y0 / m0, own / m0
    return (m2 * y0 - m1 * y1) / spread, own * m2 / spread


@kernel
def loess(values: Floats, weights: Floats, window: int, jump: int, before: int, after: int) -> tuple[Floats, float]:
    """Locally linear regression (Cleveland 1979) at -before … n - 1 + after, and the trace of the smoother.

    `values` (n_points,) must be finite where `weights` is not zero. The fit is computed at every
    `jump`th point and the last, straight lines between. Returns (n_points + before + after,).
    """
    size = len(values) + before + after
    out = np.empty(size)
    trace, fits = 0.0, 0
    at = 0
    out[0], own = _fit_at(values, weights, -float(before), window)
    if before == 0:
        trace += own
        fits += 1
    while at < size - 1:
        step = min(jump, size - 1 - at)
        out[at + step], own = _fit_at(values, weights, float(at + step - before), window)
        if 0 <= at + step - before < len(values):
            trace += own
            fits += 1
        for k in range(1, step):
            out[at + k] = out[at] + (out[at + step] - out[at]) * k / step
        at += step
    return out, trace / max(fits, 1) * len(values)
