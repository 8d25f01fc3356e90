"""What every metric is: what it looks at, what it needs, how a mean of losses becomes the reported number."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import numpy as np

from proteron.core.panel import Floats

Need = Literal["scale", "square_scale", "ranges", "paths"]


@dataclass(frozen=True)
class Scored:
    """Forecasts beside what happened, (n_series, n_origins, horizon) each unless said otherwise.

    `truth` is NaN where nothing may be scored. `scale` and `square_scale` (n_series, 1, 1) are what errors of a naive
    forecast were, as of the cutoff. `lower` and `upper` (n_levels, …) are the ends of ranges at `levels`, `paths`
    (n_paths, …) joint futures, either None where there are none.
    """

    mean: Floats
    truth: Floats
    scale: Floats
    square_scale: Floats
    levels: tuple[float, ...] = ()
    lower: Floats | None = None
    upper: Floats | None = None
    paths: Floats | None = None

    @property
    def error(self) -> Floats:
        """Forecast minus truth."""
        return self.mean - self.truth

    def has(self, need: Need) -> bool:
        """Whether a need is met."""
        if need == "ranges":
            return self.lower is not None and len(self.levels) > 0
        return need != "paths" or self.paths is not None


def as_it_is(pooled: Floats) -> Floats:
    return pooled


@dataclass(frozen=True)
class Metric:
    """`loss` of every scored point, averaged over points and turned into the number reported by `report`.

    Undefined losses are NaN, never infinite and never zero. `unit` says what the reported number counts: the series'
    own unit, a pure number, percent, or a share; `nominal` is what a good one comes to where smaller is not better.
    """

    name: str
    title: str
    unit: Literal["series", "none", "percent", "share"]
    loss: Callable[[Scored], Floats]
    needs: frozenset[Need] = frozenset()
    report: Callable[[Floats], Floats] = as_it_is
    nominal: float | None = None
    undefined: str = "it is not defined there"  # why points may be missing that other metrics tell of

    @property
    def unit_free(self) -> bool:
        """Whether errors of series with different units can be compared."""
        return self.unit != "series"

    def of(self, scored: Scored) -> Floats:
        """Losses (n_series, n_origins, horizon), NaN where undefined; all of them where a need is not met."""
        if not all(scored.has(need) for need in self.needs):
            return np.full(scored.truth.shape, np.nan)
        with np.errstate(invalid="ignore", divide="ignore"):
            found = self.loss(scored)
        return np.where(np.isfinite(found), found, np.nan)
