"""Formats that carry their own columns: JSON lines and arrays, Parquet, Arrow, workbooks."""

import datetime
import json
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.feather as pa_feather
import pyarrow.json as pa_json
import pyarrow.parquet as pa_parquet

from proteron.core.errors import InputError
from proteron.core.intake.heading import find_heading
from proteron.core.intake.limits import Limits, Source
from proteron.core.intake.raw import Note, RawTable, ReaderSettings, distinct_names, plain_text
from proteron.core.words import counted

_SAMPLE = 1 << 16
_BROKEN = (
    pa.ArrowException,
    OSError,
    ValueError,
    KeyError,
    TypeError,
    OverflowError,
    RecursionError,
    NotImplementedError,
)


def format_of(source: Source) -> str:
    """Parquet, arrow, workbook, json lines, json array or delimited, by content rather than by name."""
    head = source.head(_SAMPLE)
    if head.startswith(b"PAR1"):
        return "parquet"
    if head.startswith((b"ARROW1", b"\xff\xff\xff\xff", b"FEA1")):
        return "arrow"
    if head.startswith((b"PK\x03\x04", b"\xd0\xcf\x11\xe0")):
        return "workbook"
    text = head.removeprefix(b"\xef\xbb\xbf").lstrip()
    if text.startswith(b"{"):
        return "json lines"
    if text.startswith(b"[") and text[1:200].lstrip()[:1] in (b"{", b"]"):
        return "json array"
    return "delimited"


def read_structured(source: Source, kind: str, reader: ReaderSettings, limits: Limits) -> RawTable:
    """Raises `InputError` for broken content, `LimitError` beyond the limits."""
    readers = {
        "parquet": _parquet, "arrow": _arrow, "workbook": _workbook, "json lines": _json_lines,
        "json array": _json_array,
    }  # fmt: skip
    try:
        raw = readers[kind](source, reader, limits)
    except InputError:
        raise
    except _BROKEN as error:
        raise InputError(f"This {kind} file is broken: {str(error).splitlines()[0][:160]}.", field="file") from error
    limits.check_table(raw.columns.num_rows, len(raw.names))
    if raw.columns.num_rows == 0 or not raw.names:
        raise InputError(f"This {kind} file has no rows.", field="file")
    return raw


def _opened(source: Source) -> Any:
    return pa.BufferReader(source.content) if isinstance(source.content, bytes) else pa.memory_map(str(source.content))


def _parquet(source: Source, reader: ReaderSettings, limits: Limits) -> RawTable:
    file = pa_parquet.ParquetFile(_opened(source))
    limits.check_table(file.metadata.num_rows, len(file.schema_arrow.names))
    return RawTable(plain_columns(file.read()), "parquet")


def _arrow(source: Source, reader: ReaderSettings, limits: Limits) -> RawTable:
    opened = _opened(source)
    if source.head(4) == b"\xff\xff\xff\xff":
        return RawTable(plain_columns(pa.ipc.open_stream(opened).read_all()), "arrow")
    return RawTable(plain_columns(pa_feather.read_table(opened)), "arrow")


def _json_lines(source: Source, reader: ReaderSettings, limits: Limits) -> RawTable:
    try:
        # The compiled reader would take times for UTC whatever they say, so they are read as text.
        head = source.head(_SAMPLE * 16)
        lines = head[: head.rfind(b"\n") + 1] or head
        schema = pa_json.read_json(pa.BufferReader(lines)).schema
        stamps = pa.schema([(field.name, pa.string()) for field in schema if pa.types.is_timestamp(field.type)])
        parse = pa_json.ParseOptions(newlines_in_values=False, explicit_schema=stamps if len(stamps) else None)
        with _opened(source) as opened:
            table = pa_json.read_json(opened, parse_options=parse)
        if any(pa.types.is_timestamp(kind) for kind in table.schema.types):
            return _plain_lines(source, limits)
        return RawTable(plain_columns(table), "json lines")
    except pa.ArrowInvalid:
        return _plain_lines(source, limits)


def _plain_lines(source: Source, limits: Limits) -> RawTable:
    """Line by line, for files whose values change type or that hold broken lines."""
    content = source.content if isinstance(source.content, bytes) else source.content.read_bytes()
    records, broken = [], []
    for number, line in enumerate(content.decode("utf-8-sig", errors="replace").splitlines()):
        if not line.strip():
            continue
        try:
            record = json.loads(line)
        except (ValueError, RecursionError):
            record = None
        if isinstance(record, dict):
            records.append(record)
        else:
            broken.append(number)
    if not records:
        raise InputError("No line is a JSON object.", field="file")
    raw = _from_records(records, "json lines")
    if broken:
        note = f"{counted(len(broken), 'line is no JSON object', 'lines are no JSON objects')}: left out."
        raw = raw.noted(Note("broken lines", note, tuple(broken[:20]), len(broken), "error"))
    return raw


def _json_array(source: Source, reader: ReaderSettings, limits: Limits) -> RawTable:
    content = source.content if isinstance(source.content, bytes) else source.content.read_bytes()
    records = json.loads(content.decode("utf-8-sig"))
    if not all(isinstance(record, dict) for record in records):
        raise InputError("The JSON array holds something other than objects.", field="file")
    return _from_records(records, "json array")


def _from_records(records: list[dict[str, Any]], kind: str) -> RawTable:
    records = [_flat(record) for record in records]
    names = list(dict.fromkeys(str(name) for record in records for name in record))
    if len(names) > 100_000:
        raise InputError(f"The objects have {len(names):,} different names.", field="file")
    columns = [_column([record.get(name) for record in records]) for name in names]
    return RawTable(plain_columns(pa.table(columns, names=distinct_names(names))), kind)


def _flat(record: dict[str, Any], above: str = "", depth: int = 8) -> dict[str, Any]:
    """A record with what lies in objects within it under dotted names."""
    out: dict[str, Any] = {}
    for name, value in record.items():
        if isinstance(value, dict) and depth:
            out |= _flat(value, f"{above}{name}.", depth - 1)
        else:
            out[f"{above}{name}"] = value
    return out


def _column(values: list[Any]) -> Any:
    """Numbers, times or, where kinds are mixed, text."""
    kinds = {type(value) for value in values if value is not None}
    if kinds and kinds <= {int, float}:
        return pa.array([None if v is None else float(v) for v in values], type=pa.float64())
    if kinds == {bool}:
        return pa.array(values, type=pa.bool_())
    if kinds and kinds <= {datetime.datetime, datetime.date}:
        stamps = [
            None if v is None else v if isinstance(v, datetime.datetime) else datetime.datetime(v.year, v.month, v.day)
            for v in values
        ]
        return pa.array(stamps, type=pa.timestamp("us"))
    return pa.array([None if v is None else _plain_text(v) for v in values], type=pa.string())


def _plain_text(value: Any) -> str:
    if isinstance(value, str):
        return value
    if isinstance(value, datetime.datetime):
        return value.isoformat(sep=" ")
    if isinstance(value, float) and value.is_integer() and abs(value) < 1e15:
        return str(int(value))
    return json.dumps(value, ensure_ascii=False) if isinstance(value, list | dict | bool) else str(value)


def plain_columns(table: pa.Table) -> pa.Table:
    """Nested objects become dotted columns, lists become their JSON text, wide types plain ones."""
    for _ in range(8):
        if not any(pa.types.is_struct(kind) for kind in table.schema.types):
            break
        table = table.flatten()
    columns = [_plain_column(column) for column in table.columns]
    return pa.table(columns, names=distinct_names(list(table.column_names)))


def _plain_column(column: Any) -> Any:
    """One column in a type that the readers know."""
    kind, types = column.type, pa.types
    if types.is_dictionary(kind) and not types.is_string(kind.value_type):
        return pc.cast(column, kind.value_type)
    if any(is_kind(kind) for is_kind in (types.is_nested, types.is_binary, types.is_large_binary)):
        return pa.array([None if v is None else _plain_text(str(v)) for v in column.to_pylist()], pa.string())
    for wanted, kinds in (
        (pa.string(), (types.is_large_string, types.is_string_view, types.is_null, types.is_time)),
        (pa.float64(), (types.is_decimal, types.is_float16, types.is_float32)),
        (pa.timestamp("s"), (types.is_date,)),
    ):
        if any(is_kind(kind) for is_kind in kinds):
            return column.cast(wanted)
    return column


def _workbook(source: Source, reader: ReaderSettings, limits: Limits) -> RawTable:
    from python_calamine import CalamineError, CalamineWorkbook

    try:
        if isinstance(source.content, bytes):
            book = CalamineWorkbook.from_filelike(pa.BufferReader(source.content))
        else:
            book = CalamineWorkbook.from_path(str(source.content))
        sheets = list(book.sheet_names)
        if reader.sheet is not None and reader.sheet not in sheets:
            raise InputError(f"There is no sheet “{reader.sheet}”; there are: {', '.join(sheets[:20])}.", field="sheet")
        chosen, rows = _sheet_rows(book, reader.sheet, sheets, limits)
    except (CalamineError, IndexError) as error:
        raise InputError(f"This workbook is broken: {str(error)[:160]}.", field="file") from error
    except BaseException as error:
        if type(error).__name__ == "PanicException":  # a panic of the compiled reader is no Exception
            raise InputError("This workbook is broken: it cannot be read.", field="file") from error
        raise
    return _from_sheet(rows, chosen, sheets, reader)


def _sheet_rows(book: Any, wanted: str | None, sheets: list[str], limits: Limits) -> tuple[str, list[list[Any]]]:
    """The sheet asked for, else the first that holds a table: two rows and two columns; and its rows."""
    first: tuple[str, list[list[Any]]] | None = None
    for name in [wanted] if wanted is not None else sheets:
        sheet = book.get_sheet_by_name(name)
        limits.check_table(sheet.total_height, sheet.total_width)
        rows = sheet.to_python(skip_empty_area=True)
        first = first or (name, rows)
        if sum(sum(cell != "" for cell in row) >= 2 for row in rows) >= 2:
            return name, rows
    assert first is not None
    return first


def _from_sheet(rows: list[list[Any]], chosen: str, sheets: list[str], reader: ReaderSettings) -> RawTable:
    rows = [row for row in rows if any(cell != "" for cell in row)]
    if not rows:
        raise InputError(f"Sheet “{chosen}” is empty.", field="sheet")
    heading = find_heading([[_plain_text(c) for c in row] for row in rows[:60]], reader.skip_rows, reader.header_rows)
    body = rows[heading.skip + heading.rows :]
    names = distinct_names([plain_text(name, "workbook") for name in heading.names])
    columns = []
    for position in range(len(names)):
        cells = [row[position] if position < len(row) else None for row in body]
        columns.append(_column([None if cell == "" else cell for cell in cells]))
    facts = {"sheet": chosen, "sheets": sheets, "header_rows": heading.rows, "skip_rows": heading.skip}
    raw = RawTable(pa.table(columns, names=names), "workbook", facts, (), heading.skip + heading.rows + 1)
    if len(sheets) == 1 or reader.sheet is not None:
        return raw
    others = ", ".join(f"“{name}”" for name in sheets if name != chosen)
    return raw.noted(Note("sheets", f"Sheet “{chosen}” is read; there are also {others}.", severity="note"))
