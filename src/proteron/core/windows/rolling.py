"""Rolling statistics of the target over the last points up to and including the origin."""

from typing import Any, Literal

import numpy as np
from numpy.typing import ArrayLike
from pydantic import Field, model_validator

from proteron.core.errors import SettingsError
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints, Step, TimeAxis
from proteron.core.windows.feature import PLAIN, SPREAD, VALUE, Feature, Rows, Unit
from proteron.core.windows.rolling_kernels import (
    gapless_extremes,
    known_moments,
    rolling_extremes,
    rolling_moments,
    rolling_quantile,
    rolling_share,
    rolling_slope,
)

Statistic = Literal["mean", "std", "sum", "min", "max", "median", "quantile", "slope", "above", "below"]
_NEEDS_LEVEL = ("quantile", "above", "below")


class Rolling(Feature):
    """A statistic of the last `window` points; missing unless `least` of them are known (by default all)."""

    kind: Literal["rolling"] = "rolling"
    statistic: Statistic = Field(title="Statistic")
    window: int = Field(ge=1, title="Window", description="Points up to and including the origin.")
    level: float | None = Field(None, title="Level", description="Of a quantile; or what is counted above, below.")
    least: int | None = Field(None, ge=1, title="Least known", description="Points that must be known; nothing: all.")

    def __init__(self, statistic: Any = None, window: Any = None, **rest: Any) -> None:
        super().__init__(**{"statistic": statistic, "window": window, **rest})

    @model_validator(mode="after")
    def _settings_fit_the_statistic(self) -> "Rolling":
        if self.statistic in ("std", "slope") and self.window < 2:
            raise ValueError(
                f"a {'slope' if self.statistic == 'slope' else 'standard deviation'} needs a window of at least 2"
            )
        if (self.level is None) == (self.statistic in _NEEDS_LEVEL):
            raise ValueError(f"a level belongs to {', '.join(_NEEDS_LEVEL)}, and they need one")
        if self.statistic == "quantile" and not 0 <= (self.level or 0.0) <= 1:
            raise ValueError("the level of a quantile lies between 0 and 1")
        if self.least is not None and self.least > self.window:
            raise ValueError("more points must be known than the window has")
        if self.least is not None and self.statistic == "slope":
            raise ValueError("a slope needs all points of its window")
        return self

    @property
    def names(self) -> tuple[str, ...]:
        """Names of the columns this writes."""
        level = "" if self.level is None else f" {self.level:g}"
        known = "" if self.least is None else f" of {self.least}"
        return (f"{self.statistic}{level} {self.window}{known}",)

    @property
    def unit_bound(self) -> bool:
        """Whether it means something else once values are centred and scaled."""
        # A sum of more or fewer known points moves by another number of levels each time.
        return self.statistic in ("above", "below") or (self.statistic == "sum" and self.least is not None)

    @property
    def may_be_missing(self) -> bool:
        """Whether a cell can be undefined although all it reads is known."""
        return self.least is not None

    @property
    def units(self) -> tuple[Unit, ...]:
        """How each column follows its series when values are centred and scaled."""
        if self.statistic in ("above", "below"):
            return (PLAIN,)
        if self.statistic in ("std", "slope"):
            return (SPREAD,)
        return (Unit(moves=self.window) if self.statistic == "sum" else VALUE,)

    @property
    def look_back(self) -> int:
        """Points up to and including the origin that are read."""
        return self.window if self.least is None else self.least

    def source_of(self, column: int) -> tuple[int, int]:
        """First and last step relative to the origin that one column reads."""
        return (1 - self.window, 0)

    def write(self, out: Floats, rows: Rows) -> None:
        """Fill `out` (n_rows, n_columns) for the given rows; missing cells become NaN."""
        out[:, 0] = self._whole(rows)[rows.points]

    def _whole(self, rows: Rows) -> Floats:
        """The statistic at every point of the panel."""
        values, offsets, window = rows.panel.values, rows.panel.offsets, self.window
        least = window if self.least is None else self.least
        if self.statistic in ("mean", "std", "sum"):
            return self._moments(rows)
        if self.statistic in ("min", "max"):
            found = rows.once(("extremes", window, least), lambda: extremes(values, offsets, window, least))
            return np.asarray(found[self.statistic == "max"])
        if self.statistic == "slope":
            return rolling_slope(values, offsets, window)
        if self.statistic in ("above", "below"):
            return rolling_share(values, offsets, window, float(self.level or 0.0), self.statistic == "above", least)
        level = 0.5 if self.statistic == "median" else float(self.level or 0.0)
        return rolling_quantile(values, offsets, window, level, least)

    def _moments(self, rows: Rows) -> Floats:
        values, offsets, window = rows.panel.values, rows.panel.offsets, self.window
        if self.least is None:
            means, squares = rows.once(("moments", window), lambda: rolling_moments(values, offsets, window))
            counts: Any = window
        else:
            least = self.least
            means, squares, counts = rows.once(
                ("moments", window, least), lambda: known_moments(values, offsets, window, least)
            )
        if self.statistic == "mean":
            return np.asarray(means)
        if self.statistic == "sum":
            return np.asarray(means * counts)
        return np.sqrt(np.where(np.asarray(counts) > 1, squares / np.maximum(np.asarray(counts) - 1, 1), np.nan))


def rolling(
    x: ArrayLike, statistic: Statistic, window: int, least: int | None = None, level: float | None = None
) -> Floats:
    """A statistic of the last `window` points at every point of one series (n,), or of each row of several (m, n).

    As the feature of a window plan: NaN until `least` points are known (by default all of the window), `level` for a
    quantile or what is counted above, below. Raises `SettingsError`.
    """
    values = np.asarray(x, dtype=np.float64)
    if values.ndim not in (1, 2):
        raise SettingsError(f"One series (n,) or several (m, n) are rolled over, not {values.shape}.", field="x")
    feature = Rolling.parse({"statistic": statistic, "window": window, "least": least, "level": level})
    count, length = (1, len(values)) if values.ndim == 1 else values.shape
    offsets = np.arange(count + 1) * length
    axis = TimeAxis(np.datetime64("2000-01-01", "s"), Step("day"))
    keys = tuple(map(str, range(count)))
    panel = Panel(axis, keys, np.ascontiguousarray(values).ravel(), offsets, np.zeros(count, dtype=np.int64))
    points = np.arange(values.size)
    series = np.repeat(np.arange(count), length)
    out = np.full((values.size, 1), np.nan)
    feature.write(out, Rows(panel, points, series, points - offsets[series], 1))
    return out.reshape(values.shape)


def extremes(values: Floats, offsets: Ints, window: int, least: int) -> tuple[Floats, Floats]:
    """Smallest and largest of each window, (n_points,) each, the quick way where nothing is missing."""
    if least == window and not np.isnan(values.sum()):
        return gapless_extremes(values, offsets, window)
    return rolling_extremes(values, offsets, window, least)
