"""Steps, calendars and zones: the one place where positions and times are converted.

Instants are `datetime64[s]` in UTC. Steps below a day are counted in UTC seconds; days and longer
steps follow the local calendar of the zone, so a local day may last 23, 24 or 25 hours.
"""

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import UTC, date, datetime
from functools import lru_cache
from typing import Any, Literal, get_args
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

import numpy as np
from numpy.typing import NDArray

from proteron.core.errors import InputError, SettingsError

Instants = NDArray[np.datetime64]
Ints = NDArray[np.int64]
Moment = str | int | datetime | date | np.datetime64

Unit = Literal["second", "minute", "hour", "day", "week", "month", "quarter", "year"]
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
    "week": (52.1785,),
    "month": (12.0,),
    "quarter": (4.0,),
    "year": (),
}


@dataclass(frozen=True)
class Step:
    """The spacing of a series: `count` times a calendar unit."""

    unit: Unit
    count: int = 1

    @classmethod
    def parse(cls, text: "str | Step") -> "Step":
        """Read "1h", "15 min", "month", "2 weeks" …; raises `SettingsError` otherwise."""
        if isinstance(text, Step):
            return text
        match = re.fullmatch(r"\s*(\d*)\s*([a-zA-Z]+)\s*", text)
        word = match.group(2).lower() if match else ""
        unit = _ALIASES.get(word) or _ALIASES.get(word.removesuffix("s"))
        count = int(match.group(1) or 1) if match else 0
        if unit is None or count < 1:
            raise SettingsError(f"“{text}” is not a step such as “1 hour” or “15 min”.", field="step")
        return cls(unit, count)

    def __str__(self) -> str:
        return f"{self.count} {self.unit}{'s' if self.count > 1 else ''}"

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
        return cls(parse_moment(start, zone), Step.parse(step), zone)

    def times(self, positions: Ints) -> Instants:
        """UTC instants of grid positions (any shape, may lie outside the data)."""
        positions = np.asarray(positions, dtype=np.int64)
        unit, count = self.step.unit, self.step.count
        if unit in _SECONDS:
            return self.start.astype("datetime64[s]") + positions * (count * _SECONDS[unit])
        local = to_local(np.array([self.start]), self.zone)[0]
        if unit in _DAYS:
            return to_utc(local + positions * (86400 * _DAYS[unit] * count), self.zone)
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
        gap = float((instant - self.start) / np.timedelta64(1, "s"))
        guess = int(gap // self.step.nominal_seconds)
        nearby = np.arange(guess - 3, guess + 4)
        return int(nearby[np.searchsorted(self.times(nearby), instant, side="right") - 1])

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
    sizes: tuple[tuple[int, Unit], ...] = ((604800, "week"), (86400, "day"), (3600, "hour"), (60, "minute"))
    for width, unit in sizes:
        if mode % width == 0:
            return Step(unit, mode // width)
    return Step("second", mode)


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
