"""Steps, calendars and zones: the one place where positions and times are converted.

Instants are `datetime64[s]` in UTC. Steps below a day are counted in UTC seconds; days and longer
steps follow the local calendar of the zone, so a local day may last 23, 24 or 25 hours. Business days pass over
what is closed (`open_days`).
"""

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime
from functools import lru_cache
from typing import Any, Literal, get_args
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

import numpy as np
from numpy.typing import NDArray

from proteron.core.errors import InputError, SettingsError
from proteron.core.open_days import closed_text, days_onwards, named_closed, open_at_or_before, open_days_until

Instants = NDArray[np.datetime64]
Ints = NDArray[np.int64]
Moment = str | int | datetime | date | np.datetime64

Unit = Literal["second", "minute", "hour", "day", "business_day", "week", "month", "quarter", "year"]
_SECONDS = {"second": 1, "minute": 60, "hour": 3600}
_DAYS = {"day": 1, "week": 7}
_MONTHS = {"month": 1, "quarter": 3, "year": 12}
_ALIASES = {
    **{name: name for name in get_args(Unit)},
    "s": "second",
    "sec": "second",
    "min": "minute",
    "t": "minute",
    "h": "hour",
    "hr": "hour",
    "d": "day",
    "b": "business_day",
    "bd": "business_day",
    "business day": "business_day",
    "working day": "business_day",
    "workday": "business_day",
    "w": "week",
    "wk": "week",
    "mo": "month",
    "q": "quarter",
    "y": "year",
    "a": "year",
}
# Season lengths in steps, by the unit of one step; other counts are scaled from these.
_SEASONS: dict[str, tuple[float, ...]] = {
    "second": (60.0, 3600.0, 86400.0),
    "minute": (60.0, 1440.0, 10080.0),
    "hour": (24.0, 168.0, 8766.0),
    "day": (7.0, 365.25),
    "business_day": (5.0, 21.0, 252.0),
    "week": (52.1785,),
    "month": (12.0,),
    "quarter": (4.0,),
    "year": (),
}


STEP_TEXTS = "Such as “1 hour”, “month” or “business day of PT except 2024-12-24”"
_MOST = 10**9
_STEP = re.compile(
    r"\s*(?P<count>\d{0,12})\s*(?P<unit>[a-zA-Z]+([\s_-]days?)?)"
    r"(\s+of\s+(?P<regions>[A-Za-z0-9,\s-]+?))?(\s+except\s+(?P<dates>[\d,\s-]+))?\s*"
)


@dataclass(frozen=True)
class Step:
    """The spacing of a series: `count` times a calendar unit.

    Business days pass over weekends and what is `closed`: countries (“PT”, “US-NY”) for their public holidays, and
    single dates.
    """

    unit: Unit
    count: int = 1
    closed: tuple[str, ...] = ()

    @classmethod
    def parse(cls, text: "str | Step") -> "Step":
        """Read "1h", "15 min", "month", "business day of PT except 2024-12-24" …; raises `SettingsError` otherwise."""
        if isinstance(text, Step):
            return text
        match = _STEP.fullmatch(text)
        word = re.sub(r"[\s_-]+", " ", match["unit"].lower()) if match else ""
        unit = _ALIASES.get(word) or _ALIASES.get(word.removesuffix("s"))
        count = int(match["count"] or 1) if match else 0
        if match is None or unit is None or not 1 <= count <= _MOST:
            raise SettingsError(f"“{text[:80]}” is not a step such as “1 hour” or “15 min”.", field="step")
        regions, dates = match["regions"] or "", match["dates"] or ""
        if (regions or dates) and unit != "business_day":
            raise SettingsError(f"Only business days pass over closed ones; the step is {word}.", field="step")
        return cls(unit, count, named_closed(regions, dates) if unit == "business_day" else ())

    def __str__(self) -> str:
        unit = self.unit.replace("_", " ")
        return f"{self.count} {unit}{'s' if self.count > 1 else ''}{closed_text(self.closed)}"

    @property
    def whole_seasons(self) -> tuple[int, ...]:
        """The two shortest seasons in whole points, where they are longer than one."""
        return tuple(length for length in (round(each) for each in self.seasons[:2]) if length > 1)

    @property
    def seasons(self) -> tuple[float, ...]:
        """Season lengths the step implies, in steps, shortest first (1 hour: 24, 168, 8766)."""
        lengths = tuple(length / self.count for length in _SEASONS[self.unit])
        return tuple(length for length in lengths if length >= 2)

    @property
    def season(self) -> int:
        """The shortest implied season in whole steps, 1 where there is none."""
        return round(self.seasons[0]) if self.seasons else 1

    @property
    def nominal_seconds(self) -> float:
        """Mean length of one step in seconds."""
        if self.unit in _SECONDS:
            return float(_SECONDS[self.unit] * self.count)
        if self.unit in _DAYS:
            return 86400.0 * _DAYS[self.unit] * self.count
        if self.unit == "business_day":
            return 86400.0 * 7 / 5 * self.count
        return 365.2425 / 12 * 86400.0 * _MONTHS[self.unit] * self.count


@lru_cache(maxsize=64)
def zone_info(name: str) -> ZoneInfo:
    """The named zone; raises `SettingsError` for an unknown name."""
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError) as error:
        raise SettingsError(f"“{name}” is not a time zone name such as “Europe/Lisbon”.", field="zone") from error


_FIRST_SECOND, _LAST_SECOND = -62_000_000_000, 253_000_000_000  # what the calendar library can name


@lru_cache(maxsize=1 << 16)
def _offset_at(utc_second: int, zone: str) -> int:
    utc_second = min(max(utc_second, _FIRST_SECOND), _LAST_SECOND)
    offset = datetime.fromtimestamp(utc_second, tz=zone_info(zone)).utcoffset()
    return int(offset.total_seconds()) if offset is not None else 0


def zone_offsets(utc_seconds: Ints, zone: str) -> Ints:
    """Local minus UTC, in seconds, for each instant (any shape)."""
    if zone == "UTC" or utc_seconds.size == 0:
        return np.zeros(utc_seconds.shape, dtype=np.int64)
    days, inverse = np.unique(utc_seconds.ravel() // 86400, return_inverse=True)
    before = np.array([_offset_at(int(day) * 86400, zone) for day in days])
    after = np.array([_offset_at(int(day + 1) * 86400, zone) for day in days])
    offsets = before[inverse].astype(np.int64)
    for index in np.flatnonzero((before != after)[inverse]):
        offsets[index] = _offset_at(int(utc_seconds.ravel()[index]), zone)
    return offsets.reshape(utc_seconds.shape)


def to_local(instants: Instants, zone: str) -> Instants:
    """UTC instants to local wall-clock times."""
    seconds = instants.astype("datetime64[s]").astype(np.int64)
    return (seconds + zone_offsets(seconds, zone)).astype("datetime64[s]")


def to_utc(local: Instants, zone: str) -> Instants:
    """Local wall-clock times to UTC; a repeated hour is its first, a skipped one is moved on."""
    seconds = local.astype("datetime64[s]").astype(np.int64)
    earlier = zone_offsets(seconds - 86400, zone)
    guess = seconds - earlier
    settled = seconds - zone_offsets(guess, zone)
    fits = settled + zone_offsets(settled, zone) == seconds
    return np.where(fits, settled, guess).astype("datetime64[s]")


def parse_moment(moment: Moment, zone: str) -> np.datetime64:
    """An ISO string, datetime or datetime64 as a UTC instant; naive ones are local to `zone`."""
    if isinstance(moment, str):
        try:
            text = moment.strip()
            moment = datetime.fromisoformat(text + {4: "-01-01", 7: "-01"}.get(len(text), ""))
        except ValueError as error:
            raise SettingsError(f"“{moment}” is not a date or time such as 2024-03-12 06:00.", field="time") from error
    if isinstance(moment, datetime) and moment.tzinfo is not None:
        return np.datetime64(moment.astimezone(UTC).replace(tzinfo=None), "s")
    return np.datetime64(to_utc(np.array([moment], dtype="datetime64[s]"), zone)[0], "s")


def end_of_period(text: str, zone: str) -> np.datetime64:
    """One past the last second of what `text` names: a year, a month, a day, or a moment."""
    day = np.datetime64(text.strip()) if re.fullmatch(r"\d{4}(-\d\d){0,2}", text.strip()) else None
    if day is None:
        return parse_moment(text, zone) + np.timedelta64(1, "s")
    return parse_moment(str((day + 1).astype("datetime64[D]")), zone)


@dataclass(frozen=True)
class TimeAxis:
    """The common grid of a panel: grid position 0 is `start`, one step per position."""

    start: np.datetime64
    step: Step
    zone: str = "UTC"

    @classmethod
    def make(cls, start: Moment, step: "str | Step", zone: str = "UTC") -> "TimeAxis":
        """An axis from the words and moments people use; raises `SettingsError`."""
        zone_info(zone)
        axis = cls(parse_moment(start, zone), Step.parse(step), zone)
        if axis.open_from() != axis:
            raise SettingsError(f"{start} is closed: a grid of {axis.step} begins on an open day.", field="start")
        return axis

    def times(self, positions: Ints) -> Instants:
        """UTC instants of grid positions (any shape, may lie outside the data)."""
        positions = np.asarray(positions, dtype=np.int64)
        unit, count = self.step.unit, self.step.count
        if unit in _SECONDS:
            return self.start.astype("datetime64[s]") + positions * (count * _SECONDS[unit])
        local = to_local(np.array([self.start]), self.zone)[0]
        if unit in _DAYS:
            return to_utc(local + positions * (86400 * _DAYS[unit] * count), self.zone)
        if unit == "business_day":
            clock = local - local.astype("datetime64[D]")
            dates = days_onwards(local, positions * count, self.step.closed)
            return to_utc(dates.astype("datetime64[s]") + clock, self.zone)
        month = local.astype("datetime64[M]")
        day = (local.astype("datetime64[D]") - month.astype("datetime64[D]")).astype(np.int64)
        clock = local - local.astype("datetime64[D]")
        months = month + positions * (_MONTHS[unit] * count)
        lengths = ((months + 1).astype("datetime64[D]") - months.astype("datetime64[D]")).astype(np.int64)
        dates = months.astype("datetime64[D]") + np.minimum(day, lengths - 1)
        return to_utc(dates.astype("datetime64[s]") + clock, self.zone)

    def local(self, positions: Ints) -> Instants:
        """Wall-clock times of grid positions in the axis's zone."""
        return to_local(self.times(positions), self.zone)

    def position(self, instant: np.datetime64) -> int:
        """The last grid position at or before `instant`; negative before the start."""
        if self.step.unit == "business_day":
            return self._open_position(instant)
        gap = float((instant - self.start) / np.timedelta64(1, "s"))
        guess = int(gap // self.step.nominal_seconds)
        nearby = np.arange(guess - 3, guess + 4)
        return int(nearby[np.searchsorted(self.times(nearby), instant, side="right") - 1])

    def _open_position(self, instant: np.datetime64) -> int:
        start, at = to_local(np.array([self.times(np.array([0]))[0], instant]), self.zone)
        clock = start - start.astype("datetime64[D]")
        day = (at - clock).astype("datetime64[D]")  # the last one whose grid point, if it has one, has come
        return open_days_until(start.astype("datetime64[D]"), day, self.step.closed) // self.step.count

    def open_from(self) -> "TimeAxis":
        """The same grid begun on a grid point: of business days, at or before a closed start."""
        if self.step.unit != "business_day":
            return self
        local = to_local(np.array([self.start]), self.zone)[0]
        day = local.astype("datetime64[D]")
        moved = open_at_or_before(day, self.step.closed).astype("datetime64[s]") + (local - day)
        return replace(self, start=np.datetime64(to_utc(np.array([moved]), self.zone)[0], "s"))

    def position_of(self, moment: Moment) -> int:
        """The grid position at `moment`, which may be one already; raises `InputError` where none stands there."""
        if isinstance(moment, int | np.integer) and not isinstance(moment, bool):
            return int(moment)
        instant = parse_moment(moment, self.zone)
        position = self.position(instant)
        if self.times(np.array([position]))[0] != instant:
            raise InputError(f"There is no grid point at {moment}; the step is {self.step}.", field="at")
        return position

    def shift_of(self, other: "TimeAxis") -> int:
        """Where `other`'s position 0 stands on this axis; raises `InputError` where its grid is another one."""
        if self == other:
            return 0
        if self.step != other.step:
            raise InputError(f"The step is {other.step}, but what was learned has {self.step}.", field="step")
        shift = self.position(other.start)
        probes = np.array([0, 1, 1000])
        if (self.times(probes + shift) != other.times(probes)).any():
            start = str(other.start).replace("T", " ")
            raise InputError(
                f"The grid that begins at {start} UTC does not fall on the one that was learned on, "
                f"which begins at {str(self.start).replace('T', ' ')} UTC with a step of {self.step} in {self.zone}.",
                field="start",
            )
        return shift

    def document(self) -> dict[str, str]:
        """As plain data."""
        return {"start": str(self.start), "step": str(self.step), "zone": self.zone}

    @classmethod
    def from_document(cls, document: Mapping[str, str]) -> "TimeAxis":
        """Read what `document` wrote."""
        return cls(np.datetime64(document["start"], "s"), Step.parse(document["step"]), document["zone"])

    def known(self, until: Moment) -> int:
        """How many grid positions are known as of `until`: an integer counts points, a time includes itself."""
        if isinstance(until, int | np.integer) and not isinstance(until, bool):
            return int(until)
        return self.position(parse_moment(until, self.zone)) + 1


def grid_positions(times: Instants, axis: TimeAxis) -> tuple[Ints, NDArray[np.bool_]]:
    """Nearest grid position of each instant, and whether it lies exactly on the grid."""
    seconds = (times - axis.start).astype("timedelta64[s]").astype(np.int64)
    if axis.step.unit in _SECONDS:
        width = _SECONDS[axis.step.unit] * axis.step.count
        return (seconds + width // 2) // width, seconds % width == 0
    count = int(seconds.max(initial=0) / axis.step.nominal_seconds) + 3
    grid = axis.times(np.arange(-1, count))
    right = np.clip(np.searchsorted(grid, times), 1, len(grid) - 1)
    nearer = np.where(times - grid[right - 1] < grid[right] - times, right - 1, right)
    return (nearer - 1).astype(np.int64), grid[nearer] == times


def infer_step(times: Instants, zone: str = "UTC") -> Step:
    """The step that most differences of sorted, distinct local times agree with.

    Raises `InputError` when fewer than two distinct times are given.
    """
    local = np.unique(to_local(times, zone))
    if len(local) < 2:
        raise InputError("A step needs at least two different times.", field="time")
    gaps, counts = np.unique(np.diff(local).astype(np.int64), return_counts=True)
    mode = int(gaps[np.argmax(counts)])
    by_count: tuple[tuple[int, int, Unit, int], ...] = (
        (365, 366, "year", 1), (90, 92, "quarter", 1), (181, 184, "month", 6), (28, 31, "month", 1),
    )  # fmt: skip
    for low, high, unit, count in by_count:
        inside = counts[(gaps >= low * 86400) & (gaps <= high * 86400)].sum()
        if low * 86400 <= mode <= high * 86400 and inside >= 0.5 * counts.sum():
            weekly = unit == "month" and count == 1 and mode == 28 * 86400 and (gaps == mode).all()
            if not weekly:
                return Step(unit, count)
    if mode == 86400 and _passes_over_weekends(local, gaps, counts):
        return Step("business_day")
    sizes: tuple[tuple[int, Unit], ...] = ((604800, "week"), (86400, "day"), (3600, "hour"), (60, "minute"))
    for width, unit in sizes:
        if mode % width == 0:
            return Step(unit, mode // width)
    return Step("second", mode)


def _passes_over_weekends(local: Instants, gaps: Ints, counts: Ints) -> bool:
    """Whether no day of sorted local times is a Saturday or Sunday, though two weekends or more lie among them."""
    weekdays = calendar_codes("weekday", local)
    weekends = int(counts[gaps == 3 * 86400].sum())
    return bool(weekdays.max() < 5) and weekends >= 2 and (gaps % 86400 == 0).all()


CalendarField = Literal[
    "minute_of_day", "hour_of_day", "hour_of_week", "weekday", "day_of_month", "day_of_year",
    "week_of_year", "month", "quarter",
]  # fmt: skip
CYCLES: dict[str, float] = {
    "minute_of_day": 1440, "hour_of_day": 24, "hour_of_week": 168, "weekday": 7, "day_of_month": 31,
    "day_of_year": 366, "week_of_year": 53, "month": 12, "quarter": 4,
}  # fmt: skip


def calendar_codes(field: CalendarField, local: Instants) -> Ints:
    """Calendar codes from 0 (weekday 0 is Monday) of local times, any shape."""
    days = local.astype("datetime64[D]")

    def seconds() -> Ints:
        return (local - days).astype("timedelta64[s]").astype(np.int64)

    def since(unit: str) -> Ints:
        return (days - days.astype(f"datetime64[{unit}]").astype("datetime64[D]")).astype(np.int64)

    def weekday() -> Ints:
        return (days.astype(np.int64) + 3) % 7

    def month() -> Ints:
        return local.astype("datetime64[M]").astype(np.int64) % 12

    codes: dict[str, Callable[[], Any]] = {
        "minute_of_day": lambda: seconds() // 60,
        "hour_of_day": lambda: seconds() // 3600,
        "hour_of_week": lambda: weekday() * 24 + seconds() // 3600,
        "weekday": weekday,
        "day_of_month": lambda: since("M"),
        "day_of_year": lambda: since("Y"),
        "week_of_year": lambda: since("Y") // 7,
        "month": month,
        "quarter": lambda: month() // 3,
    }
    return np.asarray(codes[field](), dtype=np.int64)
