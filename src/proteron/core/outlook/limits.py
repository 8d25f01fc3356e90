"""What a quantity can be at all: floor, ceiling, whole numbers; forecasts, ranges and paths are kept to it."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from proteron.core.errors import SettingsError
from proteron.core.forecasters.forecast import quantiles_of_rows
from proteron.core.forecasters.ranges import ends_from_errors
from proteron.core.panel import Floats, Panel

_TOLERANCE = 1e-9
_OFTEN = 0.01  # of all values, at a limit
_NEAR = 0.25  # spreads
_GIVEN_OVER = 0.9  # of what is left out on the side of a limit


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

    @property
    def any(self) -> bool:
        """Whether there are any."""
        return self != Limits()

    def ends_of(self, possible: Floats, centre: Floats, levels: Sequence[float], near: Floats | None) -> Floats:
        """Ends of ranges (n_levels, 2, n_series, horizon) of what might be (n_rows, n_series, horizon), kept to it.

        Where the lower end is a floor that the series stands at, nothing lies below the range: nine tenths of what
        was left out there are left out above, and the other way round at a ceiling. Not all of it, since errors are
        larger a little away from a limit than at it. Of whole numbers, ends are whole.
        """
        values = self.kept(possible, near)
        bounds = ends_from_errors(values, centre, levels)
        low, high = bounds[:, 0], bounds[:, 1]
        outside = [(1 - level) / 2 * (1 + _GIVEN_OVER) for level in levels]
        shares = [share for each in outside for share in (each, 1 - each)]
        alone = np.array(quantiles_of_rows(values, shares))
        stands = np.zeros((2, *centre.shape)) if near is None else near
        floored, capped = (low <= self._lowest) & (stands[0] > 0), (high >= self._highest) & (stands[1] > 0)
        upper = np.where(floored & ~capped, np.maximum(alone[1::2], centre), high)
        lower = np.where(capped & ~floored, np.minimum(alone[::2], centre), low)
        out = self.ends(np.stack([lower, upper], axis=1), near)
        if self.whole:
            for place, level in enumerate(levels):
                out[place] = self._nearest(values, out[place], level)
        return out

    def _nearest(self, values: Floats, ends: Floats, level: float) -> Floats:
        """Whole ends (2, n_series, horizon) as they are, or with one of them moved inwards by one: the ones that hold
        nearest to the level of what might be (n_rows, n_series, horizon); an end at a limit stays."""
        known = np.maximum(np.isfinite(values).sum(axis=0), 1)
        best, off = ends.copy(), np.full(ends.shape[1:], np.inf)
        for inner in ((0, 0), (1, 0), (0, 1)):
            low = ends[0] + np.where(ends[0] > self._lowest, inner[0], 0)
            high = ends[1] - np.where(ends[1] < self._highest, inner[1], 0)
            held = ((values >= low) & (values <= high)).sum(axis=0) / known
            better = (np.abs(held - level) < off) & (low <= high)
            best[:, better] = np.stack([low, high])[:, better]
            off = np.where(better, np.abs(held - level), off)
        return best

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
