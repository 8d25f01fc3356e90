"""Raw events to one value per bucket and key, in one compiled pass."""

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from proteron.core.compiled import kernel
from proteron.core.errors import InputError, SettingsError
from proteron.core.intake.findings import LEAVE, Ledger, Remedy
from proteron.core.intake.recipe import Bucketing, Recipe
from proteron.core.intake.roles import Role
from proteron.core.intake.rows import Rows
from proteron.core.open_days import open_at_or_before
from proteron.core.panel import Floats
from proteron.core.timeline import Instants, Ints, Step, TimeAxis, end_of_period, parse_moment, to_local, to_utc

_SECONDS = {"second": 1, "minute": 60, "hour": 3600}


_PIECE = 2048
_FEW = 0.05


@kernel
def _buckets(seconds: Ints, start: int, width: int, out: Ints) -> None:
    """The bucket of every time; the quotient of doubles is exact but for one step, which the rest mends."""
    share = 1.0 / width
    for i in range(len(seconds)):
        gap = seconds[i] - start
        bucket = int(gap * share)
        rest = gap - bucket * width
        out[i] = bucket - (rest < 0) + (rest >= width)


@kernel
def count_events(
    seconds: Ints, codes: NDArray[np.int32], start: int, width: int, length: int, counts: NDArray[np.int32]
) -> None:
    """Add one to the bucket of every event; `counts` (n_keys × length,) key by key.

    Cells are found a piece at a time in a loop that vectorises, then counted from the cache.
    """
    cells = np.empty(_PIECE, dtype=np.int64)
    for begin in range(0, len(seconds), _PIECE):
        size = min(_PIECE, len(seconds) - begin)
        _buckets(seconds[begin : begin + size], start, width, cells[:size])
        for i in range(size):
            cells[i] += codes[begin + i] * length
        for i in range(size):
            counts[cells[i]] += 1


@kernel
def _aggregate(cells: Ints, values: Floats, way: int, out: Floats, counts: Floats) -> None:
    """sum 0, mean 1, min 2, max 3, first 4, last 5; missing values are passed over."""
    for i in range(len(cells)):
        value, cell = values[i], cells[i]
        if np.isnan(value):
            continue
        if counts[cell] == 0 or way == 5:
            out[cell] = value
        elif way <= 1:
            out[cell] += value
        elif way == 2:
            out[cell] = min(out[cell], value)
        elif way == 3:
            out[cell] = max(out[cell], value)
        counts[cell] += 1


WAYS = {"sum": 0, "mean": 1, "min": 2, "max": 3, "first": 4, "last": 5}


def aggregate(cells: Ints, values: Floats, way: str, size: int) -> tuple[Floats, Floats]:
    """Values (n,) of cells (n,) to one per cell (size,) and how many each had; NaN where none was known."""
    out, counts = np.full(size, np.nan), np.zeros(size)
    if way == "count":
        counts = np.bincount(cells, minlength=size).astype(np.float64)
        return counts.copy(), counts
    if way == "distinct":
        known = ~np.isnan(values)
        pairs = np.unique(np.column_stack([cells[known], values[known].view(np.int64)]), axis=0)
        counts = np.bincount(cells[known], minlength=size).astype(np.float64)
        return np.bincount(pairs[:, 0], minlength=size).astype(np.float64), counts
    _aggregate(cells, values, WAYS[way], out, counts)
    if way == "mean":
        out = out / np.where(counts > 0, counts, np.nan)
    return out, counts


def anchored(first: np.datetime64, step: Step, zone: str, anchor: str | None) -> np.datetime64:
    """The bucket edge at or before `first`: from a stated anchor, or on whole steps of the local calendar."""
    if anchor is not None:
        axis = TimeAxis(parse_moment(anchor, zone), step, zone)
        return np.datetime64(axis.times(np.array([axis.position(first)]))[0], "s")
    if step.unit in _SECONDS:
        width = _SECONDS[step.unit] * step.count
        midnight = to_local(np.array([first]), zone)[0].astype("datetime64[D]").astype("datetime64[s]")
        begin = to_utc(np.array([midnight]), zone)[0]
        if width >= 86400:
            begin = np.datetime64(0, "s")
        return np.datetime64(begin + (int((first - begin).astype(np.int64)) // width) * width, "s")
    local = to_local(np.array([first]), zone)[0]
    if step.unit == "day":
        edge = local.astype("datetime64[D]")
    elif step.unit == "business_day":
        edge = open_at_or_before(local.astype("datetime64[D]"), step.closed)
    elif step.unit == "week":
        day = local.astype("datetime64[D]")
        edge = day - (day.astype(np.int64) + 3) % 7
    else:
        months = {"month": 1, "quarter": 3, "year": 12}[step.unit] * step.count
        edge = (local.astype("datetime64[M]").astype(np.int64) // months * months).astype("datetime64[M]")
    return np.datetime64(to_utc(np.array([edge.astype("datetime64[s]")]), zone)[0], "s")


def bucket_positions(times: Instants, axis: TimeAxis) -> Ints:
    """The bucket of every time: the last edge at or before it."""
    if axis.step.unit in _SECONDS:
        out = np.empty(len(times), dtype=np.int64)
        width = _SECONDS[axis.step.unit] * axis.step.count
        _buckets(times.view(np.int64), int(axis.start.astype(np.int64)), width, out)
        return out
    last = axis.position(np.datetime64(times.max(), "s")) + 1
    edges = axis.times(np.arange(-1, last + 1))
    return np.searchsorted(edges, times, side="right") - 2


def bucket_rows(rows: Rows, recipe: Recipe, ledger: Ledger) -> tuple[TimeAxis, Rows]:
    """Events to one row per bucket and key that has any, edges treated as asked; see `fill_empty`."""
    events = recipe.events or Bucketing()
    if not len(rows):
        raise InputError("There are no events.", field="time")
    rows = _without_repeats(rows, ledger)
    step = Step.parse(events.step)
    first, last = _covered(rows, recipe)
    axis = TimeAxis(anchored(first, step, recipe.zone, events.anchor), step, recipe.zone)
    length = axis.position(last) + 1
    keys = len(rows.keys)
    if length * keys > max(50_000_000, 200 * len(rows)):
        raise InputError(f"Buckets of {step} would open {length * keys:,} steps; choose a longer step.", field="events")
    targets = rows.named("target")
    if events.aggregate != "count" and not targets:
        raise SettingsError(f"{events.aggregate} needs a target column of amounts.", field="events")
    counts = np.zeros(keys * length, dtype=np.int32)
    if step.unit in _SECONDS:
        width = _SECONDS[step.unit] * step.count
        count_events(rows.times.view(np.int64), rows.codes, int(axis.start.astype(np.int64)), width, length, counts)
    else:
        counts += np.bincount(bucket_positions(rows.times, axis) + rows.codes * np.int64(length), minlength=len(counts))
    columns: dict[str, Floats] = {}
    if events.aggregate == "count":
        columns["count"] = counts.astype(np.float64)
    for name in targets if events.aggregate != "count" else ():
        cells = bucket_positions(rows.times, axis) + rows.codes.astype(np.int64) * length
        columns[name] = aggregate(cells, rows.columns[name], events.aggregate, keys * length)[0]
    return axis, _bucketed(rows, events, axis, length, counts, columns, (first, last), ledger)


def _covered(rows: Rows, recipe: Recipe) -> tuple[np.datetime64, np.datetime64]:
    """First and last second that the events speak of: those of the stated period, else of the first and last event."""
    first, last = np.datetime64(rows.times.min(), "s"), np.datetime64(rows.times.max(), "s")
    if recipe.period_start:
        first = min(first, parse_moment(recipe.period_start, recipe.zone))
    if recipe.period_end:
        last = max(last, end_of_period(recipe.period_end, recipe.zone) - np.timedelta64(1, "s"))
    return first, last


def _without_repeats(rows: Rows, ledger: Ledger) -> Rows:
    """Events that another one repeats in time, key and every column: sent twice rather than happened twice."""
    keys: list[Any] = [*rows.columns.values(), rows.codes, rows.times]
    order = np.lexsort(keys)
    same = np.ones(len(order) - 1, bool)
    for values in keys:
        a, b = values[order[1:]], values[order[:-1]]
        same &= (a == b) | ((a != a) & (b != b))
    repeats = np.sort(order[1:][same])
    if not len(repeats):
        return rows
    numbers = rows.row_numbers(repeats)
    message = f"{len(repeats):,} events repeat another in time, key and every column: sent twice?"
    drop = Remedy("drop", "count them once")
    few = len(repeats) <= _FEW * len(rows)  # many are events that coincide, such as those dated by the day
    if (
        ledger.add("repeated events", "warning", message, numbers, remedies=(drop, LEAVE) if few else (LEAVE, drop))
        != "drop"
    ):
        return rows
    keep = np.ones(len(rows), bool)
    keep[repeats] = False
    return rows.keep(keep)


def _partial_words(early: int, late: int) -> str:
    """Which buckets are left out because the period covers them in part only."""
    ends = [end for end, is_out in (("first", early), ("last", late)) if is_out]
    return f"The {' and the '.join(ends)} is left out: covered in part only." if ends else "Every bucket is whole."


def _bucketed(
    rows: Rows, events: Bucketing, axis: TimeAxis, length: int, counts: NDArray[np.int32], columns: dict[str, Floats],
    ends: tuple[np.datetime64, np.datetime64], ledger: Ledger,
) -> Rows:  # fmt: skip
    keys = len(rows.keys)
    begin, stop = 0, length
    edges = axis.times(np.array([0, length]))
    if events.edges == "drop" and length > 2:
        begin, stop = int(ends[0] > edges[0]), length - int(ends[1] < edges[1] - np.timedelta64(1, "s"))
    empties = int((counts.reshape(keys, length)[:, begin:stop] == 0).sum())
    message = (
        f"{len(rows):,} events in {stop - begin:,} buckets of {axis.step} and {keys} keys; {empties:,} are empty: "
        f"{events.empty}. {_partial_words(begin, length - stop)}"
    )
    ledger.add("bucketed", "note", message, count=len(rows))
    position = np.arange(begin, stop)
    times = np.tile(axis.times(position), keys)
    codes = np.repeat(np.arange(keys, dtype=np.int32), stop - begin)
    out = {}
    for name, values in columns.items():
        shaped = values.reshape(keys, length)[:, begin:stop].copy()
        none = counts.reshape(keys, length)[:, begin:stop] == 0
        for index, key in enumerate(rows.keys):
            empty = events.empty_of.get(key, events.empty)
            shaped[index, none[index]] = 0.0 if empty == "zero" else np.nan
        out[name] = shaped.ravel()
    roles: dict[str, Role] = dict.fromkeys(out, "target")
    return replace(rows, numbers=None, times=times, codes=codes, columns=out, roles=roles, labels={})
