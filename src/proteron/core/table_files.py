"""Arrow tables as files: CSV, JSON, Parquet, Arrow, XLSX, with what they are about where the format has a place."""

import io
import json
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from proteron.core.csv_tables import csv_bytes, neutral
from proteron.core.errors import LimitError, SettingsError

SHEET_ROWS = 1_048_575
ABOUT = "about"  # the key of the document in Parquet's and Arrow's metadata, and the name of the sheet
FORMATS = {
    "csv": "text/csv; charset=utf-8",
    "json": "application/json",
    "parquet": "application/vnd.apache.parquet",
    "arrow": "application/vnd.apache.arrow.file",
    "arrows": "application/vnd.apache.arrow.stream",
    "xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
}


def written(table: pa.Table, format: str, about: Mapping[str, Any] | None = None) -> bytes:
    """A table as a file of one of `FORMATS`; in JSON what is no number is null, in CSV nothing is a formula.

    `about` is a JSON document that goes with it: beside the rows in JSON, in the metadata of Parquet and Arrow, on a
    sheet of its own in XLSX; CSV has no place for it. Raises `LimitError` for more rows than a sheet holds.
    """
    if format not in FORMATS:
        raise SettingsError(f"“{format}” is no format to write; there are: {', '.join(FORMATS)}.", field="format")
    if format == "csv":
        return csv_bytes(table)
    if format == "json":
        return _json(table.to_pylist(), about)
    out = io.BytesIO()
    if format == "xlsx":
        write_xlsx(table, out, ABOUT if about is None else "table", about)
        return out.getvalue()
    if about is not None:
        told = json.dumps(about, ensure_ascii=False, default=str).encode()
        table = table.replace_schema_metadata({ABOUT.encode(): told})
    if format == "parquet":
        pq.write_table(table, out)
    else:
        with (pa.ipc.new_file if format == "arrow" else pa.ipc.new_stream)(out, table.schema) as writer:
            writer.write_table(table)
    return out.getvalue()


def _json(rows: Sequence[Mapping[str, Any]], about: Mapping[str, Any] | None) -> bytes:
    plain = [
        {name: None if isinstance(value, float) and not np.isfinite(value) else value for name, value in row.items()}
        for row in rows
    ]
    document = plain if about is None else {"about": about, "rows": plain}
    return json.dumps(document, ensure_ascii=False, indent=1, default=_text).encode() + b"\n"


def _text(value: Any) -> str:
    return str(value.isoformat()) if hasattr(value, "isoformat") else str(value)


def write_xlsx(table: pa.Table, target: Path | BinaryIO, name: str, about: Mapping[str, Any] | None = None) -> None:
    """A table as a sheet, times as ISO text, numbers in full, texts that no spreadsheet computes; raises `LimitError`
    for more rows than a sheet holds."""
    from openpyxl import Workbook

    if table.num_rows > SHEET_ROWS:
        raise LimitError(f"A sheet holds {SHEET_ROWS:,} rows; this table has {table.num_rows:,}.", field="format")
    book = Workbook(write_only=True)
    columns = [_sheet_column(column) for column in table.columns]
    _fill(book.create_sheet(name), [table.column_names, *zip(*columns, strict=True)])
    if about is not None:
        _fill(book.create_sheet(ABOUT), [(key, value if _plain(value) else json.dumps(value, ensure_ascii=False))
                                         for key, value in about.items()])  # fmt: skip
    book.save(target)


def _plain(value: Any) -> bool:
    return value is None or isinstance(value, str | int | float)


def _sheet_column(column: Any) -> list[Any]:
    if pa.types.is_timestamp(column.type):
        stamps = np.datetime_as_string(np.asarray(column.to_numpy()))
        return np.char.add(stamps, "Z").tolist() if column.type.tz else stamps.tolist()
    values: list[Any] = column.to_pylist()
    return values


def _fill(sheet: Any, rows: Sequence[Sequence[Any]]) -> None:
    from openpyxl.cell import WriteOnlyCell

    def cell(value: Any) -> Any:
        # A number is handed over as its shortest exact text: the writer itself keeps 16 digits only.
        made = WriteOnlyCell(sheet, value=repr(value) if isinstance(value, float) else neutral(str(value)))
        made.data_type = "n" if isinstance(value, int | float) and not isinstance(value, bool) else "s"
        return made

    for row in rows:
        sheet.append([None if value is None else cell(value) for value in row])
