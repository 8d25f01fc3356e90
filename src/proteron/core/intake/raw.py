"""A raw table: the rows as they came, in columns, before anything is interpreted."""

import re
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from pydantic import Field

from proteron.core.documents import Settings

MISSING = ("", "NA", "N/A", "n/a", "NaN", "nan", "null", "NULL", "None", "none", "-", "–", "—", "?", "#N/A", ".")


class ReaderSettings(Settings):
    """How bytes become rows; what is not given is found out from the file."""

    delimiter: str | None = Field(None, max_length=1, title="Delimiter")
    encoding: str | None = Field(None, max_length=40, title="Encoding", description="Such as utf-8 or latin-1.")
    decimal: str | None = Field(None, pattern=r"^[.,]$", title="Decimal mark")
    comment: str | None = Field(None, max_length=1, title="Comment mark", description="Lines that begin with it.")
    skip_rows: int | None = Field(None, ge=0, le=10_000, title="Lines to skip", description="Above the header.")
    header_rows: int | None = Field(None, ge=0, le=5, title="Header lines", description="0: there is none.")
    sheet: str | None = Field(None, title="Sheet", description="Of a workbook; empty: the first.")
    member: str | None = Field(None, title="File in the zip")
    across: bool | None = Field(None, title="Times across", description="Columns named by times become rows.")
    missing: tuple[str, ...] = Field((), title="More missing marks", description="Besides NA, null, - and blanks.")

    @property
    def marks(self) -> tuple[str, ...]:
        return tuple(dict.fromkeys((*MISSING, *self.missing)))


_NEUTRAL = re.compile(r"^'+(?=[=+\-@\t\r])")
_SHEETS = ("delimited", "workbook")


def words_of(name: str) -> set[str]:
    """The words of a column's name, in small letters."""
    return set(re.split(r"[^a-z]+", re.sub(r"([a-z])([A-Z])", r"\1 \2", name).lower()))


def plain_text(text: str, kind: str) -> str:
    """Text of a format that spreadsheets open, without the apostrophe that kept it from being read as a formula."""
    return text[1:] if kind in _SHEETS and _NEUTRAL.match(text) else text


@dataclass(frozen=True)
class Note:
    """Something noticed while reading: a code, a sentence, the rows concerned."""

    code: str
    message: str
    rows: tuple[int, ...] = ()
    count: int = 0
    severity: str = "warning"


@dataclass(frozen=True)
class RawTable:
    """Columns as they came (text where the file has text), with how they were read.

    `first_line` is where row 0 stands in the file, so that rows can be named as their owner counts them.
    """

    columns: pa.Table
    format: str
    facts: dict[str, Any] = field(default_factory=dict)
    notes: tuple[Note, ...] = ()
    first_line: int = 1
    per_line: int = 1  # rows that one line of the file became

    @property
    def names(self) -> list[str]:
        return list(self.columns.column_names)

    def line(self, row: int) -> int:
        """Where a row stands in the file, as its owner counts lines."""
        return row // self.per_line + self.first_line

    def with_columns(self, columns: pa.Table) -> "RawTable":
        """The same file with other columns for the same rows."""
        return replace(self, columns=columns)

    def noted(self, *notes: Note) -> "RawTable":
        return replace(self, notes=(*self.notes, *notes))

    def outline(self) -> "RawTable":
        """The same without its rows, so that their memory can go."""
        return replace(self, columns=self.columns.slice(0, 0).combine_chunks())

    def cells(self, rows: list[int]) -> list[list[str]]:
        """Text of some rows, one list per row; missing cells are empty."""
        # Slices copy nothing; taking rows by number would gather whole columns first.
        wanted = [self.columns.slice(row, 1) for row in rows if row < self.columns.num_rows]
        taken = pa.concat_tables(wanted) if wanted else self.columns.slice(0, 0)
        columns = [[_text(value) for value in _printable(column).to_pylist()] for column in taken.columns]
        return [list(row) for row in zip(*columns, strict=True)] if columns else []


def _printable(column: Any) -> Any:
    """Times as text: not every stored one is a date that Python knows."""
    if not pa.types.is_timestamp(column.type):
        return column
    text = pc.cast(column, pa.string())
    return pc.replace_substring(text, " ", "T")


def _text(value: Any) -> str:
    if value is None or value != value:
        return ""
    if isinstance(value, float):
        return repr(value)
    return str(value)


def distinct_names(names: list[str]) -> list[str]:
    """Every column gets a name of its own: empty ones are numbered, repeated ones counted."""
    seen: set[str] = set()
    out = []
    for position, given in enumerate(names, start=1):
        base = given.strip() or f"column {position}"
        name, count = base, 2
        while name in seen:
            name, count = f"{base} {count}", count + 1
        seen.add(name)
        out.append(name)
    return out


# A panel that is written marks points that were filled, and rows of known-ahead columns beyond the series' end.
MARK = "mark"
MARKS = ("ahead", "filled", "filled across", "known")


def is_marked(raw: RawTable) -> bool:
    """Whether the table has the column of marks that a written panel has."""
    if MARK not in raw.names:
        return False
    texts = set(pc.unique(raw.columns[MARK].cast(pa.string())).to_pylist())
    return bool(texts) and texts <= set(MARKS)


def marks_of(raw: RawTable) -> Any:
    """Per row the place of its mark in MARKS, as floats; None when the table has none."""
    if not is_marked(raw):
        return None
    return np.asarray(pc.index_in(raw.columns[MARK].cast(pa.string()), pa.array(MARKS)).to_numpy(), dtype=np.float64)
