"""What a quantity can be at all: floor, ceiling, whole numbers; forecasts, ranges and paths are kept to it."""

from dataclasses import dataclass

import numpy as np

from proteron.core.errors import SettingsError
from proteron.core.panel import Floats, Panel

_TOLERANCE = 1e-9
_OFTEN = 0.01  # of all values, at a limit
_NEAR = 0.25  # spreads


@dataclass(frozen=True)
class Limits:
    """No value is below `floor` or above `ceiling`; where `whole`, none lies between whole numbers."""

    floor: float | None = None
    ceiling: float | None = None
    whole: bool = False

    def __post_init__(self) -> None:
        for name in ("floor", "ceiling"):
            value = getattr(self, name)
            if value is not None and not np.isfinite(value):
                raise SettingsError("A limit is a number.", field=name)
        if self.floor is not None and self.ceiling is not None and self.floor >= self.ceiling:
            raise SettingsError("The floor lies below the ceiling.", field="floor")
        if self.whole and self._lowest > self._highest:
            raise SettingsError("There is no whole number between floor and ceiling.", field="whole")

    @property
    def _lowest(self) -> float:
        low = -np.inf if self.floor is None else self.floor
        return float(np.ceil(low - _TOLERANCE)) if self.whole else low

    @property
    def _highest(self) -> float:
        high = np.inf if self.ceiling is None else self.ceiling
        return float(np.floor(high + _TOLERANCE)) if self.whole else high

    def near(self, known: Panel, spread: Floats) -> Floats:
        """How near to a limit of a series that often stands at it is at it, (2, n_series, horizon): floor, ceiling.

        A quarter of the spread of its errors (n_series, horizon): earlier forecasts were a little lower or higher where
        the series stood at the limit, and it stands there again, not as much above it.
        """
        spread = _NEAR * np.nan_to_num(spread)
        out = np.zeros((2, *spread.shape))
        for index in range(len(known)):
            values = known.series(index)
            values = values[np.isfinite(values)]
            for place, at in enumerate((values <= self._lowest, values >= self._highest)):
                if len(values) and at.mean() > _OFTEN:
                    out[place, index] = spread[index]
        return out

    def kept(self, values: Floats, near: Floats | None = None) -> Floats:
        """Values (…, n_series, horizon) moved to the nearest that can be, and to a limit that is as `near`."""
        rounded = np.round(values) if self.whole else values
        low, high = (0.0, 0.0) if near is None else near
        rounded = np.where(rounded < self._lowest + low, self._lowest, rounded)
        return np.asarray(np.where(rounded > self._highest - high, self._highest, rounded))

    def ends(self, bounds: Floats, near: Floats | None = None) -> Floats:
        """Ends of ranges (n_levels, 2, n_series, horizon), the lower first: what can be and lies between stays between.

        Whole ends are drawn inwards, which holds just as many whole numbers; where none lies between, both are the
        nearest.
        """
        low, high = bounds[:, 0], bounds[:, 1]
        if self.whole:
            inner, outer = np.ceil(low - _TOLERANCE), np.floor(high + _TOLERANCE)
            nearest = np.round((low + high) / 2)
            low, high = (np.where(inner > outer, nearest, each) for each in (inner, outer))
        beside = np.zeros((2, *low.shape[1:])) if near is None else near
        lower, upper = self.kept_plain(low), self.kept_plain(high)
        return np.stack(
            [np.where(low < self._lowest + beside[0], self._lowest, lower),
             np.where(high > self._highest - beside[1], self._highest, upper)], axis=1,
        )  # fmt: skip

    def kept_plain(self, values: Floats) -> Floats:
        """Values (any shape) within floor and ceiling."""
        return np.asarray(np.clip(values, self._lowest, self._highest))

    def in_words(self, paths: Floats) -> str:
        """What keeping paths (n_paths, n_series, horizon) to it changes, in one sentence; empty where nothing."""
        known = paths[np.isfinite(paths)]
        parts = []
        for name, cut in (("floor", known < self._lowest), ("ceiling", known > self._highest)):
            if getattr(self, name) is not None and cut.any():
                parts.append(f"{100 * cut.mean():.2g} % of the steps of all paths are cut at the {name}")
        if self.whole:
            parts.append("all are rounded to whole numbers")
        said = " and ".join(parts)
        return f"{said[:1].upper()}{said[1:]}." if said else ""
