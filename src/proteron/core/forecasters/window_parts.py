"""What a forecast from windows is made of, by what its features read."""

from collections.abc import Sequence

import numpy as np

from proteron.core.panel import Floats
from proteron.core.windows import CalendarCycle, Feature

_READS = {"fourier": "season", "occasion": "occasions", "static": "who it is"}


def by_source(
    features: Sequence[Feature], told: Sequence[tuple[Floats, float]], spread: float, level: float
) -> dict[str, Floats]:
    """Parts by name, (n_steps,) each, from what each feature adds at every step, (n_features,), and what an average
    window is forecast as, both in spreads from the level."""
    names = [_read_by(feature) for feature in features for _ in feature.names]
    shares = np.array([each for each, _ in told]) * spread
    out = {"level": np.array([average for _, average in told]) * spread + level}
    for name in dict.fromkeys(names):
        out[name] = shares[:, [each == name for each in names]].sum(axis=1)
    return out


def _read_by(feature: Feature) -> str:
    """What a feature reads, in words: the series itself, the calendar, a column."""
    if isinstance(feature, CalendarCycle):
        return feature.field.replace("_", " ")
    return feature.columns[0] if feature.columns else _READS.get(feature.kind, "its own past")
