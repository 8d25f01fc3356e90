"""Regular series to another step or to a coarser key."""

from dataclasses import replace

import numpy as np

from proteron.core.errors import SettingsError
from proteron.core.intake.bucketing import aggregate, anchored, bucket_positions
from proteron.core.intake.findings import Ledger
from proteron.core.intake.recipe import Coarser, Resampling
from proteron.core.intake.rows import KEY_JOINT
from proteron.core.panel import Covariate, Floats, Panel
from proteron.core.timeline import Ints, Step, TimeAxis


def resample(panel: Panel, wanted: Resampling, ledger: Ledger | None = None) -> Panel:
    """The panel at another step: aggregated when it is longer, spread out when it is shorter.

    A bucket counts only when all its steps lie in the series, so that sums stay whole; those left out for that are
    said in the ledger.
    """
    step = Step.parse(wanted.step)
    if step.nominal_seconds >= panel.axis.step.nominal_seconds:
        return _down(panel, step, wanted, ledger)
    return _up(panel, step, wanted)


def _down(panel: Panel, step: Step, wanted: Resampling, ledger: Ledger | None) -> Panel:
    axis = TimeAxis(anchored(panel.axis.start, step, panel.zone, None), step, panel.zone)
    positions = np.arange(-1, panel.end + 2)
    buckets = bucket_positions(panel.axis.times(positions), axis)

    def way_of(name: str) -> str:
        return wanted.aggregate_of.get(name, wanted.aggregate)

    def down(values: Floats, start: int, way: str) -> tuple[int, Floats]:
        reach = max(len(values) + start - len(positions) + 2, 0)
        all_buckets = (
            buckets if not reach else bucket_positions(panel.axis.times(np.arange(-1, panel.end + 2 + reach)), axis)
        )
        mine = all_buckets[start + 1 : start + 1 + len(values)]
        first, last = int(mine[0]), int(mine[-1])
        begin = first + int(all_buckets[start] == first)  # a bucket that began before the series is partial
        stop = last + int(len(all_buckets) > start + 1 + len(values) and all_buckets[start + 1 + len(values)] != last)
        if stop <= begin:
            return begin, np.zeros(0)
        inside = (mine >= begin) & (mine < stop)
        cells = mine[inside] - begin
        out, counts = aggregate(cells, values[inside], way, stop - begin)
        if way == "sum":
            whole = np.bincount(cells, minlength=stop - begin)
            out = np.where(counts < whole, np.nan, out)  # a sum with a missing part is missing
        return begin, out

    parts = [down(panel.series(i), int(panel.starts[i]), way_of("")) for i in range(len(panel))]
    if not all(len(values) for _, values in parts):
        raise SettingsError(f"Some series are shorter than one step of {step}.", field="resampling")
    if ledger is not None:
        ends = bucket_positions(
            panel.axis.times(np.column_stack([panel.starts, panel.starts + panel.lengths - 1])), axis
        )
        _say_partial(ends, parts, step, ledger)

    def column_down(c: Covariate) -> Covariate:
        way = "last" if c.labels else way_of(c.name)
        return _column(c, [down(c.series(i), int(panel.starts[i]), way)[1] for i in range(len(panel))])

    covariates = tuple(column_down(c) for c in panel.covariates)
    return _rebuilt(panel, axis, [values for _, values in parts], np.array([b for b, _ in parts]), covariates)


def _say_partial(ends: Ints, parts: list[tuple[int, Floats]], step: Step, ledger: Ledger) -> None:
    """How many steps at either end the data covers in part: `ends` (n_series, 2) are the first and last touched."""
    early = sum(begin > first for (begin, _), first in zip(parts, ends[:, 0], strict=True))
    late = sum(begin + len(values) <= last for (begin, values), last in zip(parts, ends[:, 1], strict=True))
    if early or late:
        message = (
            f"Steps of {step} that the data covers only in part are left out: {early} at the beginning and {late} at "
            f"the end of {len(parts)} series."
        )
        ledger.add("partial steps", "note", message, count=early + late)


def _up(panel: Panel, step: Step, wanted: Resampling) -> Panel:
    axis = TimeAxis(panel.axis.start, step, panel.zone)

    def up(values: Floats, start: int, spread: str) -> tuple[int, Floats]:
        edges = panel.axis.times(np.arange(start, start + len(values) + 1))
        first = axis.position(edges[0])
        stop = axis.position(edges[-1] - np.timedelta64(1, "s")) + 1
        at = axis.times(np.arange(first, stop))
        source = np.clip(np.searchsorted(edges, at, side="right") - 1, 0, len(values) - 1)
        if spread == "linear":
            known = ~np.isnan(values)
            seconds = edges[:-1].astype(np.int64)[known]
            return first, np.interp(at.astype(np.int64), seconds, values[known], right=np.nan)
        out = values[source]
        if spread == "divide":
            return first, out / np.bincount(source, minlength=len(values))[source]
        if spread == "missing":
            return first, np.where(edges[source] == at, out, np.nan)
        return first, out

    parts = [up(panel.series(i), int(panel.starts[i]), wanted.spread) for i in range(len(panel))]
    covariates = tuple(
        _column(c, [up(c.series(i), int(panel.starts[i]), "repeat")[1] for i in range(len(panel))])
        for c in panel.covariates
    )
    return _rebuilt(panel, axis, [values for _, values in parts], np.array([f for f, _ in parts]), covariates)


def _column(column: Covariate, parts: list[Floats]) -> Covariate:
    offsets = np.concatenate([[0], np.cumsum([len(part) for part in parts])]).astype(np.int64)
    return replace(column, values=np.concatenate(parts), offsets=offsets)


def _rebuilt(
    panel: Panel, axis: TimeAxis, parts: list[Floats], starts: Ints, covariates: tuple[Covariate, ...]
) -> Panel:
    offsets = np.concatenate([[0], np.cumsum([len(part) for part in parts])]).astype(np.int64)
    values = np.concatenate(parts)
    lowest = int(starts.min())
    axis = TimeAxis(np.datetime64(axis.times(np.array([lowest]))[0], "s"), axis.step, axis.zone)
    return replace(
        panel, axis=axis, values=values, offsets=offsets, starts=(starts - lowest).astype(np.int64),
        covariates=covariates, marks=np.zeros(len(values), np.uint8),
    )  # fmt: skip


def coarsen(panel: Panel, wanted: Coarser) -> Panel:
    """Series added up (or averaged) over the key parts that are not kept.

    A step is known where every series that spans it has a value. Covariates are averaged.
    """
    groups: dict[str, list[int]] = {}
    for index, name in enumerate(_group_names(panel, wanted)):
        groups.setdefault(name, []).append(index)
    values: list[Floats] = []
    starts: list[int] = []
    columns: list[list[Floats]] = [[] for _ in panel.covariates]
    for members in groups.values():
        first = int(panel.starts[members].min())
        spans = [(int(panel.starts[i]) - first, panel.series(i)) for i in members]
        total, known, there = _added(spans)
        whole = np.where((known == there) & (there > 0), total, np.nan)
        values.append(whole / np.maximum(there, 1) if wanted.aggregate == "mean" else whole)
        starts.append(first)
        for place, column in enumerate(panel.covariates):
            parts_of = [(int(panel.starts[i]) - first, column.series(i)) for i in members]
            total, known, _ = _added(parts_of[:1] if column.labels else parts_of)
            mean = np.where(known > 0, total / np.maximum(known, 1), np.nan)
            columns[place].append(_of_length(mean, len(whole), column.role == "known_ahead"))
    covariates = tuple(_column(c, columns[place]) for place, c in enumerate(panel.covariates))
    made = _rebuilt(panel, panel.axis, values, np.array(starts), covariates)
    return replace(made, keys=tuple(groups))


def _group_names(panel: Panel, wanted: Coarser) -> list[str]:
    """What each series is summed up into; raises `SettingsError` for a column or key part that is not there."""
    if wanted.by is not None:
        return _names_of_column(panel, wanted.by)
    parts = [key.split(KEY_JOINT) for key in panel.keys]
    deepest = min(len(pieces) for pieces in parts)
    if any(place < 0 or place >= deepest for place in wanted.keep):
        raise SettingsError(f"Keys have {deepest} parts, counted from 0.", field="coarser")
    return [KEY_JOINT.join(pieces[place] for place in wanted.keep) or "all" for pieces in parts]


def _names_of_column(panel: Panel, name: str) -> list[str]:
    """What a static column of names says of each series."""
    column = panel.covariate(name)
    if column.role != "static" or not column.labels:
        raise SettingsError(f"“{name}” is no static column of names.", field="coarser")
    firsts = [column.series(index)[:1] for index in range(len(panel))]
    return ["(none)" if not len(v) or np.isnan(v[0]) else column.labels[int(v[0])] for v in firsts]


def _added(parts: list[tuple[int, Floats]]) -> tuple[Floats, Floats, Floats]:
    """Sum, number of known values and number of series at every step of pieces that begin at given steps."""
    size = max(start + len(values) for start, values in parts)
    total, known, there = np.zeros(size), np.zeros(size), np.zeros(size)
    for start, values in parts:
        span = slice(start, start + len(values))
        total[span] += np.where(np.isnan(values), 0.0, values)
        known[span] += ~np.isnan(values)
        there[span] += 1
    return total, known, there


def _of_length(values: Floats, length: int, longer: bool) -> Floats:
    """Cut, or continued as missing, to a length; `longer` values stay."""
    if len(values) < length:
        return np.concatenate([values, np.full(length - len(values), np.nan)])
    return values if longer else values[:length]
