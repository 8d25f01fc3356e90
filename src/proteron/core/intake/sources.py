"""One or several files to one raw table: unpacked, recognised by content, appended or joined."""

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, Literal, Protocol

import pyarrow as pa

from proteron.core.errors import InputError
from proteron.core.intake.across import downwards
from proteron.core.intake.compression import unpacked
from proteron.core.intake.delimited import Progress, read_delimited
from proteron.core.intake.durations import with_durations
from proteron.core.intake.limits import Limits, Source
from proteron.core.intake.raw import RawTable, ReaderSettings
from proteron.core.intake.structured import format_of, plain_columns, read_structured


class Framed(Protocol):
    """A data frame that hands itself over through the Arrow PyCapsule interface."""

    def __arrow_c_stream__(self, requested_schema: object = None) -> object:
        """The frame as a stream."""


Given = Source | str | Path | bytes | Framed
Combine = Literal["append", "join"]


def read_raw(
    given: Given | Sequence[Given],
    reader: ReaderSettings | None = None,
    limits: Limits | None = None,
    combine: Combine = "append",
    join_on: Sequence[str] = (),
    progress: Progress | None = None,
) -> RawTable:
    """Read sources, or one data frame, into one raw table.

    Several files of the same layout are appended; otherwise they are joined on `join_on`, by default
    the columns they share. Raises `InputError` and `LimitError`, always naming what is wrong.
    """
    reader, limits = reader or ReaderSettings(), limits or Limits()
    if hasattr(given, "__arrow_c_stream__"):
        return with_durations(downwards(_of_frame(given, limits), reader.across))
    many: list[Any] = list(given) if isinstance(given, list | tuple) else [given]
    sources = [Source.of(each) for each in many]
    if not sources:
        raise InputError("There is no file.", field="file")
    tables = [_read_one(source, reader, limits, progress) for source in sources]
    tables = [with_durations(downwards(table, reader.across)) for table in tables]
    if len(tables) == 1:
        return tables[0]
    combined = _append(tables, sources) if combine == "append" else _join(tables, sources, join_on)
    limits.check_table(combined.columns.num_rows, len(combined.names))
    return combined


def _of_frame(frame: Any, limits: Limits) -> RawTable:
    """Any data frame that hands itself over through Arrow, as if it had been read from a file."""
    try:
        table = pa.table(frame)
    except (pa.ArrowException, TypeError, ValueError) as error:
        raise InputError(f"This frame cannot be handed over: {str(error)[:160]}.", field="file") from error
    limits.check_table(table.num_rows, table.num_columns)
    if not table.num_rows or not table.num_columns:
        raise InputError("The frame has no rows.", field="file")
    return RawTable(plain_columns(table), "frame", {}, (), 1)


def _read_one(source: Source, reader: ReaderSettings, limits: Limits, progress: Progress | None) -> RawTable:
    with unpacked(source, limits, reader.member) as (inner, packing):
        kind = format_of(inner)
        if kind == "delimited":
            raw = read_delimited(inner, reader, limits, progress)
        else:
            raw = read_structured(inner, kind, reader, limits)
    pa.default_memory_pool().release_unused()  # what parsing needed goes back before rows are understood
    return replace(raw, facts={**raw.facts, **packing})


def _append(tables: list[RawTable], sources: list[Source]) -> RawTable:
    first = tables[0]
    for table, source in zip(tables[1:], sources[1:], strict=True):
        if set(table.names) != set(first.names):
            odd = sorted(set(table.names) ^ set(first.names))
            raise InputError(
                f"{source.name} has other columns than {sources[0].name}: {', '.join(odd[:8])}. Join them instead?",
                field="combine",
            )
    columns = [_on_end([table.columns[name] for table in tables]) for name in first.names]
    notes = tuple(note for table in tables for note in table.notes)
    facts = {
        **first.facts,
        "files": [source.name for source in sources],
        "rows_of": [t.columns.num_rows for t in tables],
    }
    return RawTable(pa.table(columns, names=first.names), first.format, facts, notes, first.first_line, first.per_line)


def _on_end(parts: list[Any]) -> Any:
    """One column of several, as numbers where all are, as text where their types differ otherwise."""
    if len({str(part.type) for part in parts}) > 1:
        numeric = all(pa.types.is_integer(part.type) or pa.types.is_floating(part.type) for part in parts)
        parts = [part.cast(pa.float64() if numeric else pa.string()) for part in parts]
    return pa.chunked_array([chunk for part in parts for chunk in part.chunks], parts[0].type)


def _join(tables: list[RawTable], sources: list[Source], join_on: Sequence[str]) -> RawTable:
    joined = tables[0].columns
    notes = list(tables[0].notes)
    for table, source in zip(tables[1:], sources[1:], strict=True):
        keys = list(join_on) or [name for name in joined.column_names if name in table.names]
        lacking = [name for name in keys if name not in table.names or name not in joined.column_names]
        if not keys or lacking:
            raise InputError(
                f"{source.name} and the files before it share no column {', '.join(lacking)} to join on.",
                field="combine",
            )
        right = table.columns
        for name in keys:
            if right[name].type != joined[name].type or pa.types.is_dictionary(right[name].type):
                right = right.set_column(right.column_names.index(name), name, right[name].cast(pa.string()))
                joined = joined.set_column(joined.column_names.index(name), name, joined[name].cast(pa.string()))
        if right.select(keys).group_by(keys).aggregate([]).num_rows != right.num_rows:
            raise InputError(f"{source.name} has several rows for the same {', '.join(keys)}.", field="combine")
        order = pa.array(range(joined.num_rows), pa.int64())
        suffix = f" of {source.name}"
        joined = joined.append_column("\0order", order).join(right, keys, join_type="left outer", right_suffix=suffix)
        joined = joined.sort_by("\0order").drop_columns(["\0order"])
        notes += table.notes
    facts = {**tables[0].facts, "files": [source.name for source in sources]}
    return RawTable(joined, tables[0].format, facts, tuple(notes), tables[0].first_line)
