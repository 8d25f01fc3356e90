"""Times written in several columns: a date and a clock, a date and an hour, or year, month, day each by itself."""

from collections.abc import Mapping
from typing import Any, Literal

import pyarrow as pa
import pyarrow.compute as pc

from proteron.core.errors import InputError
from proteron.core.intake.raw import words_of
from proteron.core.intake.times import MONTHS, read_times

Part = Literal["year", "quarter", "month", "week", "day", "hour", "minute", "clock", "date"]
_WORDS: dict[Part, tuple[str, ...]] = {
    "year": ("year", "yr", "yyyy"), "quarter": ("quarter", "qtr", "q"), "month": ("month", "mon", "mm", "mo"),
    "week": ("week", "wk", "isoweek"), "day": ("day", "dd", "dom"), "hour": ("hour", "hr", "hh"),
    "minute": ("minute", "min"),
}  # fmt: skip
_BOUNDS: dict[Part, tuple[int, int]] = {
    "year": (1500, 2199), "quarter": (1, 4), "month": (1, 12), "week": (1, 53), "day": (1, 31), "hour": (0, 24),
    "minute": (0, 59),
}  # fmt: skip
_CLOCK = r"^\d{1,2}:\d{2}(:\d{2}([.,]\d+)?)?(\s*[AaPp]\.?[Mm]\.?)?$"
_MOST = 0.9  # of the cells tell what a column is; the rest are findings, such as a total below
_SAMPLE = 4000
# Which parts make a time, the finest last.
_SETS: tuple[tuple[Part, ...], ...] = (
    ("year", "month", "day", "hour", "minute"), ("year", "month", "day", "hour"), ("year", "month", "day", "clock"),
    ("year", "month", "day"), ("year", "month"), ("year", "quarter"), ("year", "week"),
    ("date", "hour", "minute"), ("date", "hour"), ("date", "clock"),
)  # fmt: skip


def part_of(name: str, column: Any) -> Part | None:
    """What part of a time a column holds, a whole date included; None where it is none."""
    piece = piece_of(name, column)
    if piece is not None or column.null_count == len(column):
        return piece
    read = read_times(column, "UTC")
    return "date" if read is not None and read.form != "year" and read.bad.mean() <= 1 - _MOST else None


def piece_of(name: str, column: Any) -> Part | None:
    """What part of a time a column holds, by its name and most of its values; None where it is none, or a date."""
    text = _texts(column)
    if not len(text):
        return None
    if _most_match(text, _CLOCK):
        return "clock"
    words = words_of(name)
    return next((part for part, names in _WORDS.items() if words & set(names) and _fits(part, text)), None)


def _texts(column: Any) -> Any:
    return pc.utf8_trim_whitespace(pc.drop_null(column).cast(pa.string()))


def _most_match(text: Any, pattern: str) -> bool:
    return bool(pc.mean(pc.cast(pc.match_substring_regex(text, pattern), pa.int8())).as_py() >= _MOST)


def _fits(part: Part, text: Any) -> bool:
    """Whether most values are whole numbers in bounds, or names of months."""
    if part == "month" and _most_match(text, r"^[A-Za-z]{3,9}\.?$"):
        return _most_match(_month_starts(text), f"^({'|'.join(MONTHS)})$")
    pattern = r"^Q?\d$" if part == "quarter" else r"^W?\d{1,2}$" if part == "week" else r"^\d{1,4}(\.0)?$"
    if not _most_match(text, pattern):
        return False
    numbers = _numbers(text)
    low, high = _BOUNDS[part]
    inside = pc.and_(pc.greater_equal(numbers, low), pc.less_equal(numbers, high))
    return bool(pc.mean(pc.cast(pc.fill_null(inside, False), pa.int8())).as_py() >= _MOST)


def _month_starts(text: Any) -> Any:
    return pc.utf8_slice_codeunits(pc.utf8_lower(text), 0, 3)


def _numbers(text: Any) -> Any:
    """Whole numbers of texts such as 3, 03, 3.0, Q3, W03 or March; null where there is none."""
    named = pc.index_in(_month_starts(text), pa.array(MONTHS))
    digits = pc.replace_substring_regex(pc.replace_substring_regex(text, r"^[QW]", ""), r"\.0$", "")
    digits = pc.if_else(pc.match_substring_regex(digits, r"^\d+$"), digits, pa.scalar(None, pa.string()))
    return pc.coalesce(pc.cast(digits, pa.int64()), pc.add(pc.cast(named, pa.int64()), 1))


def complete(parts: Mapping[str, Part | None]) -> tuple[str, ...]:
    """Of columns and their parts, those that together make the finest time; empty where none do."""
    column_of: dict[Part, str] = {}
    for name, part in parts.items():
        if part is not None:
            column_of.setdefault(part, name)
    chosen = next((each for each in _SETS if set(each) <= set(column_of)), ())
    return tuple(column_of[part] for part in chosen)


def joined_times(columns: Mapping[str, Any]) -> Any:
    """One column of texts that read as times, of columns that make one together, in whatever order.

    Raises `InputError` naming the columns where they do not.
    """
    parts = {name: part_of(name, column.slice(0, _SAMPLE)) for name, column in columns.items()}
    if set(complete(parts)) != set(columns):
        raise InputError(
            f"The columns {', '.join(f'“{name}”' for name in columns)} do not make a time together: mark one as the "
            "time, or a date and a clock, or year, month and day.",
            field="time",
        )
    of = {part: columns[name] for name, part in parts.items() if part is not None}
    if "date" in of:
        text = pc.utf8_trim_whitespace(of["date"].cast(pa.string()))
        clock = pc.utf8_trim_whitespace(of["clock"].cast(pa.string())) if "clock" in of else _clock(of)
        return pc.binary_join_element_wise(text, clock, " ")
    return _dates(of)


def _dates(of: Mapping[Part, Any]) -> Any:
    """ISO texts of year, month or quarter or week, and day, and what there is of a clock."""
    year = _padded(of["year"], 4)
    if "quarter" in of:
        return pc.binary_join_element_wise(year, _padded(of["quarter"], 1), "-Q")
    if "week" in of:
        return pc.binary_join_element_wise(year, _padded(of["week"], 2), "-W")
    pieces = [year, *(_padded(of[part], 2) for part in ("month", "day") if part in of)]
    text = pc.binary_join_element_wise(*pieces, "-")
    if "clock" in of:
        return pc.binary_join_element_wise(text, pc.utf8_trim_whitespace(of["clock"].cast(pa.string())), " ")
    return pc.binary_join_element_wise(text, _clock(of), " ") if "hour" in of else text


def _clock(of: Mapping[Part, Any]) -> Any:
    """A clock of an hour and, where there is one, a minute; hours 1 to 24 are those that end then."""
    hours = _numbers(_cells(of["hour"]))
    low, high = pc.min_max(hours).as_py().values()
    hours = pc.subtract(hours, 1) if (low, high) == (1, 24) else hours
    text = pc.utf8_lpad(pc.cast(hours, pa.string()), 2, "0")
    minute = _padded(of["minute"], 2) if "minute" in of else pa.scalar("00")
    return pc.binary_join_element_wise(text, minute, ":")


def _cells(column: Any) -> Any:
    return pc.utf8_trim_whitespace(column.cast(pa.string()))


def _padded(column: Any, width: int) -> Any:
    return pc.utf8_lpad(pc.cast(_numbers(_cells(column)), pa.string()), width, "0")
