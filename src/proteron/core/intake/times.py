"""Columns of times in any usual form to UTC instants, decided from the whole column."""

from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from proteron.core.intake.swapped_days import way_round
from proteron.core.panel import Floats
from proteron.core.timeline import Instants, Ints, to_local, to_utc

_CLOCK = (
    r"(?:(?:[T ,]|, )\s*(?P<H>\d{1,2})[:h](?P<M>\d{2})(?::(?P<S>\d{2})(?:[.,](?P<f>\d{1,9}))?)?"
    r"\s*(?P<ap>[AaPp]\.?[Mm]\.?)?)?\s*(?P<off>Z|UTC|GMT|[+-]\d{2}(?::?\d{2})?)?"
)
_DAY_WORD = r"(?:[A-Za-z]{2,9}\.?,?\s+)?"
MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
_NTH = r"(?P<d>\d{1,2})(?:st|nd|rd|th)?"
_NAMED = r"(?P<mon>[A-Za-z]{3,9})\.?"

# name, pattern; tried in this order, the first that reads every cell is taken.
FORMS: tuple[tuple[str, str], ...] = (
    ("ISO", rf"^(?P<y>\d{{4}})-(?P<m>\d{{1,2}})-(?P<d>\d{{1,2}}){_CLOCK}$"),
    ("ISO", r"^(?P<y>\d{4})-(?P<m>\d{2})-(?P<d>\d{2})[T ](?P<H>\d{2})(?P<off>Z|[+-]\d{2}(?::?\d{2})?)?$"),
    ("year first", rf"^(?P<y>\d{{4}})[/.](?P<m>\d{{1,2}})[/.](?P<d>\d{{1,2}}){_CLOCK}$"),
    ("ISO week", r"^(?P<y>\d{4})-?W(?P<w>\d{2})(?:-?(?P<wd>[1-7]))?$"),
    ("quarter", r"^(?P<y>\d{4})[- /]?Q(?P<q>[1-4])$"),
    ("quarter", r"^Q(?P<q>[1-4])[- /]?(?P<y>\d{4})$"),
    ("month", r"^(?P<y>\d{4})[-/](?P<m>\d{1,2})$"),
    ("month", r"^(?P<m>\d{1,2})[-/.](?P<y>\d{4})$"),
    ("month name", rf"^{_NAMED}[-/ ,']*(?P<y>\d{{4}}|\d{{2}})$"),
    ("month name", rf"^(?P<y>\d{{4}})[-/ ]*{_NAMED}$"),
    ("named day first", rf"^{_DAY_WORD}{_NTH}[-/. ]+{_NAMED}[-/., ]+(?P<y>\d{{4}}|\d{{2}}){_CLOCK}$"),
    ("named month first", rf"^{_DAY_WORD}{_NAMED}[-/. ]+{_NTH}[-/., ]+(?P<y>\d{{4}}){_CLOCK}$"),
    ("day first", rf"^(?P<d>\d{{1,2}})[-/.](?P<m>\d{{1,2}})[-/.](?P<y>\d{{4}}|\d{{2}}){_CLOCK}$"),
    ("month first", rf"^(?P<m>\d{{1,2}})[-/.](?P<d>\d{{1,2}})[-/.](?P<y>\d{{4}}|\d{{2}}){_CLOCK}$"),
    ("compact", r"^(?P<y>(?:19|20)\d{2})(?P<m>\d{2})(?P<d>\d{2})"
        r"(?:[T ]?(?P<H>\d{2})(?P<M>\d{2})(?P<S>\d{2})?(?P<off>Z)?)?$"),
    ("year and month", r"^(?P<y>(?:19|20)\d{2})(?P<m>0[1-9]|1[0-2])(?:\.0)?$"),
    ("year", r"^(?P<y>1[5-9]\d{2}|2[01]\d{2})(?:\.0)?$"),
)  # fmt: skip
_EPOCHS = (("epoch s", 1e8, 1e10, 1), ("epoch ms", 1e11, 1e13, 10**3),
    ("epoch µs", 1e14, 1e16, 10**6), ("epoch ns", 1e17, 1e19, 10**9))  # fmt: skip
_SERIAL_EPOCH = np.datetime64("1899-12-30", "s")
_FIRST, _LAST = np.datetime64("0001-01-02", "s"), np.datetime64("9998-12-31", "s")
_NAT = np.datetime64("NaT", "s")


@dataclass(frozen=True)
class TimeReading:
    """UTC instants (n,), NaT where missing or unreadable; `bad` marks the latter, `naive` times without an offset."""

    instants: Instants
    bad: NDArray[np.bool_]
    form: str
    naive: NDArray[np.bool_]
    ambiguous: bool = False
    skipped: int = 0  # local times that a clock change leaves out; moved on


def read_times(column: Any, zone: str, form: str | None = None, serials: bool = False) -> TimeReading | None:
    """Read a column as times, by one form throughout; None when no form reads most of it.

    Times without an offset are local to `zone`. `serials` also tries spreadsheet day counts.
    """
    kind = column.type
    if pa.types.is_timestamp(kind):
        seconds = column if kind.unit == "s" else column.cast(pa.timestamp("s", kind.tz), safe=False)
        instants = np.asarray(seconds.to_numpy()).astype("datetime64[s]", copy=False)
        strange = (instants < _FIRST) | (instants > _LAST)
        if strange.any():
            instants = np.where(strange, _NAT, instants)
        naive = np.full(len(instants), kind.tz is None)
        if kind.tz is None:
            local, instants = instants, _localised(instants, naive, zone)
            return TimeReading(instants, strange, "ISO", naive, skipped=_skipped(local, instants, zone))
        return TimeReading(instants, strange, "ISO", naive)
    if pa.types.is_integer(kind) or pa.types.is_floating(kind):
        return _from_numbers(
            np.asarray(column.cast(pa.float64(), safe=False).to_numpy(zero_copy_only=False)),
            column,
            form,
            serials,
            zone,
        )
    if not (pa.types.is_string(kind) or pa.types.is_dictionary(kind)):
        return None
    encoded = column if pa.types.is_dictionary(kind) else column.dictionary_encode()
    merged = encoded.combine_chunks() if isinstance(encoded, pa.ChunkedArray) else encoded
    if isinstance(merged, pa.ChunkedArray):
        merged = merged.unify_dictionaries().combine_chunks() if merged.num_chunks != 1 else merged.chunk(0)
    text = pc.utf8_trim_whitespace(merged.dictionary)
    indices = np.asarray(pc.fill_null(merged.indices, -1))
    read = _from_text(text, zone, form, serials)
    if read is None:
        return None
    absent = indices < 0
    at = np.where(absent, 0, indices)

    def pick(values: Any, instead: Any) -> Any:
        return np.where(absent, instead, values[at])

    return TimeReading(
        pick(read.instants, _NAT), pick(read.bad, False), read.form, pick(read.naive, False), read.ambiguous,
        read.skipped,
    )  # fmt: skip


def _from_text(text: Any, zone: str, form: str | None, serials: bool) -> TimeReading | None:
    from proteron.core.intake.raw import MISSING

    present = np.asarray(pc.invert(pc.is_in(text, value_set=pa.array(MISSING)))) & np.asarray(pc.is_valid(text))
    wanted = int(present.sum())
    if not wanted:
        return None
    read = _readings(text, present, form)
    if not read:
        return _numeric_text(text, present, form, serials, zone)
    best = max(range(len(read)), key=lambda i: (read[i][0], -i))
    both = [i for i, entry in enumerate(read) if entry[1] in SWAPPED and entry[0] == read[best][0]]
    ambiguous = len(both) == 2 and read[best][1] in SWAPPED and not _are_dotted(text, present)
    if ambiguous:
        chosen, ambiguous = way_round(read[both[0]][2], read[both[1]][2])
        best = both[chosen]
    count, name, local, offset = read[best]
    if count < wanted:  # digits that are a calendar moment by chance only: counts since 1970 read all of them
        counts = _numeric_text(text, present, form, serials, zone)
        if counts is not None and not counts.bad.any():
            return counts
    if count * 2 < wanted:
        return None
    naive = np.isnan(offset) & ~np.isnat(local)
    instants = _localised(local, naive, zone)
    shifted = ~np.isnan(offset) & ~np.isnat(local)
    instants[shifted] = local[shifted] - offset[shifted].astype(np.int64).astype("timedelta64[s]")
    skipped = _skipped(local[naive], instants[naive], zone)
    return TimeReading(instants, present & np.isnat(instants), name, naive, ambiguous, skipped)


def _are_dotted(text: Any, present: NDArray[np.bool_]) -> bool:
    """Dots between day and month: where they are written, the day comes first."""
    dotted = pc.match_substring_regex(text, r"^\d{1,2}\.\d{1,2}\.")
    return bool(np.asarray(pc.fill_null(dotted, False))[present].all())


def _assemble(parts: Any) -> tuple[Instants, Floats]:
    """Local times from named fields, NaT where impossible, and offsets from UTC in seconds (NaN: none stated)."""
    valid = np.asarray(pc.is_valid(parts))
    names = [field.name for field in parts.type]
    texts = {name: pc.fill_null(pc.struct_field(parts, name), "") for name in names}

    def number(name: str, default: int) -> Ints:
        if name not in texts:
            return np.full(len(valid), default, dtype=np.int64)
        digits = pc.if_else(pc.equal(texts[name], ""), str(default), texts[name])
        return np.asarray(pc.cast(digits, pa.int64()))

    year = number("y", 1970)
    if "y" in texts:
        short = np.asarray(pc.utf8_length(texts["y"])) == 2
        year = np.where(short, np.where(year < 70, 2000 + year, 1900 + year), year)
    month = number("m", 1)
    if "q" in texts:
        month = 3 * number("q", 1) - 2
    if "mon" in texts:
        names_of = pc.utf8_slice_codeunits(pc.utf8_lower(texts["mon"]), 0, 3)
        month = np.asarray(pc.fill_null(pc.index_in(names_of, pa.array(MONTHS)), -1)) + 1
    day, hour, minute, second = number("d", 1), number("H", 0), number("M", 0), number("S", 0)
    if "ap" in texts:
        half = np.asarray(pc.utf8_lower(pc.utf8_slice_codeunits(texts["ap"], 0, 1)).to_numpy(zero_copy_only=False))
        valid = valid & ((half == "") | ((hour >= 1) & (hour <= 12)))
        hour = np.where(half == "", hour, hour % 12 + np.where(half == "p", 12, 0))
    possible = (
        valid & (year >= 1) & (month >= 1) & (month <= 12) & (day >= 1) & (hour <= 24) & (minute < 60) & (second < 60)
    )
    possible &= (hour < 24) | ((minute == 0) & (second == 0))
    months = (np.where(possible, year, 1970) - 1970) * 12 + np.where(possible, month, 1) - 1
    first = months.astype("datetime64[M]")
    length = ((first + 1).astype("datetime64[D]") - first.astype("datetime64[D]")).astype(np.int64)
    possible &= day <= length
    days = first.astype("datetime64[D]") + (day - 1)
    if "w" in texts:
        week, weekday = number("w", 1), number("wd", 1)
        fourth = (year.astype("int64") - 1970).astype("datetime64[Y]").astype("datetime64[D]") + 3
        monday = fourth - (fourth.astype(np.int64) + 3) % 7
        days = monday + (week - 1) * 7 + weekday - 1
        possible = valid & (week >= 1) & (week <= 53)
    local = days.astype("datetime64[s]") + hour * 3600 + minute * 60 + second
    return np.where(possible, local, _NAT), _offsets(texts.get("off"), len(valid))


def _offsets(text: Any, count: int) -> Floats:
    if text is None:
        return np.full(count, np.nan)
    values = text.to_numpy(zero_copy_only=False)
    seconds = {}
    for form in set(values.tolist()):
        if form == "":
            seconds[form] = np.nan
        elif form[0] in "ZUG":
            seconds[form] = 0.0
        else:
            digits = form[1:].replace(":", "").ljust(4, "0")
            seconds[form] = (-1.0 if form[0] == "-" else 1.0) * (int(digits[:2]) * 3600 + int(digits[2:]) * 60)
    return np.array([seconds[form] for form in values.tolist()])


def _skipped(local: Instants, instants: Instants, zone: str) -> int:
    """How many local times do not exist in the zone: there and back is another time."""
    if zone == "UTC":
        return 0
    known = ~np.isnat(local)
    return int((to_local(instants[known], zone) != local[known]).sum())


def _localised(local: Instants, naive: NDArray[np.bool_], zone: str) -> Instants:
    instants = local.copy()
    chosen = naive & ~np.isnat(local)
    if zone != "UTC" and chosen.any():
        instants[chosen] = to_utc(local[chosen], zone)
    return instants


def _numeric_text(
    text: Any, present: NDArray[np.bool_], form: str | None, serials: bool, zone: str
) -> TimeReading | None:
    numeric = pc.match_substring_regex(text, r"^\d+(\.\d+)?$")
    values = pc.cast(pc.if_else(numeric, text, pa.scalar(None, pa.string())), pa.float64())
    numbers = np.asarray(values.to_numpy(zero_copy_only=False), dtype=np.float64)
    read = _from_numbers(numbers, text, form, serials, zone)
    if read is None:
        return None
    return TimeReading(read.instants, present & np.isnat(read.instants), read.form, read.naive)


SWAPPED = ("day first", "month first")


def _readings(text: Any, present: NDArray[np.bool_], form: str | None) -> list[tuple[int, str, Instants, Floats]]:
    """What each form makes of a text column, with how many it reads; those that read half of it or more.

    One that reads everything ends the search, unless day and month could be swapped.
    """
    wanted, read = int(present.sum()), []
    for name, pattern in FORMS:
        if form is not None and name != form:
            continue
        parts = pc.extract_regex(text, pattern)
        if int(np.asarray(pc.is_valid(parts)).sum()) * 2 < wanted:
            continue
        local, offset = _assemble(parts)
        count = int((~np.isnat(local) & present).sum())
        read.append((count, name, local, offset))
        if count == wanted and name not in SWAPPED:
            break
    return read


def _from_numbers(numbers: Floats, column: Any, form: str | None, serials: bool, zone: str) -> TimeReading | None:
    """Years, compact dates, counts since 1970 by their size, and, where asked for, spreadsheet days."""
    known = np.isfinite(numbers)
    if not known.any():
        return None
    low, high = float(numbers[known].min()), float(numbers[known].max())
    instants = np.full(len(numbers), _NAT)
    none = np.zeros(len(numbers), bool)
    for name, least, most, per_second in _EPOCHS:
        if (form is None and least <= low and high <= most) or form == name:
            instants[known] = _since_1970(numbers, column, known, per_second)
            return TimeReading(instants, none, name, none)
    if _are_dates(numbers[known]):
        text = pa.array([None if not k else str(int(v)) for k, v in zip(known.tolist(), numbers.tolist(), strict=True)])
        return _from_text(text, zone, form, False)
    days = form is None and serials and low >= 10_000 and high <= 80_000
    if days or form == "spreadsheet serial":
        local = np.full(len(numbers), _NAT)
        local[known] = _SERIAL_EPOCH + np.round(numbers[known] * 86400).astype(np.int64)
        return TimeReading(_localised(local, known, zone), none, "spreadsheet serial", known)
    return None


def _are_dates(numbers: Floats) -> bool:
    """Years, months of six digits, or dates of eight."""
    low, high = float(numbers.min()), float(numbers.max())
    months = low >= 190_001 and high <= 209_912 and bool(((numbers % 100 >= 1) & (numbers % 100 <= 12)).all())
    in_range = (low >= 1500 and high < 2200) or months or (low >= 19_000_101 and high <= 21_991_231)
    return in_range and bool((numbers % 1 == 0).all())


def _since_1970(numbers: Floats, column: Any, known: NDArray[np.bool_], per_second: int) -> Instants:
    """Counts since 1970 as instants, those that are known; integers of this size do not all fit a float."""
    whole = pa.types.is_integer(column.type)
    counts = np.asarray(pc.fill_null(column, 0)) if whole else np.where(known, numbers, 0.0)
    return np.floor_divide(counts, per_second).astype(np.int64)[known].astype("datetime64[s]")
