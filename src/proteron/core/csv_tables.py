"""The one writer of CSV: Arrow tables as text that a spreadsheet cannot take for formulas."""

import re
from collections.abc import Iterator
from typing import Any

import pyarrow as pa
import pyarrow.compute as pa_compute
import pyarrow.csv as pa_csv

_FORMULA = re.compile(r"^'*[=+\-@\t\r]")
_NUMBER = re.compile(r"^[+-]?\d+$")
_ROWS_AT_ONCE = 1 << 16


def neutral(text: str) -> str:
    """Text that a spreadsheet would take for a formula gets an apostrophe before it; reading takes it off again."""
    return f"'{text}" if _FORMULA.match(text) else text


def safe_to_open(table: pa.Table) -> pa.Table:
    """The same table with texts that no spreadsheet computes; dictionaries become text."""
    return pa.table([_plain(column) for column in table.columns], names=table.column_names)


def _plain(column: Any) -> Any:
    if pa.types.is_dictionary(column.type):
        column = column.cast(column.type.value_type)
    if not (pa.types.is_string(column.type) or pa.types.is_large_string(column.type)):
        return column
    distinct = pa_compute.unique(column).to_pylist()
    if not any(text is not None and _FORMULA.match(text) for text in distinct):
        return column
    return pa.chunked_array([[None if text is None else neutral(text) for text in column.to_pylist()]], pa.string())


def csv_head(names: list[str]) -> bytes:
    """The line of column names, each quoted."""
    safe = (name if _NUMBER.match(name) else neutral(name) for name in names)  # “+1” computes to what it is
    return (",".join('"' + name.replace('"', '""') + '"' for name in safe) + "\n").encode()


def csv_rows(table: pa.Table) -> bytes:
    """The rows of a table without their head, numbers in full, missing cells empty."""
    sink = pa.BufferOutputStream()
    pa_csv.write_csv(safe_to_open(table), sink, pa_csv.WriteOptions(include_header=False, quoting_style="needed"))
    return bytes(sink.getvalue().to_pybytes())


def csv_pieces(table: pa.Table) -> Iterator[bytes]:
    """A table as CSV, piece by piece."""
    yield csv_head(table.column_names)
    for start in range(0, table.num_rows, _ROWS_AT_ONCE):
        yield csv_rows(table.slice(start, _ROWS_AT_ONCE))


def csv_bytes(table: pa.Table) -> bytes:
    """A table as the bytes of a CSV file."""
    return b"".join(csv_pieces(table))
