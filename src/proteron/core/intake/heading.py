"""Where the data begins: title lines, header lines, column names."""

import re
from dataclasses import dataclass

_NUMBER = re.compile(r"^[\s(+\-]*[$€£¥]?\s*[\d.,' ]*\d[\d.,' ]*\s*[%€$£¥]?\)?(e[+-]?\d+)?$", re.IGNORECASE)
_DATED = re.compile(
    r"^(\d{1,4}[-./]\d{1,2}([-./]\d{1,4})?|\d{4}-?(Q[1-4]|W\d{2}).*|Q[1-4][ /-]?\d{4}|\d{1,2}:\d{2}.*)([T ].*)?$"
)
_MOST_TITLES = 30


@dataclass(frozen=True)
class Heading:
    """Lines above the header, header lines, and the names they give."""

    skip: int
    rows: int
    names: list[str]


def looks_like_data(cell: str) -> bool:
    return bool(_NUMBER.match(cell.strip()) or _DATED.match(cell.strip()))


def find_heading(rows: list[list[str]], skip: int | None = None, header: int | None = None) -> Heading:
    """Guess from the first rows, cell by cell; `skip` and `header` overrule the guess."""
    width = _width(rows)
    if skip is None:
        skip = _titles(rows, width)
    body = rows[skip:]
    if header is None:
        header = _header_rows(body)
    names = [""] * width
    for row in body[:header]:
        for column in range(width):
            cell = row[column].strip() if column < len(row) else ""
            if cell and cell != names[column]:
                names[column] = f"{names[column]} {cell}".strip()
    return Heading(skip, header, names)


def _width(rows: list[list[str]]) -> int:
    widths = [len(row) for row in rows if any(cell.strip() for cell in row)]
    return max(set(widths), key=lambda w: (widths.count(w), w)) if widths else 0


def _titles(rows: list[list[str]], width: int) -> int:
    """Title lines have fewer cells than the table, or leave cells empty that later rows fill."""
    filled = [sum(bool(row[c].strip()) for row in rows if c < len(row)) for c in range(width)]
    used = [c for c in range(width) if filled[c] > len(rows) // 4]
    for number, row in enumerate(rows[:_MOST_TITLES]):
        full = len(row) == width and all(row[c].strip() for c in used)
        if full and not (len(used) > 1 and sum(bool(cell.strip()) for cell in row) < 2):
            return number
    return 0


def _header_rows(body: list[list[str]]) -> int:
    """How many rows at the top are words where the rows below have numbers or dates."""
    if not body:
        return 0
    typed = _typed_columns(body[2:] or body[1:], len(body[0]))
    if _are_times_across(body, typed):
        return 1
    if _has_data(body[0]):
        return int(any(not looks_like_data(body[0][column]) for column in typed))
    second = body[1] if len(body) > 2 else []
    if not typed or not second or any(cell.strip() and looks_like_data(cell) for cell in second):
        return 1
    wordy = [c for c in typed if c < len(second) and second[c].strip() and not looks_like_data(second[c])]
    return 2 if len(wordy) * 2 >= len(typed) else 1


def _has_data(row: list[str]) -> bool:
    """Cells that are numbers or dates, other than years by themselves."""
    return any(looks_like_data(cell) and not re.fullmatch(r"\s*(19|20)\d\d\s*", cell) for cell in row)


def _are_times_across(body: list[list[str]], typed: list[int]) -> bool:
    """A first row of dates above numbers that are none: times stand across."""
    below = body[1] if len(body) > 1 else []
    dated = [column for column in typed if column < len(body[0]) and _is_dated(body[0][column])]
    under = [c for c in dated if c < len(below) and not _is_dated(below[c])]
    return len(under) >= 2 and len(under) * 2 > len(typed)


def _is_dated(cell: str) -> bool:
    """A date with a year of four digits, which no amount resembles."""
    return bool(_DATED.match(cell.strip()) and re.search(r"(?<!\d)(19|20)\d\d(?!\d)", cell))


def _typed_columns(rows: list[list[str]], width: int) -> list[int]:
    """Columns that look like data in more than half of the rows."""
    counts = [sum(column < len(row) and looks_like_data(row[column]) for row in rows) for column in range(width)]
    return [column for column, count in enumerate(counts) if rows and count * 2 > len(rows)]
