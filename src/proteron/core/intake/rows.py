"""Rows with a meaning: times, keys and numbers per row, and what is wrong with single rows."""

import re
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from proteron.core.compiled import kernel
from proteron.core.errors import InputError
from proteron.core.intake.findings import LEAVE, Ledger, Remedy
from proteron.core.intake.numbers import categories_of, read_numbers
from proteron.core.intake.raw import RawTable, marks_of, plain_text
from proteron.core.intake.recipe import Recipe
from proteron.core.intake.roles import ROLES, Role
from proteron.core.intake.split_times import joined_times
from proteron.core.intake.times import SWAPPED, TimeReading, read_times
from proteron.core.panel import Floats
from proteron.core.timeline import Instants, Ints, Step, end_of_period, infer_step, parse_moment
from proteron.core.words import counted

_DROP = Remedy("drop", "leave these rows out")
_TOTAL_WORDS = re.compile(
    r"^\W*(grand\s+)?(sub)?(total|sum|summe|totaal|totale|somme|all|average|mean)s?\b", re.IGNORECASE
)
_DURATION_WORDS = ("duration", "minutes", "hours", "seconds", "length", "elapsed", "amount", "quantity", "count")
KEY_JOINT = " / "


@dataclass(frozen=True)
class Rows:
    """Aligned per row: `numbers` (n,) the row in the file, `times` (n,), `codes` (n,) into `keys`, columns (n,)."""

    numbers: Ints | None  # None: 0 … n - 1
    times: Instants
    codes: NDArray[np.int32]
    keys: tuple[str, ...]
    columns: dict[str, Floats]
    roles: dict[str, Role]
    labels: dict[str, tuple[str, ...]] = field(default_factory=dict)
    marks: Floats | None = None  # what the column of marks of an exported panel says, see MARKS

    def __len__(self) -> int:
        return len(self.times)

    def row_numbers(self, at: Any) -> Ints:
        return np.asarray(at, dtype=np.int64) if self.numbers is None else self.numbers[at]

    def keep(self, chosen: NDArray[np.bool_]) -> "Rows":
        """The rows where `chosen` (n,) holds."""
        if chosen.all():
            return self
        at = np.flatnonzero(chosen)
        columns = {name: values[at] for name, values in self.columns.items()}
        marks = None if self.marks is None else self.marks[at]
        return replace(
            self, numbers=self.row_numbers(at), times=self.times[at], codes=self.codes[at], columns=columns, marks=marks
        )

    def without_unused_keys(self) -> "Rows":
        """The same rows with the keys that none of them has left out."""
        used = np.bincount(self.codes, minlength=len(self.keys)) > 0
        if used.all():
            return self
        place = (np.cumsum(used) - 1).astype(np.int32)
        keys = tuple(key for key, has in zip(self.keys, used, strict=True) if has)
        return replace(self, codes=place[self.codes], keys=keys)

    def named(self, role: Role) -> list[str]:
        return [name for name in self.columns if self.roles[name] == role]


def line_text(raw: RawTable, rows: Ints) -> str:
    """Rows as people count them in the file."""
    shown = ", ".join(f"{raw.line(row):,}" for row in rows[:5].tolist())
    return f"line{'s' if len(rows) > 1 else ''} {shown}" + (f" and {len(rows) - 5:,} more" if len(rows) > 5 else "")


def read_rows(
    raw: RawTable, roles: Mapping[str, Role], categories: Mapping[str, bool], recipe: Recipe, ledger: Ledger
) -> Rows:
    """Interpret every column by its role.

    Raises `InputError` when there is no time, or no target and no events to count.
    """
    by_role = {role: [name for name in raw.names if roles.get(name) == role] for role in ROLES}
    _check_roles(raw, by_role, recipe)
    _say_what_was_noted(raw, by_role["ignore"], recipe, ledger)
    read = _times(raw, by_role["time"], recipe, ledger)
    times = read.instants
    usable = np.ones(len(times), bool) if recipe.checked else _no_totals(raw, by_role, times, ledger)
    _report_times(raw, by_role["time"][0], read, usable, ledger)
    usable &= ~np.isnat(times)
    codes, keys = _keys(raw, by_role["key"], ledger)
    columns: dict[str, Floats] = {}
    labels: dict[str, tuple[str, ...]] = {}
    for name in (each for each in raw.names if roles.get(each) in _AMOUNTS):
        asked = bool(categories.get(name)) and roles[name] != "target"
        kinds = categories_of(raw.columns[name], raw.format) if asked else None
        if kinds is not None:
            columns[name], labels[name] = kinds
        else:
            columns[name] = _numbers(raw, name, recipe, usable, ledger)
    empty = [name for name in by_role["target"] if not np.isfinite(columns[name]).any()]
    if empty:
        raise InputError(f"Column “{empty[0]}” has no value in any row.", field=empty[0])
    roles_of = {name: roles[name] for name in columns}
    rows = Rows(None, times, codes, keys, columns, roles_of, labels, marks_of(raw))
    return _in_period(rows.keep(usable), recipe, ledger).without_unused_keys()


_AMOUNTS = ("target", "observed", "known_ahead", "static")


def _check_roles(raw: RawTable, by_role: Mapping[Role, list[str]], recipe: Recipe) -> None:
    """Raise `InputError` where the roles give no time, or nothing to forecast."""
    if not by_role["time"]:
        problem = "No column reads as a time; mark one (or a date and a clock, or year and month)"
        raise InputError(f"{problem} of: {', '.join(raw.names[:20])}.", field="time")
    if not by_role["target"] and not (recipe.events and recipe.events.aggregate == "count"):
        raise InputError("No column is marked as the target: mark the numbers to forecast.", field="target")


def _say_what_was_noted(raw: RawTable, ignored: list[str], recipe: Recipe, ledger: Ledger) -> None:
    """Columns without a value, and what the reader of the file has to say."""
    for name in ignored:
        if _is_blank(raw, name, recipe):
            ledger.add("empty column", "note", f"Column “{name}” has no value in any row.", about=name, count=1)
    for note in raw.notes:
        ledger.add(note.code, note.severity, note.message, note.rows, note.count or len(note.rows))  # type: ignore[arg-type]


def _is_blank(raw: RawTable, name: str, recipe: Recipe) -> bool:
    column = raw.columns[name]
    if column.null_count == len(column):
        return True
    if not pa.types.is_string(column.type):
        return False
    marks = pa.array(recipe.reader.marks)
    return bool(pc.all(pc.is_in(pc.utf8_trim_whitespace(pc.drop_null(column)), value_set=marks)).as_py())


def _times(raw: RawTable, names: list[str], recipe: Recipe, ledger: Ledger) -> TimeReading:
    column = raw.columns[names[0]] if len(names) == 1 else joined_times({name: raw.columns[name] for name in names})
    read = read_times(column, recipe.zone, recipe.time_form, serials=True)
    if read is None:
        sample = [str(v) for v in column.slice(0, 3).to_pylist()]
        raise InputError(f"Column “{names[0]}” is not a time: {', '.join(sample)[:80]}.", field=names[0])
    if read.ambiguous and recipe.time_form is None:
        stated = _of_stated_step(column, recipe)
        read = stated or _either_way_round(read, column, names[0], recipe, ledger)
    if read.skipped:
        message = f"{read.skipped:,} times lie in an hour that a clock change of {recipe.zone} skips: moved on by it."
        ledger.add("skipped hour", "warning", message, count=read.skipped)
    if recipe.zone != "UTC" and read.naive.any():
        _clock_changes(read.instants, recipe.zone, raw, ledger)
    return read


def _of_stated_step(column: Any, recipe: Recipe) -> TimeReading | None:
    """The one reading of day and month whose spacing is the stated step; None where that settles nothing."""
    if recipe.step is None or recipe.events is not None:
        return None
    wanted = Step.parse(recipe.step)
    reads = [read_times(column, recipe.zone, form, serials=True) for form in SWAPPED]
    fitting = [read for read in reads if read is not None and _step_of(read, recipe.zone) == wanted]
    return fitting[0] if len(fitting) == 1 else None


def _step_of(read: TimeReading, zone: str) -> Step | None:
    known = np.unique(read.instants[~np.isnat(read.instants)])
    return infer_step(known, zone) if len(known) > 1 else None


def _either_way_round(read: TimeReading, column: Any, name: str, recipe: Recipe, ledger: Ledger) -> TimeReading:
    """Dates whose day and month could be swapped, as they are read or the other way, as the ledger's choice says."""
    first = read.form
    other = "month first" if first == "day first" else "day first"
    forms = [Remedy(form, f"read them {form}") for form in (first, other)]
    message = f"No day in “{name}” is above 12: day and month could be either way round. Read {first}."
    chosen = ledger.add("ambiguous dates", "error", message, count=len(read.instants), about=name, remedies=forms)
    return (read_times(column, recipe.zone, other, serials=True) or read) if chosen == other else read


def _report_times(raw: RawTable, name: str, read: TimeReading, usable: NDArray[np.bool_], ledger: Ledger) -> None:
    """Rows whose time is missing or cannot be read."""
    bad = np.flatnonzero(read.bad & usable)
    if len(bad):
        text = str(raw.columns[name][int(bad[0])].as_py())[:40]
        message = f"“{name}” is not a time in {line_text(raw, bad)}: “{text}”."
        ledger.add("unreadable times", "error" if len(bad) > 1 else "warning", message, bad, remedies=(_DROP,))
    empty = np.flatnonzero(np.isnat(read.instants) & ~read.bad & usable)
    if len(empty):
        message = f"{counted(len(empty), 'row has', 'rows have')} no time: {line_text(raw, empty)}."
        ledger.add("missing times", "warning", message, empty, remedies=(_DROP,))


def _clock_changes(instants: Instants, zone: str, raw: RawTable, ledger: Ledger) -> None:
    """Name wall-clock hours that repeat or do not exist; repeated ones in file order are told apart in place."""
    from proteron.core.timeline import to_local

    known = np.flatnonzero(~np.isnat(instants))
    local = to_local(instants[known], zone)
    later = instants[known] + np.timedelta64(3600, "s")
    repeated = to_local(later, zone) == local
    at = known[repeated]
    if not len(at):
        return
    stamps = instants[at]
    # The second run of the same stamps, as they follow each other in the file, is the hour after the change.
    before = instants[np.maximum(at - 1, 0)]
    second = (stamps <= before) & (at > 0)
    moved = np.zeros(len(at), bool)
    run = False
    for i in range(len(at)):
        contiguous = i > 0 and at[i] == at[i - 1] + 1
        run = bool(second[i]) or (run and contiguous)
        moved[i] = run
    instants[at[moved]] += np.timedelta64(3600, "s")
    message = (
        f"{counted(len(at), 'row lies', 'rows lie')} in an hour that the clock change repeats; "
        f"{int(moved.sum()):,} of them in the second one."
    )
    ledger.add("clock change", "note", message, at)


def _no_totals(raw: RawTable, by_role: Mapping[Role, list[str]], times: Instants, ledger: Ledger) -> NDArray[np.bool_]:
    """The last rows that are sums of the others: by a word in them, by lacking a time, or by being the sum."""
    count = raw.columns.num_rows
    usable = np.ones(count, bool)
    last = range(max(0, count - 3), count)
    reasons = []
    rows = []
    for row in last:
        (cells,) = raw.cells([row])
        word = next((cell for cell in cells if _TOTAL_WORDS.match(cell)), None)
        summed = _is_sum(raw, by_role["target"], row) if np.isnat(times[row]) or word else False
        if word is not None or (np.isnat(times[row]) and summed):
            why = f"says “{word.strip()[:30]}”" if word else "has no time"
            reasons.append(f"line {raw.line(row):,} {why}" + (" and is the sum of the rows above" if summed else ""))
            rows.append(row)
    if rows:
        keep = Remedy("keep", "keep them as data")
        told = counted(len(rows), "row at the end is a total", "rows at the end are totals")
        message = f"{told}, not data: {'; '.join(reasons)}."
        if ledger.add("totals row", "warning", message, rows, remedies=(_DROP, keep)) == "drop":
            usable[rows] = False
    return usable


def _is_sum(raw: RawTable, targets: list[str], row: int) -> bool:
    from proteron.core.intake.raw import ReaderSettings

    if row == 0 or not targets:
        return False
    values = read_numbers(raw.columns[targets[0]].slice(0, row + 1), ReaderSettings()).values
    total, above = values[-1], np.nansum(values[:-1])
    return bool(np.isfinite(total) and abs(total - above) <= 0.02 * max(abs(above), 1e-12))


def _keys(raw: RawTable, names: list[str], ledger: Ledger) -> tuple[NDArray[np.int32], tuple[str, ...]]:
    """Codes (n_rows,) and joined key texts in order of first appearance; one empty key where there is none."""
    if not names:
        return np.zeros(raw.columns.num_rows, dtype=np.int32), ("",)
    codes: Any = None
    labels = [""]
    for number, name in enumerate(names):
        mine, texts = _texts(raw.columns[name], raw.format, name in (raw.facts.get("quoted") or ()))
        if number == 0:
            codes, labels = mine, texts
            continue
        pairs, codes = np.unique(codes.astype(np.int64) * len(texts) + mine, return_inverse=True)
        labels = [labels[p // len(texts)] + KEY_JOINT + texts[p % len(texts)] for p in pairs.tolist()]
    codes, labels = _like_keys(codes, labels, ledger)
    first = np.full(len(labels), len(codes), dtype=np.int64)
    _first_rows(codes, first)
    order = np.argsort(first, kind="stable")
    order = order[first[order] < len(codes)]
    if (order == np.arange(len(order))).all():
        return codes.astype(np.int32, copy=False), tuple(labels[: len(order)])
    place = np.zeros(len(labels), dtype=np.int32)
    place[order] = np.arange(len(order), dtype=np.int32)
    return place[codes], tuple(labels[i] for i in order)


@kernel
def _first_rows(codes: Any, first: Ints) -> None:
    """The first row of every code."""
    for i in range(len(codes)):
        if i < first[codes[i]]:
            first[codes[i]] = i


def _texts(column: Any, kind: str, quoted: bool) -> tuple[NDArray[np.int32], list[str]]:
    """Codes and texts of one key column; an apostrophe that kept a spreadsheet from reading a formula is taken off."""
    if not pa.types.is_dictionary(column.type):
        column = column.cast(pa.string()).dictionary_encode()
    chunks = column.unify_dictionaries().chunks if isinstance(column, pa.ChunkedArray) else [column]
    texts = [str(v) for v in chunks[0].dictionary.to_pylist()]
    indices = np.concatenate([np.asarray(pc.fill_null(chunk.indices, len(texts)), dtype=np.int32) for chunk in chunks])
    named = [text for text in texts if text.strip()]
    if named and kind == "delimited" and not quoted and all(text[:1] == " " for text in named):
        # a space after every delimiter
        texts = [text.strip() for text in texts]
    texts = [plain_text(text, kind) for text in texts] + ["(none)"]
    unique = {text: code for code, text in enumerate(dict.fromkeys(texts))}
    if len(unique) < len(texts):
        indices = np.array([unique[text] for text in texts], dtype=np.int32)[indices]
    return indices, list(unique)


def _like_keys(codes: Ints, labels: list[str], ledger: Ledger) -> tuple[Ints, list[str]]:
    """Keys that differ in case or blanks only."""
    folded: dict[str, list[int]] = {}
    for code, label in enumerate(labels):
        folded.setdefault(" ".join(label.casefold().split()), []).append(code)
    alike = [group for group in folded.values() if len(group) > 1]
    if not alike:
        return codes, labels
    shown = "; ".join(" = ".join(f"“{labels[c]}”" for c in group) for group in alike[:3])
    merge = Remedy("merge", "take them as one key")
    message = f"{len(alike)} keys differ only in case or blanks: {shown}."
    if ledger.add("keys alike", "warning", message, count=len(alike), remedies=(LEAVE, merge)) == "merge":
        target = np.arange(len(labels))
        for group in alike:
            target[group] = group[0]
        codes = target[codes]
    return codes, labels


def _numbers(raw: RawTable, name: str, recipe: Recipe, usable: NDArray[np.bool_], ledger: Ledger) -> Floats:
    reader = recipe.reader
    if reader.delimiter is None and raw.facts.get("delimiter"):
        reader = reader.model_copy(update={"delimiter": raw.facts["delimiter"]})
    read = read_numbers(raw.columns[name], reader)
    bad = np.flatnonzero(read.bad & usable)
    if len(bad):
        text = str(raw.columns[name][int(bad[0])].as_py())[:40]
        said = f"Column “{name}” is not a number in {line_text(raw, bad)}: “{text}”."
        ledger.add(
            "mixed types", "error", said, bad, about=name,
            remedies=(Remedy("missing", "take them as missing"), Remedy("drop", "leave these rows out")),
        )  # fmt: skip
        if len(bad) == int(usable.sum()):
            raise InputError(said, field=name)
        if ledger.found[-1].chosen == "drop":
            usable[bad] = False
    if read.infinite.any():
        at = np.flatnonzero(read.infinite)
        message = f"“{name}” is infinite in {line_text(raw, at)}: taken as missing."
        ledger.add("infinite", "warning", message, at, about=name)
    if read.ambiguous:
        comma, thousands = Remedy("decimal comma", "it is the decimal mark"), Remedy("thousands", "it groups thousands")
        ways = (comma, thousands) if read.style == "decimal comma" else (thousands, comma)
        message = f"“{name}” has a comma before three digits throughout: a decimal mark, or thousands?"
        chosen = ledger.add("number style", "error", message, about=name, count=len(read.values), remedies=ways)
        if chosen != ways[0].name:
            other = "." if read.style == "decimal comma" else ","
            read = read_numbers(raw.columns[name], reader.model_copy(update={"decimal": other}))
    if read.percent:
        ledger.add("percent", "note", f"“{name}” has percent signs: read as shares of one.", about=name)
    return _not_negative(raw, name, read.values, usable, ledger)


def _not_negative(raw: RawTable, name: str, values: Floats, usable: NDArray[np.bool_], ledger: Ledger) -> Floats:
    """Few negatives in a column that is positive otherwise: bookings turned round, or durations that cannot be."""
    if ledger.trusting:
        return values
    low = np.flatnonzero((values < 0) & usable)
    known = int(np.isfinite(values).sum())
    timed = any(word in name.lower() for word in _DURATION_WORDS)
    if not len(low) or len(low) > (0.05 if timed else 0.01) * known:
        return values
    remedies = [LEAVE, Remedy("missing", "take them as missing"), Remedy("absolute", "turn the sign"), _DROP]
    if timed:
        remedies = [_DROP, *remedies[:3]]
    message = (
        f"{len(low):,} of {known:,} values of “{name}” {'is' if len(low) == 1 else 'are'} negative "
        f"({line_text(raw, low)}); no other is."
    )
    chosen = ledger.add("negative", "warning", message, low, about=name, remedies=remedies)
    if chosen == "drop":
        usable[low] = False
    elif chosen == "missing":
        values = values.copy()
        values[low] = np.nan
    elif chosen == "absolute":
        values = np.abs(values)
    return values


def _in_period(rows: Rows, recipe: Recipe, ledger: Ledger) -> Rows:
    """Rows outside the stated period, and rows dated after today."""
    if not len(rows):
        raise InputError("No row has a time that can be read.", field="time")
    inside = np.ones(len(rows), bool)
    if recipe.period_start:
        inside &= rows.times >= parse_moment(recipe.period_start, recipe.zone)
    if recipe.period_end:
        inside &= rows.times < end_of_period(recipe.period_end, recipe.zone)
    if not inside.all():
        out = rows.row_numbers(np.flatnonzero(~inside))
        message = f"{counted(len(out), 'row lies', 'rows lie')} outside the stated period."
        if ledger.add("outside period", "warning", message, out, remedies=(_DROP, LEAVE)) == "drop":
            rows = rows.keep(inside)
            if not len(rows):
                raise InputError("No row lies in the stated period.", field="period_start")
    now = np.datetime64("now", "s")
    if rows.times.max() > now:
        future = rows.times > now
        out = rows.row_numbers(np.flatnonzero(future))
        message = f"{counted(len(out), 'row is', 'rows are')} dated after today, the last {rows.times.max()}."
        chosen = ledger.add("future dates", "warning", message, out, remedies=(LEAVE, _DROP))
        if chosen == "drop":
            rows = rows.keep(~future)
    return rows
