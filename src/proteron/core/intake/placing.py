"""Rows onto a common grid: step, positions, duplicate and off-grid times, flat arrays with gaps opened."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from proteron.core.compiled import kernel
from proteron.core.errors import InputError
from proteron.core.intake.findings import Ledger, Remedy
from proteron.core.intake.raw import RawTable
from proteron.core.intake.recipe import Recipe
from proteron.core.intake.rows import Rows, line_text
from proteron.core.open_days import open_days
from proteron.core.panel import Floats
from proteron.core.timeline import Ints, Step, TimeAxis, grid_positions, infer_step, to_local
from proteron.core.words import counted

_SUM, _MEAN, _MIN, _MAX, _FIRST, _LAST = range(6)
_WAYS = {"sum": _SUM, "mean": _MEAN, "min": _MIN, "max": _MAX, "first": _FIRST, "last": _LAST}
_EXACT_SECONDS = {"second": 1, "minute": 60, "hour": 3600}


@kernel
def _positions(seconds: Ints, start: int, width: int, out: NDArray[np.int32]) -> int:
    """Nearest grid position of every time; returns how many lie off the grid."""
    off = 0
    half = width // 2
    share = 1.0 / width
    for i in range(len(seconds)):
        gap = seconds[i] - start + half
        position = int(gap * share)
        rest = gap - position * width
        if rest < 0:
            position -= 1
            rest += width
        elif rest >= width:
            position += 1
            rest -= width
        out[i] = position
        off += rest != half
    return off


@kernel
def _extent(positions: NDArray[np.int32], codes: NDArray[np.int32], first: Ints, last: Ints) -> int:
    """First and last position of every key; returns how many rows go back in time within their key."""
    back = 0
    seen = np.full(len(first), -(2**31))
    for i in range(len(positions)):
        code, position = codes[i], positions[i]
        back += position < seen[code]
        seen[code] = position
        first[code] = min(first[code], position)
        last[code] = max(last[code], position)
    return back


@kernel
def _taken(positions: NDArray[np.int32], codes: NDArray[np.int32], shift: Ints, taken: NDArray[np.bool_]) -> int:
    """Mark the cells that have a row; returns how many rows find theirs taken."""
    twice = 0
    for i in range(len(positions)):
        cell = shift[codes[i]] + positions[i]
        twice += taken[cell]
        taken[cell] = True
    return twice


@kernel
def _scatter(positions: NDArray[np.int32], codes: NDArray[np.int32], shift: Ints, values: Floats, out: Floats) -> None:
    for i in range(len(positions)):
        out[shift[codes[i]] + positions[i]] = values[i]


@kernel
def _combine(cells: Ints, values: Floats, way: int, out: Floats) -> None:
    """Several values of a cell to one, missing ones passed over."""
    count = np.zeros(len(out))
    for i in range(len(cells)):
        value, cell = values[i], cells[i]
        if np.isnan(value):
            continue
        if count[cell] == 0 or way == 5:
            out[cell] = value
        elif way == 0 or way == 1:
            out[cell] += value
        elif way == 2:
            out[cell] = min(out[cell], value)
        elif way == 3:
            out[cell] = max(out[cell], value)
        count[cell] += 1
    if way == 1:
        for cell in range(len(out)):
            if count[cell] > 1:
                out[cell] /= count[cell]


@dataclass(frozen=True)
class Placed:
    """Rows on the grid: `positions` (n_rows,), and per key where its series begins and how long it is."""

    axis: TimeAxis
    rows: Rows
    positions: NDArray[np.int32]
    starts: Ints
    lengths: Ints
    taken: NDArray[np.bool_]  # (n_cells,) whether a row stands there
    way: str  # how several rows of one cell become one

    @property
    def offsets(self) -> Ints:
        return np.concatenate([[0], np.cumsum(self.lengths)]).astype(np.int64)

    def spread(self, values: Floats) -> Floats:
        """One value per row to one per cell, (n_cells,), NaN where there is no row."""
        out = np.full(len(self.taken), np.nan)
        shift = self.offsets[:-1] - self.starts
        if self.way in ("", "drop", "last"):
            _scatter(self.positions, self.rows.codes, shift, values, out)
        else:
            _combine(shift[self.rows.codes] + self.positions, values, _WAYS[self.way], out)
        return out


def place(raw: RawTable, rows: Rows, recipe: Recipe, ledger: Ledger) -> Placed:
    """Settle the step and put every row on the grid; raises `InputError` when there are not two times."""
    axis = TimeAxis(np.datetime64(rows.times.min(), "s"), _step(rows, recipe, ledger), recipe.zone).open_from()
    positions, off = _onto(rows, axis)
    if off:
        exact = _exact(rows, axis)
        out = rows.row_numbers(np.flatnonzero(~exact))
        if off * 2 > len(rows):
            # The first time is the odd one out: begin the grid where most times are.
            axis = _other_start(rows, axis)
            positions, _ = _onto(rows, axis)
            exact = _exact(rows, axis)
            out = rows.row_numbers(np.flatnonzero(~exact))
        message = f"{len(out):,} times do not lie on a grid of {axis.step} from {axis.start}: {line_text(raw, out)}."
        snap = Remedy("snap", "move them to the nearest step")
        chosen = ledger.add("off grid", "error", message, out, remedies=(snap, Remedy("drop", "leave these rows out")))
        if chosen == "drop":
            rows = rows.keep(exact)
            positions = positions[exact]
    return _without_repeats(raw, rows, axis, positions, recipe, ledger)


def _onto(rows: Rows, axis: TimeAxis) -> tuple[NDArray[np.int32], int]:
    """Grid positions and how many times lie off the grid."""
    if axis.step.unit in _EXACT_SECONDS:
        width = _EXACT_SECONDS[axis.step.unit] * axis.step.count
        positions = np.empty(len(rows), dtype=np.int32)
        if int((rows.times.max() - axis.start).astype(np.int64)) // width >= 2**31 - 1:
            raise InputError(
                f"The times span more than 2,147,483,647 steps of {axis.step}; state a longer step.", field="step"
            )
        off = _positions(rows.times.view(np.int64), int(axis.start.astype(np.int64)), width, positions)
        return positions, off
    positions_64, exact = grid_positions(rows.times, axis)
    return positions_64.astype(np.int32), int((~exact).sum())


def _exact(rows: Rows, axis: TimeAxis) -> NDArray[np.bool_]:
    return grid_positions(rows.times, axis)[1]


def _other_start(rows: Rows, axis: TimeAxis) -> TimeAxis:
    seconds = 86400 if axis.step.unit == "business_day" else int(axis.step.nominal_seconds)
    phases = rows.times.view(np.int64) % seconds
    values, counts = np.unique(phases, return_counts=True)
    wanted = values[np.argmax(counts)]
    first = rows.times[phases == wanted].min()
    back = int(
        np.ceil(max(0.0, float((first - rows.times.min()) / np.timedelta64(1, "s"))) / axis.step.nominal_seconds)
    )
    begun = TimeAxis(first, axis.step, axis.zone).open_from()
    return TimeAxis(np.datetime64(begun.times(np.array([-back]))[0], "s"), axis.step, axis.zone)


def _step(rows: Rows, recipe: Recipe, ledger: Ledger) -> Step:
    if recipe.step:
        return Step.parse(recipe.step)
    counts = np.bincount(rows.codes)
    distinct = np.unique(rows.times[rows.codes == counts.argmax()])
    if len(distinct) < 2:
        distinct = np.unique(rows.times)
    if len(distinct) < 2:
        raise InputError("One row is not a series: at least two different times are needed.", field="time")
    step = infer_step(distinct, recipe.zone)
    if step.unit == "business_day":
        return _open_step(rows, recipe, ledger)
    gaps = np.diff(to_local(distinct, recipe.zone)).astype(np.int64)
    if step.unit in ("second", "minute", "hour", "day", "week"):
        share = float((gaps == int(step.nominal_seconds)).mean())
        if share < 0.5 and len(gaps) > 3:
            message = f"Only {share:.0%} of the spacings are {step}: these may be events, to be bucketed."
            ledger.add("irregular spacing", "warning", message, count=int((1 - share) * len(gaps)))
    return step


def _open_step(rows: Rows, recipe: Recipe, ledger: Ledger) -> Step:
    """Business days, closed on the recipe's public holidays where no row lies on one; days where another row is open.

    Says how many open days no row lies on, since they would be gaps.
    """
    days = np.unique(to_local(rows.times, recipe.zone).astype("datetime64[D]"))
    named = tuple(f"{each.country}-{each.subdivision or ''}".upper().rstrip("-") for each in recipe.holidays)
    step = next(
        (each for each in (Step("business_day", 1, named), Step("business_day"))
         if np.is_busday(days, busdaycal=open_days(each.closed)).all()), Step("day"),
    )  # fmt: skip
    if step.unit == "business_day":
        calendar = open_days(step.closed)
        missing = int(np.busday_count(days[0], days[-1] + 1, busdaycal=calendar)) - len(days)
        more = (
            f" {missing:,} open days have no row: where they are holidays, name them, as in “business day of PT” or "
            "“business day except 2024-12-24”."
        )
        message = f"No row lies on a weekend: the step is {step}.{more if missing else ''}"
        ledger.add("business days", "note", message, count=missing)
    return step


def _without_repeats(
    raw: RawTable, rows: Rows, axis: TimeAxis, positions: NDArray[np.int32], recipe: Recipe, ledger: Ledger
) -> Placed:
    count = len(rows.keys)
    first, last = np.full(count, 2**31 - 1, dtype=np.int64), np.full(count, -(2**31), dtype=np.int64)
    back = _extent(positions, rows.codes, first, last)
    empty = last < first
    first[empty], last[empty] = 0, -1
    lengths = last - first + 1
    _check_size(int(lengths.sum()), len(rows), axis)
    shift = np.concatenate([[0], np.cumsum(lengths)[:-1]]) - first
    taken = np.zeros(int(lengths.sum()), dtype=bool)
    twice = _taken(positions, rows.codes, shift, taken)
    if back:
        said = f"{counted(back, 'row was', 'rows were')} not in order of time within their key: sorted."
        ledger.add("unsorted", "note", said, count=back)
    way = _repeats(raw, rows, axis, positions, shift, ledger) if twice else ""
    return Placed(axis, rows, positions, first, lengths, taken, way)


def _check_size(cells: int, rows: int, axis: TimeAxis) -> None:
    if cells > max(50_000_000, 200 * rows):
        raise InputError(
            f"On a grid of {axis.step} these {rows:,} rows would open {cells:,} steps. Are they events to be bucketed, "
            "or is a time wrong?",
            field="step",
        )


def _repeats(
    raw: RawTable, rows: Rows, axis: TimeAxis, positions: NDArray[np.int32], shift: Ints, ledger: Ledger
) -> str:
    """Rows with the time of an earlier one: the same row again, or another value."""
    cells = shift[rows.codes] + positions
    order = np.argsort(cells, kind="stable")
    repeat = np.zeros(len(order), bool)
    repeat[1:] = cells[order][1:] == cells[order][:-1]
    at, before = order[repeat], order[np.flatnonzero(repeat) - 1]
    same = np.ones(len(at), bool)
    for values in rows.columns.values():
        a, b = values[at], values[before]
        same &= (a == b) | (np.isnan(a) & np.isnan(b))
    plain, other = np.sort(at[same]), np.sort(at[~same])
    way = "drop"
    if len(plain):
        numbers = rows.row_numbers(plain)
        message = f"{counted(len(plain), 'row says', 'rows say')} the same as another: {line_text(raw, numbers)}."
        keep = [Remedy("drop", "leave the repeats out")]
        ledger.add("repeated rows", "warning", message, numbers, remedies=keep)
    if len(other):
        numbers = rows.row_numbers(other)
        when = str(axis.times(positions[other[:1]].astype(np.int64))[0]).replace("T", " ")
        key = rows.keys[int(rows.codes[other[0]])]
        message = (
            f"{len(other):,} times occur twice with different values, first {when}{f' of “{key}”' if key else ''} "
            f"({line_text(raw, numbers)}). Is a key column missing, or are the rows events?"
        )
        ways = [Remedy(w, t) for w, t in (
            ("last", "keep the last row"), ("first", "keep the first row"), ("mean", "take their mean"),
            ("sum", "add them up"), ("min", "keep the lowest"), ("max", "keep the highest"),
        )]  # fmt: skip
        way = ledger.add("duplicate times", "error", message, numbers, remedies=ways)
    return way
