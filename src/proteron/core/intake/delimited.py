"""Delimited text to columns of text: encoding, delimiter, header; nothing is interpreted yet."""

import csv
import io
from dataclasses import dataclass, field

import pyarrow as pa
import pyarrow.csv as pa_csv

from proteron.core.errors import InputError, LimitError

DELIMITERS = (",", ";", "\t", "|")


@dataclass(frozen=True)
class Limits:
    """What an import may cost."""

    bytes: int = 512 * 2**20
    rows: int = 20_000_000
    columns: int = 2_000


@dataclass(frozen=True)
class RawTable:
    """Columns of text as they came, with how they were read."""

    columns: pa.Table
    encoding: str
    delimiter: str
    notes: tuple[str, ...] = field(default=())

    @property
    def names(self) -> list[str]:
        return list(self.columns.column_names)


def read_delimited(content: bytes, limits: Limits | None = None) -> RawTable:
    """Split delimited text into text columns.

    Raises `InputError` for empty, binary or header-only content and ragged rows, `LimitError` beyond
    the limits.
    """
    limits = limits or Limits()
    if len(content) > limits.bytes:
        raise LimitError(f"The file has {len(content):,} bytes; the limit is {limits.bytes:,}.", field="file")
    if not content.strip():
        raise InputError("The file is empty.", field="file")
    text, encoding = _decode(content)
    first_line = text.lstrip("\r\n").split("\n", 1)[0]
    delimiter = _delimiter(text)
    notes: tuple[str, ...] = (
        () if encoding.startswith("utf") else ("Not UTF-8: read as Latin-1; check names with accents.",)
    )
    names = next(csv.reader(io.StringIO(first_line), delimiter=delimiter))
    names = [name.strip() for name in names]
    if len(names) > limits.columns:
        raise LimitError(f"The file has {len(names):,} columns; the limit is {limits.columns:,}.", field="file")
    if len(set(names)) != len(names) or "" in names:
        names = _distinct(names)
        notes += ("Column names were empty or repeated: numbered.",)
    try:
        table = pa_csv.read_csv(
            io.BytesIO(text.encode()),
            read_options=pa_csv.ReadOptions(column_names=names, skip_rows=1),
            parse_options=pa_csv.ParseOptions(delimiter=delimiter, newlines_in_values=True),
            convert_options=pa_csv.ConvertOptions(
                column_types=dict.fromkeys(names, pa.string()), strings_can_be_null=False
            ),
        )
    except pa.ArrowInvalid as error:
        raise InputError(
            f"The rows do not fit the header: {str(error).split(': Row')[0][:200]}.", field="file"
        ) from error
    if table.num_rows == 0:
        raise InputError(f"There is a header ({', '.join(names[:5])}) but no row below it.", field="file")
    if table.num_rows > limits.rows:
        raise LimitError(f"The file has {table.num_rows:,} rows; the limit is {limits.rows:,}.", field="file")
    return RawTable(table, encoding, delimiter, notes)


def _decode(content: bytes) -> tuple[str, str]:
    if content.startswith((b"\xff\xfe", b"\xfe\xff")):
        return content.decode("utf-16", errors="replace"), "utf-16"
    sample = content[:65536]
    odd = sum(byte < 9 or 13 < byte < 32 for byte in sample)
    if b"\x00" in sample or odd > len(sample) // 50:
        raise InputError("This is not text: Proteron reads delimited text such as CSV here.", field="file")
    try:
        return content.decode("utf-8-sig"), "utf-8"
    except UnicodeDecodeError:
        return content.decode("latin-1"), "latin-1"


def _delimiter(text: str) -> str:
    """The candidate that splits the first lines into the same number, more than one, of fields."""
    lines = [line for line in text[:20000].splitlines() if line.strip()][:20]

    def evenness(delimiter: str) -> tuple[int, int]:
        widths = [len(row) for row in csv.reader(lines, delimiter=delimiter)]
        common = max(set(widths), key=widths.count)
        return (widths.count(common) if common > 1 else 0, common)

    return max(DELIMITERS, key=evenness)


def _distinct(names: list[str]) -> list[str]:
    seen: dict[str, int] = {}
    out = []
    for position, name in enumerate(names, start=1):
        name = name or f"column {position}"
        seen[name] = seen.get(name, 0) + 1
        out.append(name if seen[name] == 1 else f"{name} {seen[name]}")
    return out
