"""How often the truth lay inside a range: good when it comes to the range's level."""

import numpy as np

from proteron.core.judge.metrics.metric import Metric, Scored
from proteron.core.panel import Floats


def coverage(level: float) -> Metric:
    """Coverage of the ranges at `level`; undefined where a forecaster gives none."""

    def inside(scored: Scored) -> Floats:
        assert scored.lower is not None and scored.upper is not None
        if level not in scored.levels:
            return np.full(scored.truth.shape, np.nan)
        at = scored.levels.index(level)
        low, high = scored.lower[at], scored.upper[at]
        known = np.isfinite(scored.truth) & np.isfinite(low) & np.isfinite(high)
        return np.where(known, (scored.truth >= low) & (scored.truth <= high), np.nan)

    name = f"coverage_{level * 100:g}"
    return Metric(
        name, f"in {level * 100:g} %", "share", inside, frozenset({"ranges"}), nominal=level,
        undefined="there are no ranges",
    )  # fmt: skip


COVERAGE_80, COVERAGE_95 = coverage(0.8), coverage(0.95)
