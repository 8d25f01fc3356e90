"""Sums, means, highest and last values over days, months, series and groups, with ranges from joint paths."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal, get_args

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from proteron.core.errors import SettingsError
from proteron.core.forecasters.forecast import quantile_rows
from proteron.core.outlook.calendar_spans import span_starts
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Instants, Ints, Step

How = Literal["sum", "mean", "last", "max", "min"]


@dataclass(frozen=True, repr=False)
class Totals:
    """Of each group (n_groups) and span (n_spans): `mean` (n_groups, n_spans), ranges by level, `paths` (n_paths,
    n_groups, n_spans).

    `starts` (n_spans,) are local times; of the points of a span, `forecast` (n_spans,) were forecast and `known`
    (n_groups, n_spans) had come; `whole` (n_groups, n_spans) where the two are all that it has. What is missing of one
    that is not is left out.
    """

    groups: tuple[str, ...]
    starts: Instants
    mean: Floats
    lower: dict[float, Floats]
    upper: dict[float, Floats]
    paths: Floats
    forecast: Ints
    known: Ints
    whole: NDArray[np.bool_]

    def to_arrow(self) -> pa.Table:
        """One row per group and span."""
        count = len(self.groups)
        columns: dict[str, Any] = {
            "start": pa.array(np.tile(self.starts, count), pa.timestamp("s")),
            "group": pa.array(np.repeat(np.array(self.groups, dtype=object), len(self.starts)), pa.string()),
            "mean": _cells(self.mean),
        }
        for level in self.lower:
            columns[f"lower_{level:g}"] = _cells(self.lower[level])
            columns[f"upper_{level:g}"] = _cells(self.upper[level])
        columns["forecast"] = pa.array(np.tile(self.forecast, count))
        columns["known"] = pa.array(self.known.ravel())
        columns["whole"] = pa.array(self.whole.ravel())
        return pa.table(columns)

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        return self.to_arrow().__arrow_c_stream__(requested_schema)


def _cells(values: Floats) -> pa.Array:
    return pa.array(values.ravel(), mask=np.isnan(values.ravel()))


@dataclass(frozen=True)
class _Spans:
    """Which span each step ahead lies in (horizon,), and each known point before that shares one; `starts` of all."""

    starts: Instants
    ahead: Ints
    before: Ints
    before_positions: Ints
    points: Ints


def totals(
    panel: Panel, origin: int, mean: Floats, paths: Floats, levels: Sequence[float], by: "str | Step | None",
    how: How, over: Mapping[str, Sequence[str]] | None,
) -> Totals:  # fmt: skip
    """Of forecasts (n_series, horizon) from `origin` with joint paths (n_paths, n_series, horizon).

    A span that has begun counts what is known of it. `by` None is all steps at once; groups are summed over their
    series. Raises `SettingsError` for what there is not.
    """
    if how not in get_args(How):
        raise SettingsError(f"“{how}” is no way to sum up; there are: {', '.join(get_args(How))}.", field="how")
    spans = _spans(panel, origin, mean.shape[1], by)
    parts, names = _members(panel, over)
    known = [_known(panel, index, spans) for index in range(len(panel))]
    count = len(spans.starts)
    shape = (len(paths), len(parts), count)
    centre, futures = np.full(shape[1:], np.nan), np.full(shape, np.nan)
    had = np.zeros(shape[1:], dtype=np.int64)
    whole = np.zeros(shape[1:], dtype=bool)
    for place, members in enumerate(parts):
        before = np.sum([known[index] for index in members], axis=0)
        ours, drawn = mean[members].sum(axis=0), paths[:, members].sum(axis=1)
        futures[:, place] = _folded(drawn, before, spans, how)
        linear = how in ("sum", "mean", "last")
        centre[place] = _folded(ours[None], before, spans, how)[0] if linear else futures[:, place].mean(axis=0)
        there = np.isfinite(before)
        had[place] = np.bincount(spans.before[there], minlength=count)
        ahead = np.bincount(spans.ahead[np.isfinite(ours)], minlength=count)
        whole[place] = had[place] + ahead == spans.points
    ends = {level: ((1 - level) / 2, (1 + level) / 2) for level in levels}
    return Totals(
        names, spans.starts, centre, {level: quantile_rows(futures, low) for level, (low, _) in ends.items()},
        {level: quantile_rows(futures, high) for level, (_, high) in ends.items()}, futures,
        np.bincount(spans.ahead, minlength=count), had, whole,
    )  # fmt: skip


def _spans(panel: Panel, origin: int, horizon: int, by: "str | Step | None") -> _Spans:
    ahead = origin + np.arange(horizon)
    if by is None:
        start = panel.axis.local(ahead[:1])
        none = np.zeros(0, dtype=np.int64)
        return _Spans(start, np.zeros(horizon, dtype=np.int64), none, none, np.array([horizon]))
    step = Step.parse(by)
    reach = int(2 * step.nominal_seconds / panel.axis.step.nominal_seconds) + 2
    every = origin + np.arange(-reach, horizon + reach)
    starts_of = span_starts(panel.axis, every, step)
    mine = starts_of[reach : reach + horizon]
    starts = np.unique(mine)
    before = every[:reach][np.isin(starts_of[:reach], starts)]
    positions = before - origin + reach
    inside = np.isin(starts_of, starts)
    points = np.bincount(np.searchsorted(starts, starts_of[inside]), minlength=len(starts))
    return _Spans(starts, np.searchsorted(starts, mine), np.searchsorted(starts, starts_of[positions]), before, points)


def _members(panel: Panel, over: Mapping[str, Sequence[str]] | None) -> tuple[list[list[int]], tuple[str, ...]]:
    if over is None:
        return [[index] for index in range(len(panel))], panel.keys
    if not over or not all(over.values()):
        raise SettingsError("A group has a name and at least one series.", field="over")
    return [[panel.index(key) for key in dict.fromkeys(keys)] for keys in over.values()], tuple(over)


def _known(panel: Panel, index: int, spans: _Spans) -> Floats:
    """Known values of one series at the points before the origin that count, NaN where there are none."""
    local = spans.before_positions - int(panel.starts[index])
    inside = (local >= 0) & (local < int(panel.lengths[index]))
    out = np.full(len(local), np.nan)
    out[inside] = panel.series(index)[local[inside]]
    return out


def _folded(futures: Floats, before: Floats, spans: _Spans, how: How) -> Floats:
    """Steps (n_rows, horizon), and known points before them, as one number per span (n_rows, n_spans)."""
    there = np.isfinite(before)
    count = len(spans.starts)
    out = np.full((len(futures), count), np.nan)
    for span in range(count):
        past = before[there & (spans.before == span)]
        values = np.concatenate([np.broadcast_to(past, (len(futures), len(past))), futures[:, spans.ahead == span]], 1)
        if how == "last":
            out[:, span] = values[:, -1]
        elif how in ("sum", "mean"):
            out[:, span] = values.sum(axis=1) / (values.shape[1] if how == "mean" else 1)
        else:
            out[:, span] = values.max(axis=1) if how == "max" else values.min(axis=1)
    return out
