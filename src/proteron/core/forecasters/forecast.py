"""What a forecaster answers: means, ranges and joint paths, in original units."""

import html
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
import pyarrow as pa

from proteron.core.errors import SettingsError
from proteron.core.panel import Floats
from proteron.core.timeline import Instants, Ints, TimeAxis

_SHOWN_ROWS = 12


def _cells(values: Floats) -> pa.Array:
    return pa.array(values.ravel(), mask=np.isnan(values.ravel()))


def _between(order: Floats, count: int, level: float) -> Floats:
    """The `level` quantile of sorted rows (n_rows, …) of which the first `count` are known."""
    place = min(max((count + 1) * level - 1, 0.0), count - 1.0)
    low = int(place)
    bottom, top = order[low], order[min(low + 1, count - 1)]
    return np.asarray(bottom + (top - bottom) * (place - low))


def table_of(
    times: Instants, keys: Sequence[str], mean: Floats, ranges: Mapping[float, tuple[Floats, Floats]]
) -> pa.Table:
    """Forecasts (n_series, horizon) as rows, series by series: time (UTC), key, mean, and both ends by level."""
    columns: dict[str, Any] = {
        "time": pa.array(np.tile(times, len(keys)), type=pa.timestamp("s", tz="UTC")),
        "key": pa.array(np.repeat(np.array(keys, dtype=object), len(times)), pa.string()),
        "mean": _cells(mean),
    }
    for level, (low, high) in ranges.items():
        columns |= {f"lower_{level:g}": _cells(low), f"upper_{level:g}": _cells(high)}
    return pa.table(columns)


def _shown(cell: Any) -> str:
    return f"{cell:.6g}" if isinstance(cell, float) else html.escape(str(cell))


def quantile_rows(rows: Floats, level: float) -> Floats:
    """The `level` quantile over the first axis, missing entries ignored, NaN where all are missing."""
    return quantiles_of_rows(rows, [level])[0]


def quantiles_of_rows(rows: Floats, levels: Sequence[float]) -> list[Floats]:
    """The same of several levels, sorted once."""
    order = np.sort(rows, axis=0)  # NaN last
    counts = np.isfinite(rows).sum(axis=0)
    fewest, most = counts.min(initial=len(rows)), counts.max(initial=0)
    if fewest == most > 0:  # the same places everywhere
        return [_between(order, most, level) for level in levels]
    found = []
    for level in levels:
        place = np.clip((counts + 1) * level - 1, 0, np.maximum(counts - 1, 0))
        low = np.floor(place).astype(np.int64)
        high = np.minimum(low + 1, np.maximum(counts - 1, 0))
        bottom, top = (np.take_along_axis(order, at[None], axis=0)[0] for at in (low, high))
        found.append(np.where(counts > 0, bottom + (top - bottom) * (place - low), np.nan))
    return found


@dataclass(frozen=True, repr=False)
class Forecast:
    """Forecasts of every series from one origin.

    `mean` is (n_series, horizon); `possible` (n_rows, n_series, horizon) are equally likely joint
    futures, one row per past origin whose errors were carried over, so series stay correlated.
    """

    axis: TimeAxis
    keys: tuple[str, ...]
    origin: int
    mean: Floats
    flat_mean: Floats
    possible: Floats
    levels: tuple[float, ...]
    bounds: Floats | None = None  # (n_levels, 2, n_series, horizon) by theory; else quantiles of `possible`
    lower: dict[float, Floats] = field(init=False)
    upper: dict[float, Floats] = field(init=False)

    def __post_init__(self) -> None:
        if not all(0 < level < 1 for level in self.levels):
            raise SettingsError("Range levels lie between 0 and 1, such as 0.95.", field="levels")
        bounds = {level: ((1 - level) / 2, (1 + level) / 2) for level in self.levels}
        if self.bounds is not None:
            for name, end in (("lower", 0), ("upper", 1)):
                found = {level: self.bounds[place, end] for place, level in enumerate(self.levels)}
                object.__setattr__(self, name, found)
            return
        object.__setattr__(self, "lower", {level: self._bound(low) for level, (low, _) in bounds.items()})
        object.__setattr__(self, "upper", {level: self._bound(high) for level, (_, high) in bounds.items()})

    def _bound(self, level: float) -> Floats:
        if not len(self.possible):
            return np.full(self.mean.shape, np.nan)
        return quantile_rows(self.possible, level)

    @property
    def horizon(self) -> int:
        """How many steps ahead."""
        return int(self.mean.shape[1])

    @cached_property
    def positions(self) -> Ints:
        """Grid positions of the steps ahead, (horizon,)."""
        return self.origin + np.arange(self.horizon)

    @property
    def times(self) -> Instants:
        """UTC instants of the steps ahead, (horizon,)."""
        return self.axis.times(self.positions)

    def to_arrow(self) -> pa.Table:
        """One row per series and step: time (UTC), key, mean, and both ends of every range."""
        ranges = {level: (self.lower[level], self.upper[level]) for level in self.levels}
        return table_of(self.times, self.keys, self.mean, ranges)

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        return self.to_arrow().__arrow_c_stream__(requested_schema)

    def __repr__(self) -> str:
        ends = np.datetime_as_string(self.axis.local(self.positions[[0, -1]]))
        ranges = ", ".join(f"{level * 100:g} %" for level in self.levels)
        return (
            f"Forecast of {len(self.keys)} series, {self.horizon} steps of {self.axis.step} "
            f"from {ends[0]} to {ends[1]} {self.axis.zone}" + (f", ranges {ranges}" if ranges else "")
        )

    def _repr_html_(self) -> str:
        """The first rows as a table, for a notebook."""
        table = self.to_arrow()
        head = "".join(f"<th>{name}</th>" for name in table.column_names)
        rows = "".join(
            "<tr>" + "".join(f"<td>{_shown(cell)}</td>" for cell in row.values()) + "</tr>"
            for row in table.slice(0, _SHOWN_ROWS).to_pylist()
        )
        return f"<p>{self!r}</p><table><tr>{head}</tr>{rows}</table>"

    def paths(self, count: int, seed: int = 0) -> Floats:
        """`count` joint futures (count, n_series, horizon), whole past errors drawn with replacement."""
        if not len(self.possible):
            return np.full((count, *self.mean.shape), np.nan)
        whole = self.possible[np.isfinite(self.possible).all(axis=(1, 2))]
        futures = whole if len(whole) else self.possible
        return futures[np.random.default_rng(seed).integers(len(futures), size=count)]
