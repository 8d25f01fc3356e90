"""Regular series to another step or to a coarser key."""

from dataclasses import replace

import numpy as np

from proteron.core.errors import SettingsError
from proteron.core.intake.bucketing import aggregate, anchored, bucket_positions
from proteron.core.intake.recipe import Coarser, Resampling
from proteron.core.intake.rows import KEY_JOINT
from proteron.core.panel import Covariate, Floats, Panel
from proteron.core.timeline import Ints, Step, TimeAxis


def resample(panel: Panel, wanted: Resampling) -> Panel:
    """The panel at another step: aggregated when it is longer, spread out when it is shorter.

    A bucket counts only when all its steps lie in the series, so that sums stay whole.
    """
    step = Step.parse(wanted.step)
    if step.nominal_seconds >= panel.axis.step.nominal_seconds:
        return _down(panel, step, wanted)
    return _up(panel, step, wanted)


def _down(panel: Panel, step: Step, wanted: Resampling) -> Panel:
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
    covariates = tuple(
        _column(c, [down(c.series(i), int(panel.starts[i]), "last" if c.labels else way_of(c.name))[1] for i in range(len(panel))])
        for c in panel.covariates
    )  # fmt: skip
    return _rebuilt(panel, axis, [values for _, values in parts], np.array([b for b, _ in parts]), covariates)


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
        panel, axis=axis, values=values, offsets=offsets, starts=(starts - lowest).astype(np.int64), covariates=covariates,
        marks=np.zeros(len(values), np.uint8),
    )  # fmt: skip


def coarsen(panel: Panel, wanted: Coarser) -> Panel:
    """Series added up (or averaged) over the key parts that are not kept.

    A step is known where every series that spans it has a value. Covariates are averaged.
    """
    parts = [key.split(KEY_JOINT) for key in panel.keys]
    deepest = min(len(part) for part in parts)
    if any(place < 0 or place >= deepest for place in wanted.keep):
        raise SettingsError(f"Keys have {deepest} parts, counted from 0.", field="coarser")
    groups: dict[str, list[int]] = {}
    for index, part in enumerate(parts):
        groups.setdefault(KEY_JOINT.join(part[place] for place in wanted.keep) or "all", []).append(index)
    values, starts, columns = [], [], [[] for _ in panel.covariates]  # type: list[Floats], list[int], list[Any]
    for members in groups.values():
        first = int(panel.starts[members].min())
        stop = int((panel.starts + panel.lengths)[members].max())
        total, spans, known = np.zeros(stop - first), np.zeros(stop - first), np.zeros(stop - first)
        for i in members:
            part = slice(int(panel.starts[i]) - first, int(panel.starts[i] + panel.lengths[i]) - first)
            series = panel.series(i)
            total[part] += np.where(np.isnan(series), 0.0, series)
            spans[part] += 1
            known[part] += ~np.isnan(series)
        whole = np.where((known == spans) & (spans > 0), total, np.nan)
        values.append(whole / np.maximum(spans, 1) if wanted.aggregate == "mean" else whole)
        starts.append(first)
        for place, column in enumerate(panel.covariates):
            longest = max(len(column.series(i)) + int(panel.starts[i]) - first for i in members)
            if column.labels:
                columns[place].append(
                    np.pad(
                        column.series(members[0]),
                        (0, max(0, longest - len(column.series(members[0])))),
                        constant_values=np.nan,
                    )[: stop - first if column.role != "known_ahead" else None]
                )
                continue
            sums, seen = np.zeros(longest), np.zeros(longest)
            for i in members:
                part = slice(int(panel.starts[i]) - first, int(panel.starts[i]) - first + len(column.series(i)))
                cells = column.series(i)
                sums[part] += np.where(np.isnan(cells), 0.0, cells)
                seen[part] += ~np.isnan(cells)
            columns[place].append(np.where(seen > 0, sums / np.maximum(seen, 1), np.nan))
    covariates = tuple(_column(c, columns[place]) for place, c in enumerate(panel.covariates))
    made = _rebuilt(panel, panel.axis, values, np.array(starts), covariates)
    return replace(made, keys=tuple(groups))
