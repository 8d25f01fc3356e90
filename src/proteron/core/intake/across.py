"""Sheets with times across: columns whose names are times, turned into rows."""

import re

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from proteron.core.intake.raw import Note, RawTable, distinct_names
from proteron.core.intake.split_times import Part, part_of
from proteron.core.intake.times import MONTHS, read_times

_LEAST = 3
_SAMPLE = 4000  # rows that tell what a column is
_MONTH_NAME = re.compile(r"^([A-Za-z]{3,9})\.?$")


def downwards(raw: RawTable, wanted: bool | None = None) -> RawTable:
    """The same cells, one time below the other, where times stand across; else the table as it is.

    Each row of the sheet becomes as many rows as it has times; times that are empty for all rows at either end are
    left out. `wanted` False leaves every table as it is.
    """
    if wanted is False or raw.columns.num_rows == 0:
        return raw
    across, ahead = _times_across(raw)
    if len(across) < _LEAST or not _are_amounts(raw, across):
        return raw
    inner = _used(raw, across)
    rows, width = raw.columns.num_rows, len(inner)
    repeats = np.repeat(np.arange(rows), width)
    beside = [name for name in raw.names if name not in across and name != ahead]
    columns = [raw.columns[name].take(pa.array(repeats)) for name in beside]
    texts = [across[name] for name in inner]
    if ahead is None:
        when = pa.array(texts * rows)
    else:
        first = pc.utf8_trim_whitespace(raw.columns[ahead].cast(pa.string()))
        when = _with_part(pa.array(first.to_pylist(), pa.string()).take(pa.array(repeats)), texts * rows, raw, ahead)
    cells = [chunk for name in inner for chunk in raw.columns[name].cast(pa.string()).chunks]
    value = pa.chunked_array(cells, pa.string()).take(pa.array(np.arange(rows * width).reshape(width, rows).T.ravel()))
    names = distinct_names([*beside, "time", "value"])
    said = f"{len(across)} columns are named by times, from “{inner[0]}” to “{inner[-1]}”: read as rows."
    turned = RawTable(
        pa.table([*columns, when, value], names=names), raw.format, {**raw.facts, "across": len(across)}, raw.notes,
        raw.first_line, width,
    )  # fmt: skip
    return turned.noted(Note("times across", said, count=len(across), severity="note"))


def _times_across(raw: RawTable) -> tuple[dict[str, str], str | None]:
    """Columns named by times, each with its time as text, and the column of years (or months) that completes them."""
    partial, whole = _partial_names(raw.names), _whole_names(raw)
    years = {name: name.strip() for name in raw.names if re.fullmatch(r"(19|20)\d\d", name.strip())}
    if max(map(len, (partial, whole, years))) < _LEAST:  # most tables: nothing of their cells is looked at
        return {}, None
    parts = {name: part_of(name, raw.columns[name].slice(0, _SAMPLE)) for name in raw.names[:6]}
    year, within = _first_of(parts, "year"), _first_of(parts, "month", "quarter", "week")
    if year is not None and len(partial) >= _LEAST:
        return partial, year
    if within is not None and len(years) >= _LEAST:
        return years, within
    if _first_of(parts, "date", "clock") is not None:
        return {}, None
    if len(years) >= _LEAST and set(np.diff([int(text) for text in years.values()])) == {1}:
        return years, None
    return whole, None


def _first_of(parts: dict[str, Part | None], *wanted: Part) -> str | None:
    return next((name for name, part in parts.items() if part in wanted), None)


def _whole_names(raw: RawTable) -> dict[str, str]:
    """Columns whose names are dates, months or quarters with their year."""
    read = read_times(pa.chunked_array([[name.strip() for name in raw.names]]), "UTC")
    if read is None or read.form in ("year", "spreadsheet serial") or read.form.startswith("epoch"):
        return {}
    found = [name for name, instant in zip(raw.names, read.instants, strict=True) if not np.isnat(instant)]
    return {name: name.strip() for name in found}


def _partial_names(names: list[str]) -> dict[str, str]:
    """Columns named by months, quarters or weeks, which a column of years would complete."""
    found = {}
    for name in names:
        match = _MONTH_NAME.match(name.strip())
        if match and match.group(1).lower()[:3] in MONTHS:
            found[name] = f"{MONTHS.index(match.group(1).lower()[:3]) + 1:02d}"
        elif re.fullmatch(r"Q[1-4]", name.strip()) or re.fullmatch(r"W\d{2}", name.strip()):
            found[name] = name.strip()
    numbered = [name for name in names if re.fullmatch(r"0?[1-9]|1[0-2]", name.strip())]
    return found or ({name: f"{int(name):02d}" for name in numbered} if len(numbered) == 12 else {})


def _with_part(first: pa.Array, texts: list[str], raw: RawTable, ahead: str) -> pa.Array:
    """Year and month as one text, whichever of the two stands in the rows."""
    part: Part | None = part_of(ahead, raw.columns[ahead].slice(0, _SAMPLE))
    across = pa.array(texts)
    if part == "year":
        return pc.binary_join_element_wise(first, across, "-")
    numbered = pc.index_in(pc.utf8_slice_codeunits(pc.utf8_lower(first), 0, 3), pa.array(MONTHS))
    named = pc.utf8_lpad(pc.cast(pc.add(numbered, 1), pa.string()), 2, "0")
    bare = pc.utf8_lpad(pc.replace_substring_regex(first, r"^[QW]", ""), 2, "0")
    text = pc.coalesce(named, bare)
    mark = {"quarter": "-Q", "week": "-W"}.get(str(part), "-")
    return pc.binary_join_element_wise(across, pc.utf8_slice_codeunits(text, 1) if part == "quarter" else text, mark)


def _are_amounts(raw: RawTable, across: dict[str, str]) -> bool:
    """Whether most cells under the times are numbers, and nearly all of the sheet but its names stands under them."""
    if len(across) < len(raw.names) - 6:
        return False
    some = [raw.columns[name].slice(0, 50).cast(pa.string()) for name in list(across)[:50]]
    text = [cell.strip() for column in some for cell in column.to_pylist() if cell and cell.strip()]
    return bool(text) and sum(bool(re.search(r"\d", cell)) for cell in text) > 0.7 * len(text)


def _used(raw: RawTable, across: dict[str, str]) -> list[str]:
    """The columns of times from the first to the last that has any value."""
    names = list(across)
    there = [not _is_empty(raw.columns[name]) for name in names]
    if not any(there):
        return names
    return names[there.index(True) : len(there) - there[::-1].index(True)]


def _is_empty(column: pa.ChunkedArray) -> bool:
    text = pc.utf8_trim_whitespace(pc.drop_null(column).cast(pa.string()))
    return not len(text) or not bool(pc.any(pc.not_equal(text, "")).as_py())
