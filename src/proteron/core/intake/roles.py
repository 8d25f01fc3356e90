"""Roles: what each column is for, guessed with a reason and a confidence, changed by the user."""

import re
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from proteron.core.intake.durations import is_end
from proteron.core.intake.numbers import read_numbers
from proteron.core.intake.raw import MARK, RawTable, ReaderSettings, is_marked, words_of
from proteron.core.intake.split_times import complete, piece_of
from proteron.core.intake.times import read_times

Role = Literal["time", "key", "target", "observed", "known_ahead", "static", "ignore"]
ROLES: tuple[Role, ...] = ("time", "key", "target", "observed", "known_ahead", "static", "ignore")
_SAMPLE = 4000
_TIME_WORDS = (
    "time",
    "date",
    "when",
    "day",
    "month",
    "year",
    "hour",
    "stamp",
    "period",
    "week",
    "quarter",
    "started",
    "ended",
)
_AHEAD_WORDS = (
    "holiday",
    "plan",
    "planned",
    "price",
    "promo",
    "campaign",
    "calendar",
    "weekday",
    "schedule",
    "forecast",
)
_CALENDAR_NAMES = ("hour", "week", "month", "quarter", "year", "day of week", "day_of_week", "dayofweek")
_CODE_WORDS = ("code", "type", "class", "kind", "category", "group", "flag", "status", "zone", "id", "mode", "level")
_KEY_WORDS = ("key", "series", "district", "station", "site", "store", "sku", "meter", "sensor", "region", "item")
_ID_WORDS = ("id", "ids", "uuid", "rowid", "identifier")
_COUNTER_WORDS = ("no", "nr", "number", "index", "row", "record", "column", "unnamed", "key", "event", "line")
_WIDE = 8


@dataclass(frozen=True)
class RoleGuess:
    """A column's role, the reason in words, and how sure the guess is (0 … 1)."""

    column: str
    role: Role
    reason: str
    confidence: float = 0.5
    category: bool = False


def _spread_sample(table: pa.Table) -> pa.Table:
    """The first rows and some from all over."""
    if table.num_rows <= 2 * _SAMPLE:
        return table
    piece = _SAMPLE // 8
    starts = np.linspace(_SAMPLE, table.num_rows - piece, 8).astype(np.int64).tolist()
    return pa.concat_tables([table.slice(0, _SAMPLE), *(table.slice(start, piece) for start in starts)])


def _coinciding_sample(table: pa.Table, time: str) -> pa.Table:
    """All rows of some of the times, about as many as a sample has."""
    column = table[time]
    if pa.types.is_string(column.type):
        column = column.dictionary_encode()
    if pa.types.is_dictionary(column.type):
        column = column.unify_dictionaries()
    every = 1 << max(0, (table.num_rows // (2 * _SAMPLE)).bit_length() - 1)
    found, at = [], 0
    for chunk in column.chunks:
        numbers = chunk.indices if pa.types.is_dictionary(chunk.type) else chunk
        codes = np.asarray(pc.fill_null(numbers, 0).cast(pa.int64(), safe=False)) * np.int64(2654435761)
        found.append(np.flatnonzero((codes >> 16) & (every - 1) == 0) + at)
        at += len(chunk)
    chosen = np.concatenate(found)[: 4 * _SAMPLE]
    return table.take(pa.array(chosen)) if len(chosen) >= 100 else _spread_sample(table)


@dataclass
class _Look:
    """What a sample of one column shows."""

    name: str
    time: float  # share that reads as a time
    number: float  # share that reads as a number
    text: bool  # something is no number
    distinct: int
    present: int
    codes: np.ndarray  # identity of each sampled cell
    whole: bool
    form: str = ""
    scattered: bool = False  # few whole numbers, unevenly spread: names rather than amounts
    rising: bool = False  # every number larger than the one above it by the same


def guess_roles(raw: RawTable, reader: ReaderSettings | None = None) -> list[RoleGuess]:
    """One role per column: one time, the keys that make times unique, the first number the target."""
    sample, looks, time = _looks(raw, reader or ReaderSettings())
    together = _together(sample, looks, time)
    guesses = _time_guesses(looks, time, together)
    time = _merged(looks, time, together)
    if is_marked(raw):
        guesses[MARK] = RoleGuess(MARK, "ignore", "marks of a written panel: filled points and steps ahead", 1.0)
    ignored = [_passed_over(look) for look in looks if look.name not in guesses]
    guesses |= {guess.column: guess for guess in ignored if guess is not None}
    rest = [look for look in looks if look.name not in guesses]
    keys, why = _chosen_keys(rest, time, raw, sample)
    for look in keys:
        guesses[look.name] = RoleGuess(look.name, "key", f"{look.distinct} {why}", 0.8 if look.text else 0.6)
    rest = [look for look in rest if look not in keys]
    guesses |= {guess.column: guess for guess in _Beside.of(rest, keys, sample).guesses()}
    return [guesses[name] for name in raw.names]


def _looks(raw: RawTable, reader: ReaderSettings) -> tuple[pa.Table, list[_Look], _Look | None]:
    """A sample of rows, what it shows of every column, and the time column; rows of the same times if there is one."""
    sample = _spread_sample(raw.columns)
    looks = [_look(name, sample[name], reader) for name in raw.names]
    time = _time(looks)
    if time is None or raw.columns.num_rows <= sample.num_rows:
        return sample, looks, time
    sample = _coinciding_sample(raw.columns, time.name)  # so that what tells rows of one time apart shows
    looks = [_look(name, sample[name], reader) for name in raw.names]
    return sample, looks, next(look for look in looks if look.name == time.name)


def _together(sample: pa.Table, looks: list[_Look], time: _Look | None) -> tuple[str, ...]:
    """Columns that make a time together: a date and its clock, or year and month; empty where one is enough."""
    if time is not None and time.form.startswith("epoch"):
        return ()
    whole = time is not None and time.form not in ("year", "spreadsheet serial")
    parts = {look.name: piece_of(look.name, sample[look.name]) for look in looks if look.present}
    if whole and time is not None:
        finer = ("clock",) if _repeats(time.codes) == 0 else ("clock", "hour", "minute")
        parts = {name: part for name, part in parts.items() if part in finer} | {time.name: "date"}
    return complete(parts)


def _merged(looks: list[_Look], time: _Look | None, together: tuple[str, ...]) -> _Look | None:
    """The time as it repeats over rows: one column's, or that of several that make it together."""
    if not together:
        return time
    several = [look for look in looks if look.name in together]
    codes = several[0].codes
    for look in several[1:]:
        codes = _paired(codes, look.codes)
    return replace(time or several[0], codes=codes)


def _time_guesses(looks: list[_Look], time: _Look | None, together: tuple[str, ...]) -> dict[str, RoleGuess]:
    """The time column, and others that go with it."""
    if together:
        reason = f"together a time: {', '.join(together)}"
        return {name: RoleGuess(name, "time", reason, 0.8) for name in together}
    if time is None:
        return {}
    sure = 0.95 if words_of(time.name) & set(_TIME_WORDS) else 0.75
    return {time.name: RoleGuess(time.name, "time", f"reads as a time in every row sampled ({time.form})", sure)}


def _chosen_keys(
    rest: list[_Look], time: _Look | None, raw: RawTable, sample: pa.Table
) -> tuple[list[_Look], str]:  # fmt: skip
    """Columns that make times unique, or name what comes again; and why, in words that follow their number."""
    again = "values that come again"
    keys = _keys([each for each in rest if each.text or _is_code(each, rest)], time, sample.num_rows)
    keys = _counted_keys(keys, rest, time)
    if not keys:
        keys = [each for each in rest if _is_named_as_key(each)][:1]
    if not keys and time is not None and _is_irregular(raw.columns[time.name]):
        keys = [each for each in rest if each.text and 2 <= each.distinct <= max(2, each.present // 10)]
        return keys, again
    return keys, again if time is None else "different values; with it every time occurs once"


def _passed_over(look: _Look) -> RoleGuess | None:
    """A column that is nothing to forecast or to know: empty, a number of the row, or an end; None where it may be."""
    if look.present == 0:
        return RoleGuess(look.name, "ignore", "nothing in it", 0.95)
    if _is_row_number(look):
        return RoleGuess(look.name, "ignore", "another whole number in every row: it names the row", 0.8)
    if look.time > 0.9 and is_end(look.name):
        return RoleGuess(look.name, "ignore", "when something ended", 0.7)
    return None


def _is_row_number(look: _Look) -> bool:
    """Whole numbers, none twice, under a name that ids have; or counting up, under one that row numbers have."""
    if look.text or not look.whole or look.distinct != look.present or look.present < 3:
        return False
    words = words_of(look.name)
    return bool(words & set(_ID_WORDS)) or (look.rising and bool(words & set(_COUNTER_WORDS)))


def _is_named_as_key(look: _Look) -> bool:
    """Text that comes again, under a name that keys have."""
    return look.text and bool(words_of(look.name) & set(_KEY_WORDS)) and look.distinct * 2 <= look.present


def _look(name: str, column: Any, reader: ReaderSettings) -> _Look:
    read = read_times(column, "UTC", serials=bool(words_of(name) & set(_TIME_WORDS)))
    text = column.cast(pa.string())
    encoded = (text.combine_chunks() if isinstance(text, pa.ChunkedArray) else text).dictionary_encode()
    codes = np.asarray(pc.fill_null(encoded.indices, -1))
    labels = encoded.dictionary.to_pylist()
    marks = set(reader.marks)
    blank = {i for i, label in enumerate(labels) if label.strip() in marks}
    present_rows = (codes >= 0) & ~np.isin(codes, list(blank))
    present = int(present_rows.sum())
    if pa.types.is_timestamp(column.type):
        return _Look(name, 1.0, 0.0, True, len(labels), present, codes, False, "ISO")
    numbers = read_numbers(column, reader)
    known = np.isfinite(numbers.values)
    whole = bool(known.any() and (numbers.values[known] % 1 == 0).all())
    share = float((~np.isnat(read.instants) & present_rows).sum() / present) if read is not None and present else 0.0
    number = float(known.sum() / present) if present else 0.0
    form = read.form if read else ""
    look = _Look(name, share, number, number < 0.7, len(labels) - len(blank), present, codes, whole, form)
    look.rising = whole and bool(known.all()) and len(np.unique(np.diff(numbers.values))) == 1
    look.scattered = whole and not look.text and _is_scattered(np.unique(numbers.values[known]), present)
    return look


def _is_scattered(values: np.ndarray, present: int) -> bool:
    """Few whole numbers, unevenly spread over a range much wider than they are many: 101, 205, 330."""
    if not 3 <= len(values) <= 12 or present < 8 * len(values) or values[0] < 0:
        return False
    gaps = np.diff(values)
    return bool(values[-1] - values[0] > 3 * len(values) and (gaps != gaps[0]).any() and (gaps > 1).all())


def _is_irregular(column: Any) -> bool:
    """Times without a spacing of their own, as of events."""
    read = read_times(column.slice(0, _SAMPLE), "UTC")
    if read is None:
        return False
    times = np.unique(read.instants[~np.isnat(read.instants)])
    gaps, counts = np.unique(np.diff(times), return_counts=True)
    return len(times) > 10 and bool(counts.max() < 0.5 * counts.sum()) and float(gaps.max() / gaps.min()) > 1.2


def _time(looks: list[_Look]) -> _Look | None:
    """The column that reads as times throughout; a fitting name breaks ties, bare numbers need one."""
    best: tuple[tuple[bool, bool, int], _Look] | None = None
    for position, look in enumerate(looks):
        named = bool(words_of(look.name) & set(_TIME_WORDS))
        counted = look.form.startswith("epoch") and look.distinct > 1
        bare = look.number > 0.9 and not named and look.form != "compact"
        if look.time < 0.9 or look.distinct < 1 or (bare and not counted):
            continue
        rank = (named, look.form not in ("year",), -position)
        if best is None or rank > best[0]:
            best = (rank, look)
    return best[1] if best else None


def _is_code(look: _Look, looks: list[_Look]) -> bool:
    """Whole numbers that name rather than count: few of them, and named so or scattered as codes are."""
    few = look.whole and 1 < look.distinct <= 50 and look.distinct * 4 <= look.present
    others = any(not each.text and each is not look for each in looks)
    return others and (look.scattered or (few and bool(words_of(look.name) & set(_CODE_WORDS))))


def _keys(candidates: list[_Look], time: _Look | None, rows: int) -> list[_Look]:
    """The fewest repeated columns that make times unique; with no time, every repeated text."""
    repeated = sorted(
        (each for each in candidates if 1 <= each.distinct <= max(1, rows // 2)), key=lambda each: not each.text
    )
    if time is None:
        return [each for each in repeated if each.text]
    seen = time.codes.astype(np.int64)
    left = _repeats(seen)
    chosen: list[_Look] = []
    while left and repeated:
        tries = [(_repeats(_paired(seen, look.codes)), number) for number, look in enumerate(repeated)]
        fewest, number = min(tries)
        if fewest >= left:
            break
        look = repeated.pop(number)
        chosen.append(look)
        seen, left = _paired(seen, look.codes), fewest
    return chosen


def _counted_keys(keys: list[_Look], rest: list[_Look], time: _Look | None) -> list[_Look]:
    """Keys written as few whole numbers, where texts alone leave times repeated and one such column mends it."""
    if time is None:
        return keys
    seen = time.codes.astype(np.int64)
    for look in keys:
        seen = _paired(seen, look.codes)
    if not _repeats(seen):
        return keys
    numeric = [look for look in rest if not look.text and look not in keys]
    few = [look for look in numeric if look.whole and 1 < look.distinct <= 50 and look.distinct * 4 <= look.present]
    found = next((look for look in few if not _repeats(_paired(seen, look.codes))), None)
    return [*keys, found] if found is not None and len(numeric) > 1 else keys


def _paired(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    return np.unique(a.astype(np.int64) * (int(b.max(initial=0)) + 2) + b + 1, return_inverse=True)[1]


def _repeats(codes: np.ndarray) -> int:
    return len(codes) - len(np.unique(codes))


@dataclass
class _Beside:
    """Columns that are neither time nor key: targets, covariates, categories.

    `steady` have one value per key, `numeric` are amounts, `wide` tells that each of these is a series of its own.
    """

    rest: list[_Look]
    steady: list[_Look]
    numeric: list[_Look]
    wide: bool
    target: _Look | None

    @classmethod
    def of(cls, rest: list[_Look], keys: list[_Look], sample: pa.Table) -> "_Beside":
        """What these columns are to each other, as the sample shows it."""
        group = np.zeros(sample.num_rows, dtype=np.int64)
        for look in keys:
            group = _paired(group, look.codes)
        groups = len(np.unique(group))
        steady = [each for each in rest if groups > 1 and len(np.unique(_paired(group, each.codes))) == groups]
        amounts = [each for each in rest if not each.text and not _is_code(each, rest)]
        numeric = [each for each in amounts if each not in steady] or amounts
        wide = not keys and (len(numeric) >= _WIDE or _alike([each.name for each in numeric]))
        free = (each for each in numeric if not _is_planned(each) and each not in steady)
        return cls(rest, steady, numeric, wide, next(free, numeric[0] if numeric else None))

    def guesses(self) -> list[RoleGuess]:
        """A role for each."""
        return [self._guess(look) for look in self.rest]

    def _guess(self, look: _Look) -> RoleGuess:
        if look in self.steady and look is not self.target:
            return RoleGuess(look.name, "static", "one value per key", 0.8, look.text or _is_code(look, self.rest))
        if look in self.numeric and self.wide:
            return RoleGuess(look.name, "target", "one of many columns of numbers: one series each", 0.7)
        if look is self.target:
            sure = 0.9 if len(self.numeric) == 1 else 0.7
            return RoleGuess(look.name, "target", "numbers; the first such column", sure)
        if look in self.numeric or _is_code(look, self.rest):
            return self._covariate(look)
        return _category(look)

    def _covariate(self, look: _Look) -> RoleGuess:
        """Numbers or codes beside the target, known ahead where their name or their reach says so."""
        category = look not in self.numeric
        if _is_planned(look):
            return RoleGuess(look.name, "known_ahead", "its name says it is planned", 0.6, category)
        if _reaches_further(look, self.target):
            return RoleGuess(look.name, "known_ahead", "goes on where the target ends", 0.6, category)
        reason = f"{look.distinct} codes" if category else "numbers beside the target"
        return RoleGuess(look.name, "observed", reason, 0.6, category)


def _category(look: _Look) -> RoleGuess:
    """Text: a category where its values come again, ignored where they hardly do."""
    if look.distinct <= max(2, look.present // 4) and look.distinct <= 100 and look.present > 1:
        return RoleGuess(look.name, "observed", f"text with {look.distinct} different values", 0.5, True)
    return RoleGuess(look.name, "ignore", f"text with {look.distinct} different values, hardly repeated", 0.7)


def _is_planned(look: _Look) -> bool:
    return bool(words_of(look.name) & set(_AHEAD_WORDS)) or look.name.strip().lower() in _CALENDAR_NAMES


def _alike(names: list[str]) -> bool:
    """Three and more columns whose names differ in a number or a letter only."""
    stems = {re.sub(r"(\d+|[ _-][A-Za-z])$", "", name.strip()) for name in names}
    return len(names) >= 3 and len(stems) == 1 and stems != {""}


def _reaches_further(look: _Look, target: _Look | None) -> bool:
    """Whether the last rows have this column but no target."""
    if target is None:
        return False
    tail = max(1, len(target.codes) // 50)
    return bool((target.codes[-tail:] < 0).all() and (look.codes[-tail:] >= 0).all())
