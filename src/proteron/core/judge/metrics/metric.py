"""What every metric is: the losses it is told from, how they are pooled, and what is reported of them."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import numpy as np

from proteron.core.panel import Floats

Need = Literal["scale", "square_scale", "ranges", "paths", "density"]
Yardstick = Literal["size", "spread", "adjusted_naive"]
Pooling = Literal["mean", "median", "largest"]
Unit = Literal["series", "square", "none", "percent", "share"]


@dataclass(frozen=True)
class Scored:
    """Forecasts beside what happened, (n_series, n_origins, horizon) each unless said otherwise.

    `truth` is NaN where nothing may be scored. `scale` and `square_scale` (n_series, 1, 1) are what errors of a naive
    forecast were, as of the cutoff. `lower` and `upper` (n_levels, …) are the ends of ranges at `levels`, `paths`
    (n_paths, …) joint futures, `log_density` the log of the density at the truth, each None where there are none;
    `last` (n_series, n_origins, 1) the last known value at each origin.
    """

    mean: Floats
    truth: Floats
    scale: Floats
    square_scale: Floats
    levels: tuple[float, ...] = ()
    lower: Floats | None = None
    upper: Floats | None = None
    paths: Floats | None = None
    last: Floats | None = None
    log_density: Floats | None = None

    @property
    def error(self) -> Floats:
        """Forecast minus truth."""
        return self.mean - self.truth

    def has(self, need: Need) -> bool:
        """Whether a need is met."""
        if need == "ranges":
            return self.lower is not None and len(self.levels) > 0
        if need == "density":
            return self.log_density is not None
        return need != "paths" or self.paths is not None


def as_it_is(pooled: Floats) -> Floats:
    return pooled


@dataclass(frozen=True)
class Loss:
    """One number of every scored point, as it is kept; several metrics may be told from it.

    Undefined ones are NaN, never infinite and never zero.
    """

    name: str
    at: Callable[[Scored], Floats]
    needs: frozenset[Need] = frozenset()

    def of(self, scored: Scored) -> Floats:
        """Losses (n_series, n_origins, horizon), NaN where undefined; all of them where a need is not met."""
        if not all(scored.has(need) for need in self.needs):
            return np.full(scored.truth.shape, np.nan)
        with np.errstate(invalid="ignore", divide="ignore"):
            found = self.at(scored)
        return np.where(np.isfinite(found), found, np.nan)


@dataclass(frozen=True)
class Metric:
    """What is reported of `loss` over many points: its mean, median or largest, turned into a number by `report`.

    Where a `yardstick` is named, the mean loss is told beside the mean of the yardstick over the same points, by
    `relate`. `point` turns what is kept into what is averaged. `unit` says what the number counts: the series' own unit
    or its square, a pure number, percent, or a share. Smaller is better, unless a `nominal` is named that a good one
    comes to, or `larger` is better. Where `ratios` say nothing, as of what may be negative, skill is not told by it.
    """

    name: str
    title: str
    unit: Unit
    loss: Loss
    formula: str
    source: str
    report: Callable[[Floats], Floats] = as_it_is
    nominal: float | None = None
    larger: bool = False
    ratios: bool = True
    undefined: str = "it is not defined there"  # why points may be missing that other metrics tell of
    point: Callable[[Floats], Floats] = as_it_is
    pooling: Pooling = "mean"
    yardstick: Yardstick | None = None
    relate: Callable[[Floats, Floats], Floats] | None = None

    @property
    def unit_free(self) -> bool:
        """Whether errors of series with different units can be compared."""
        return self.unit not in ("series", "square")

    @property
    def tells_skill(self) -> bool:
        """Whether skill can be told by it: smaller is better, and it is made of means."""
        return self.nominal is None and not self.larger and self.pooling == "mean" and self.ratios

    @property
    def power(self) -> float:
        """With which power of the mean loss the reported number goes, of those that tell skill: 1, or 1/2 of a root."""
        mean = np.array([1.0, 4.0])
        one, four = self.told(mean, np.ones(2))
        return float(np.log(four / one) / np.log(4.0))

    def of(self, scored: Scored) -> Floats:
        """What is averaged, of every point (n_series, n_origins, horizon), NaN where undefined."""
        return self.point(self.loss.of(scored))

    def told(self, mean: Floats, yardstick: Floats | None = None) -> Floats:
        """The reported number for a mean loss, and the mean of the yardstick over the same points; NaN if undefined."""
        with np.errstate(invalid="ignore", divide="ignore"):
            if self.relate is None:
                return np.asarray(self.report(mean))
            assert yardstick is not None
            return np.asarray(np.where(yardstick > 0, self.relate(mean, yardstick), np.nan))
