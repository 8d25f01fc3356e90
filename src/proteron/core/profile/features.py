"""One row of numbers per series: what a panel consists of, to sort, filter and pick from."""

from collections.abc import Iterator
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from proteron.core.errors import ProteronError
from proteron.core.flatten.decomposition import decompose
from proteron.core.flatten.piecewise_trend import find_knots
from proteron.core.panel import Floats, Panel
from proteron.core.profile.assessment import TESTED, run_tests, transform_advice
from proteron.core.profile.correlogram import acf
from proteron.core.profile.shape import block_of
from proteron.core.profile.spectrum import candidate_periods
from proteron.core.profile.strengths import (
    intermittency,
    level_shift,
    lumpiness,
    spectral_entropy,
    strengths_of,
    variance_shift,
)

VERSION = 1


@dataclass(frozen=True)
class SeriesFeatures:
    """What one series is; NaN where a number is undefined. Tests appear by their p-values."""

    key: str
    points: int
    known: int
    missing: int
    zeros: float
    mean: float
    spread: float
    last: float
    trend: float
    seasons: dict[int, float]
    entropy: float
    autocorrelation: float
    lumpiness: float
    level_shift: float
    variance_shift: float
    breaks: int
    periods: tuple[float, ...]
    transform: str
    exponent: float
    demand: str
    p_values: dict[str, float]
    verdict: str

    def document(self) -> dict[str, Any]:
        """As JSON data, NaN as None."""

        def plain(value: Any) -> Any:
            if isinstance(value, dict):
                return {str(name): plain(each) for name, each in value.items()}
            if isinstance(value, list | tuple):
                return [plain(each) for each in value]
            return None if isinstance(value, float) and not np.isfinite(value) else value

        document: dict[str, Any] = plain(asdict(self))
        return document


def panel_features(panel: Panel) -> Iterator[SeriesFeatures]:
    """The features of every series of `panel`, in order; the caller cuts it at the cutoff first."""
    for index in range(len(panel)):
        yield series_features(panel, index)


def series_features(panel: Panel, index: int) -> SeriesFeatures:
    """The features of one series; tests and periods look at its last 4,000 points."""
    values = np.ascontiguousarray(panel.series(index))
    present = np.isfinite(values)
    known = values[present]
    season = panel.axis.step.season
    block = block_of(season)
    recent = values[-TESTED:]
    tests = run_tests(recent, season)
    periods = panel.axis.step.seasons
    trend, seasons, knots = np.nan, {}, 0
    if len(known) >= 8:
        parts = decompose(values, periods)
        found = strengths_of(values, parts)
        trend, seasons = found.trend, found.seasons
        calm = values - sum((season.path for season in parts.seasons), np.zeros(len(values)))
        knots = len(find_knots(np.flatnonzero(present).astype(np.float64), calm[present]))
    transform, exponent = transform_advice(values, block)
    demand, _, _ = intermittency(values)
    return SeriesFeatures(
        key=panel.keys[index],
        points=len(values),
        known=len(known),
        missing=len(values) - len(known),
        zeros=float((known == 0).mean()) if len(known) else np.nan,
        mean=float(known.mean()) if len(known) else np.nan,
        spread=float(known.std()) if len(known) else np.nan,
        last=float(known[-1]) if len(known) else np.nan,
        trend=trend,
        seasons=seasons,
        entropy=spectral_entropy(recent),
        autocorrelation=_first_correlation(recent),
        lumpiness=lumpiness(values, block),
        level_shift=level_shift(values, block),
        variance_shift=variance_shift(values, block),
        breaks=knots,
        periods=tuple(each.period for each in candidate_periods(recent, expected=periods)),
        transform=transform,
        exponent=np.nan if exponent is None else exponent,
        demand=demand,
        p_values={test.name: test.p_value for test in tests.tests},
        verdict=tests.verdict,
    )


def _first_correlation(values: Floats) -> float:
    try:
        correlations = acf(values, 1)
    except ProteronError:
        return np.nan
    return float(correlations[1]) if len(correlations) > 1 else np.nan
