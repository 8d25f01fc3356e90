"""Delimited text: encoding, delimiter, headings and number style found out; numbers and times typed by the reader."""

import codecs
import csv
import io
import re
from collections.abc import Callable
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pa_csv

from proteron.core.errors import InputError, LimitError
from proteron.core.intake.heading import Heading, find_heading
from proteron.core.intake.limits import Limits, Source
from proteron.core.intake.raw import Note, RawTable, ReaderSettings, distinct_names, plain_text
from proteron.core.words import counted

DELIMITERS = (",", ";", "\t", "|")
COMMENTS = ("#", "%")
_SAMPLE = 1 << 19
_SAMPLE_ROWS = 400
_BLOCK = 4 << 20
_ZONED = re.compile(r"^\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d)?Z$")
_NAIVE = re.compile(r"^\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d)?$")
_PLAIN = re.compile(r"^[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?$")

_LATIN = Note("encoding", "Not UTF-8: read as Latin-1; check names with accents.")

Progress = Callable[[str, float], None]


def read_delimited(
    source: Source, reader: ReaderSettings, limits: Limits, progress: Progress | None = None
) -> RawTable:
    """Read delimited text into columns; a column that is plain numbers or ISO times throughout is typed.

    Raises `InputError` for empty, binary or header-only content, `LimitError` beyond the limits.
    """
    head = source.head(_SAMPLE)
    if not head.strip(b" \r\n\t\x00\xef\xbb\xbf\xff\xfe"):
        raise InputError("The file is empty.", field="file")
    encoding, notes = _encoding(source, head, reader.encoding)
    text = _decode(head, encoding)
    comment = reader.comment or _comment(text)
    lines = [line for line in io.StringIO(text, newline="") if not (comment and line.startswith(comment))]
    _check_first_line(lines, source, limits)
    delimiter = reader.delimiter or _delimiter(lines)
    rows = _sample_rows(lines, delimiter, source.size > len(head))
    heading = find_heading(rows, reader.skip_rows, reader.header_rows)
    if not heading.names:
        raise InputError("There is no row of cells in this file.", field="file")
    limits.check_table(0, len(heading.names))
    names = distinct_names([plain_text(name, "delimited") for name in heading.names])
    notes += _heading_notes(heading, names)
    above = _lines_above(rows, heading, text, comment, delimiter)
    quoted = _quoted_columns(lines, heading.skip + heading.rows, delimiter, names)
    reading = _Reading(source, reader, delimiter, encoding, comment, above, names, limits, progress)
    table, ragged = reading.read(_guess_types(rows[heading.skip + heading.rows :], names, reader, quoted))
    if reading.encoding != encoding:
        encoding = reading.encoding
        notes.append(_LATIN)
    if table.num_rows == 0:
        raise InputError(f"There is a header ({', '.join(names[:5])}) but no row below it.", field="file")
    notes += _ragged_notes(ragged, names)
    facts = {
        "encoding": encoding, "delimiter": delimiter, "header_rows": heading.rows, "skip_rows": heading.skip,
        "comment": comment, "quoted": quoted or None,
    }  # fmt: skip
    return RawTable(table, "delimited", facts, tuple(notes), above + 1)


def _heading_notes(heading: Heading, names: list[str]) -> list[Note]:
    """What there is to say of the line of names."""
    if heading.rows == 0:
        return [Note("no header", "There is no header line: columns are numbered.", severity="note")]
    if len(set(heading.names)) < len(names):
        return [Note("column names", "Column names were empty or repeated: numbered.", severity="note")]
    return []


def _ragged_notes(ragged: list[str], names: list[str]) -> list[Note]:
    """What there is to say of lines that were left out."""
    if not ragged:
        return []
    shown = "; ".join(repr(line[:60]) for line in ragged[:3])
    text = f"{counted(len(ragged), 'line does', 'lines do')} not have {counted(len(names), 'cell')}, left out: {shown}."
    return [Note("ragged rows", text, count=len(ragged), severity="error")]


class _Reading:
    """One pass of the compiled reader, repeated with a column as text when its type does not hold."""

    def __init__(
        self, source: Source, reader: ReaderSettings, delimiter: str, encoding: str, comment: str | None, above: int,
        names: list[str], limits: Limits, progress: Progress | None,
    ) -> None:  # fmt: skip
        self.source, self.reader, self.delimiter, self.encoding = source, reader, delimiter, encoding
        self.comment, self.above, self.names, self.limits, self.progress = comment, above, names, limits, progress
        self.ragged: list[str] = []

    def read(self, types: dict[str, pa.DataType]) -> tuple[pa.Table, list[str]]:
        types = dict(types)
        while True:
            self.ragged = []
            try:
                table = self._attempt(types)
            except pa.ArrowInvalid as error:
                if self.encoding == "utf-8" and "invalid UTF8" in str(error):
                    self.encoding = "latin-1"
                    continue
                column = _column_of(str(error), self.names)
                if column is None or types.get(column) == pa.string():
                    raise InputError(f"The rows do not fit: {str(error)[:200]}.", field="file") from error
                types[column] = pa.string()
                continue
            except UnicodeError as error:
                raise InputError(f"The text breaks off: {error}.", field="file") from error
            if self.comment:
                first = table.column(0)
                if pa.types.is_string(first.type) or pa.types.is_dictionary(first.type):
                    text = first.cast(pa.string())
                    table = table.filter(pc.invert(pc.fill_null(pc.starts_with(text, self.comment), False)))
            self.limits.check_table(table.num_rows, len(self.names))
            return table, self.ragged

    def _attempt(self, types: dict[str, pa.DataType]) -> pa.Table:
        def on_ragged(row: Any) -> str:
            line = row.text or ""
            if line.strip() and not (self.comment and line.startswith(self.comment)):
                self.ragged.append(line)
            return "skip"

        stream = pa.BufferReader(self.source.content) if isinstance(self.source.content, bytes) else None
        opened = stream or pa.OSFile(str(self.source.content))
        quoted = "\n" in self.delimiter or self._has_quotes()
        options = {
            "read_options": pa_csv.ReadOptions(
                column_names=self.names, skip_rows=self.above, block_size=_BLOCK, encoding=self.encoding
            ),
            "parse_options": pa_csv.ParseOptions(
                delimiter=self.delimiter, newlines_in_values=quoted, invalid_row_handler=on_ragged
            ),
            "convert_options": pa_csv.ConvertOptions(
                column_types=types, null_values=list(self.reader.marks), strings_can_be_null=False,
                quoted_strings_can_be_null=False, timestamp_parsers=[pa_csv.ISO8601],
            ),
        }  # fmt: skip
        with opened:
            if self.progress is None:
                return pa_csv.read_csv(opened, **options)
            watched = _Watched(opened, self.source.size, self.progress)
            return pa_csv.read_csv(pa.PythonFile(watched, mode="r"), **options)

    def _has_quotes(self) -> bool:
        return b'"' in self.source.head(_SAMPLE) or b'"' in self.source.tail(1 << 16) or self.source.size < _SAMPLE


class _Watched(io.RawIOBase):
    """A file that tells how far it has been read."""

    def __init__(self, inner: Any, size: int, progress: Progress) -> None:
        self._inner, self._size, self._progress, self._read = inner, max(size, 1), progress, 0

    def readable(self) -> bool:
        return True

    def read(self, size: int = -1) -> bytes:
        piece: bytes = self._inner.read(size)
        self._read += len(piece)
        self._progress("reading", min(self._read / self._size, 1.0))
        return piece


def _column_of(message: str, names: list[str]) -> str | None:
    match = re.search(r"In CSV column #(\d+)", message)
    return names[int(match.group(1))] if match and int(match.group(1)) < len(names) else None


def _encoding(source: Source, head: bytes, given: str | None) -> tuple[str, list[Note]]:
    if given:
        try:
            codecs.lookup(given)
        except LookupError as error:
            raise InputError(f"“{given}” is not an encoding such as utf-8 or latin-1.", field="encoding") from error
        return given, []
    if head.startswith((b"\xff\xfe", b"\xfe\xff")):
        return "utf-16", []
    if len(head) >= 4 and head[1::2].count(0) > 0.3 * len(head) / 2 and head[::2].count(0) == 0:
        return "utf-16-le", [Note("encoding", "No byte-order mark, but every other byte is zero: read as UTF-16.")]
    sample = head[:65536]
    odd = sum(byte < 9 or 13 < byte < 32 for byte in sample)
    if b"\x00" in sample or odd > len(sample) // 50:
        raise InputError("This is not text, and not a format Proteron reads.", field="file")
    try:
        codecs.getincrementaldecoder("utf-8")().decode(head)
        return "utf-8", []
    except UnicodeDecodeError:
        return "latin-1", [_LATIN]


def _decode(head: bytes, encoding: str) -> str:
    text = head.decode("utf-8-sig" if encoding == "utf-8" else encoding, errors="replace")
    return text.removeprefix("\ufeff")


def _comment(text: str) -> str | None:
    """A mark that begins the first line, or a line between others, and is no header."""
    lines = text.splitlines()[:200]
    for mark in COMMENTS:
        marked = [line for line in lines if line.startswith(mark)]
        if marked and len(marked) < len(lines):
            return mark
    return None


def _check_first_line(lines: list[str], source: Source, limits: Limits) -> None:
    if not lines or (len(lines) == 1 and source.size > _SAMPLE):
        raise LimitError(
            f"The first line is longer than {_SAMPLE:,} characters; at most {limits.columns:,} columns are read.",
            field="file",
        )


def _delimiter(lines: list[str]) -> str:
    """The candidate that splits most lines into the same number, more than one, of fields."""
    some = [line for line in lines[:60] if line.strip()]

    def evenness(delimiter: str) -> tuple[int, int]:
        try:
            widths = [len(row) for row in csv.reader(some, delimiter=delimiter)]
        except csv.Error:
            return (0, 0)
        counted = [width for width in widths if width > 1]
        common = max(set(counted), key=counted.count) if counted else 0
        return (counted.count(common) if counted else 0, common)

    return max(DELIMITERS, key=evenness)


def _sample_rows(lines: list[str], delimiter: str, cut: bool) -> list[list[str]]:
    """Rows of the sample; the last line of a cut sample may be half and is left out."""
    whole = lines[:-1] if cut and len(lines) > 1 else lines
    rows: list[list[str]] = []
    try:
        for row in csv.reader(whole, delimiter=delimiter):
            rows.append(row)
            if len(rows) >= _SAMPLE_ROWS:
                break
    except csv.Error as error:
        raise InputError(f"The cells cannot be told apart: {error}.", field="file") from error
    while rows and not any(cell.strip() for cell in rows[0]):
        rows = rows[1:]
    return rows


def _lines_above(rows: list[list[str]], heading: Heading, text: str, comment: str | None, delimiter: str) -> int:
    """Lines of the file above the first data row: blank, comment, title and header lines, quoted breaks included."""
    wanted = heading.skip + heading.rows
    if wanted == 0 and not (comment and text.startswith(comment)) and text[:1] not in "\r\n":
        return 0
    taken, number = 0, 0
    lines = io.StringIO(text, newline="")
    buffered = ""
    for line in lines:
        if not buffered and (
            (comment and line.startswith(comment)) or (taken == 0 and not line.strip(" \r\n" + delimiter))
        ):
            number += 1
            continue
        if taken == wanted and not buffered:
            return number
        buffered += line
        number += 1
        if buffered.count('"') % 2 == 0:
            taken += 1
            buffered = ""
    return number


def _quoted_columns(lines: list[str], above: int, delimiter: str, names: list[str]) -> list[str]:
    """Columns whose first cell is quoted: text, even where it looks like a number."""
    cell = rf'(?:^|{re.escape(delimiter)})("(?:[^"]|"")*"|[^{re.escape(delimiter)}\r\n]*)'
    for line in lines[above : above + 3]:
        cells = re.findall(cell, line.rstrip("\r\n"))
        if len(cells) == len(names):
            return [name for name, text in zip(names, cells, strict=True) if text.startswith('"')]
    return []


def _guess_types(
    rows: list[list[str]], names: list[str], reader: ReaderSettings, quoted: list[str]
) -> dict[str, pa.DataType]:
    """Types for columns that are plain throughout the sample; text for all others."""
    marks = set(reader.marks)
    types: dict[str, pa.DataType] = {}
    for column, name in enumerate(names):
        cells = [row[column].strip() for row in rows if column < len(row)]
        present = [cell for cell in cells if cell not in marks]
        types[name] = pa.string()
        if not present or reader.decimal == ",":
            continue
        plain = None if name in quoted else _plain_type(present)
        types[name] = plain or _text_type(cells if name in quoted else present, len(rows))
    return types


def _plain_type(present: list[str]) -> pa.DataType | None:
    """The type that every cell has as it stands: numbers or ISO times; None where they are text or codes."""
    if any(re.match(r"^0\d", cell) for cell in present):  # codes, not counts
        return pa.string()
    dates = all(re.fullmatch(r"\d{4}|\d{8}", cell) for cell in present)
    if not dates and all(_PLAIN.match(cell) for cell in present):
        return pa.int64() if all(re.fullmatch(r"-?\d{1,15}", cell) for cell in present) else pa.float64()
    if all(_ZONED.match(cell) for cell in present):
        return pa.timestamp("s", tz="UTC")
    return pa.timestamp("s") if all(_NAIVE.match(cell) for cell in present) else None


def _text_type(cells: list[str], rows: int) -> pa.DataType:
    """Text, as a dictionary where values come again."""
    again = rows >= 50 and len(set(cells)) <= len(cells) // 4
    return pa.dictionary(pa.int32(), pa.string()) if again else pa.string()
