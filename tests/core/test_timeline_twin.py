"""Times against the standard library's calendar: zones, clock changes, grids, ends of periods."""

import datetime
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import proteron as pt
from proteron.core.timeline import (
    Step,
    TimeAxis,
    calendar_codes,
    end_of_period,
    grid_positions,
    infer_step,
    parse_moment,
    to_local,
    to_utc,
)  # fmt: skip

ZONES = ("UTC", "Europe/Lisbon", "America/New_York", "Asia/Kathmandu", "Australia/Lord_Howe", "Pacific/Apia")
SECONDS = st.integers(0, 2_000_000_000)
STEPS = ("90 s", "7 min", "1 h", "5 h", "1 day", "3 days", "2 weeks", "1 month", "5 months", "1 quarter", "1 year")


def as_utc(second: int) -> datetime.datetime:
    return datetime.datetime.fromtimestamp(second, datetime.UTC)


@settings(max_examples=300, deadline=None)
@given(seconds=st.lists(SECONDS, min_size=1, max_size=20), zone=st.sampled_from(ZONES))
def test_wall_clocks_are_those_of_the_zone(seconds: list[int], zone: str) -> None:
    instants = np.array(seconds).astype("datetime64[s]")
    local = to_local(instants, zone)
    for second, wall in zip(seconds, local, strict=True):
        expected = as_utc(second).astimezone(ZoneInfo(zone)).replace(tzinfo=None)
        assert wall.item() == expected
    back = to_utc(local, zone)
    for wall, instant in zip(local, back, strict=True):
        first = wall.item().replace(tzinfo=ZoneInfo(zone), fold=0).astimezone(datetime.UTC).replace(tzinfo=None)
        assert instant.item() == first, "a repeated hour is its first"


@pytest.mark.parametrize("zone", ZONES)
def test_a_skipped_hour_is_moved_on(zone: str) -> None:
    """Every quarter hour of two years there and back: the same, or later by what the change skips."""
    local = np.datetime64("2011-11-01", "s") + np.arange(0, 2 * 366 * 96) * np.timedelta64(900, "s")
    again = to_local(to_utc(local, zone), zone)
    moved = again != local
    late = (again - local)[moved].astype("timedelta64[m]").astype(int)
    assert (late > 0).all()
    if zone == "UTC":
        assert not moved.any()


@settings(max_examples=200, deadline=None)
@given(
    start=SECONDS, step=st.sampled_from(STEPS), zone=st.sampled_from(ZONES), at=st.integers(-60, 400),
    beside=st.integers(0, 10**9),
)  # fmt: skip
def test_a_position_is_the_last_grid_point_at_or_before(start: int, step: str, zone: str, at: int, beside: int) -> None:
    axis = TimeAxis(np.datetime64(start, "s"), Step.parse(step), zone)
    edges = axis.times(np.array([at, at + 1]))
    width = int((edges[1] - edges[0]).astype(int))
    if width <= 0:
        return  # a day that a zone has skipped
    instant = edges[0] + np.timedelta64(beside % width, "s")
    found = axis.position(instant)
    assert axis.times(np.array([found]))[0] <= instant < axis.times(np.array([found + 1]))[0]
    assert found == at
    assert axis.known(f"{instant}Z") == at + 1
    if at >= 0:
        positions, exact = grid_positions(np.array([edges[0]]), axis)
        assert (positions[0], exact[0]) == (at, True)


@pytest.mark.parametrize("step", STEPS)
def test_the_nearest_grid_point_is_found_and_said_to_be_near(step: str) -> None:
    axis = TimeAxis.make("2021-01-31", step, "Europe/Lisbon")
    grid = axis.times(np.arange(0, 60))
    gap = np.diff(grid).min()
    near = grid[1:-1] + gap // 3
    positions, exact = grid_positions(near, axis)
    assert positions.tolist() == list(range(1, 59))
    assert not exact.any()
    before = grid[1:-1] - gap // 3
    assert grid_positions(before, axis)[0].tolist() == list(range(1, 59))


@pytest.mark.parametrize(
    ("text", "zone", "instant"),
    [
        ("2024", "UTC", "2024-01-01T00:00:00"), ("2024-03", "UTC", "2024-03-01T00:00:00"),
        ("2024-03-05", "Europe/Lisbon", "2024-03-05T00:00:00"),
        ("2024-07-05", "Europe/Lisbon", "2024-07-04T23:00:00"),
        ("2024-07-05 06:30", "Europe/Lisbon", "2024-07-05T05:30:00"),
        ("2024-07-05T06:30Z", "Europe/Lisbon", "2024-07-05T06:30:00"),
        ("2024-07-05T06:30-05:00", "Europe/Lisbon", "2024-07-05T11:30:00"),
        (" 2024-07-05 ", "UTC", "2024-07-05T00:00:00"),
    ],
)  # fmt: skip
def test_moments_are_read_as_people_write_them(text: str, zone: str, instant: str) -> None:
    assert str(parse_moment(text, zone)) == instant
    aware = datetime.datetime.fromisoformat(instant).replace(tzinfo=datetime.UTC)
    assert str(parse_moment(aware, zone)) == instant


@pytest.mark.parametrize("text", ["", "yesterday", "2024-13", "2024-02-30", "24:00"])
def test_what_is_no_moment_is_said_to_be_none(text: str) -> None:
    with pytest.raises(pt.SettingsError, match="is not a date or time such as"):
        parse_moment(text, "UTC")


@pytest.mark.parametrize(
    ("text", "zone", "end"),
    [
        ("2024", "UTC", "2025-01-01T00:00:00"), ("2024-02", "UTC", "2024-03-01T00:00:00"),
        ("2024-12", "UTC", "2025-01-01T00:00:00"), ("2024-02-28", "UTC", "2024-02-29T00:00:00"),
        ("2024-03-30", "Europe/Lisbon", "2024-03-31T00:00:00"),
        ("2024-03-31", "Europe/Lisbon", "2024-03-31T23:00:00"),
        ("2024-03-31 06:00", "Europe/Lisbon", "2024-03-31T05:00:01"),
        ("2024-03-31T06:00Z", "UTC", "2024-03-31T06:00:01"),
    ],
)  # fmt: skip
def test_a_stated_end_includes_all_that_it_names(text: str, zone: str, end: str) -> None:
    assert str(end_of_period(text, zone)) == end


def test_axes_of_one_grid_are_shifted_and_others_refused() -> None:
    hours = TimeAxis.make("2024-01-01", "1 hour")
    assert hours.shift_of(TimeAxis.make("2024-01-02T03:00", "1 hour")) == 27
    assert hours.shift_of(TimeAxis.make("2023-12-31", "1 hour")) == -24
    assert hours.shift_of(hours) == 0
    with pytest.raises(pt.InputError, match="The step is 2 hours, but what was learned has 1 hour"):
        hours.shift_of(TimeAxis.make("2024-01-01", "2 hours"))
    with pytest.raises(pt.InputError, match="does not fall on the one that was learned on"):
        hours.shift_of(TimeAxis.make("2024-01-01T00:30", "1 hour"))
    two = TimeAxis.make("2024-01-01", "2 days")
    assert two.shift_of(TimeAxis.make("2024-01-05", "2 days")) == 2
    with pytest.raises(pt.InputError, match="does not fall"):
        two.shift_of(TimeAxis.make("2024-01-04", "2 days"))
    ends = TimeAxis.make("2024-01-31", "1 month")
    with pytest.raises(pt.InputError, match="does not fall"):
        ends.shift_of(TimeAxis.make("2024-02-29", "1 month"))  # the 29th of March is not its last day
    days = TimeAxis.make("2024-01-01", "1 day", "Europe/Lisbon")
    with pytest.raises(pt.InputError, match="does not fall"):
        days.shift_of(TimeAxis.make("2024-01-01", "1 day", "UTC"))  # alike in winter only


def test_a_place_on_the_grid_is_named_exactly() -> None:
    axis = TimeAxis.make("2024-01-01", "1 day")
    assert axis.position_of("2024-01-05") == 4
    assert axis.position_of(7) == 7
    assert axis.position_of(np.datetime64("2023-12-31")) == -1
    with pytest.raises(pt.InputError, match="There is no grid point at 2024-01-05 06:00; the step is 1 day"):
        axis.position_of("2024-01-05 06:00")
    assert TimeAxis.from_document(axis.document()) == axis


@pytest.mark.parametrize(
    ("step", "seasons", "season"),
    [
        ("1 min", (60, 1440, 10080), 60), ("15 min", (4, 96, 672), 4), ("1 hour", (24, 168, 8766), 24),
        ("6 hours", (4, 28, 1461), 4), ("1 day", (7, 365.25), 7), ("2 days", (3.5, 182.625), 4),
        ("1 week", (52.1785,), 52),
        ("1 month", (12,), 12), ("6 months", (2,), 2), ("1 quarter", (4,), 4), ("1 year", (), 1),
        ("24 hours", (7, 365.25), 7),
    ],
)  # fmt: skip
def test_seasons_follow_from_the_step(step: str, seasons: tuple[float, ...], season: int) -> None:
    assert Step.parse(step).seasons == pytest.approx(seasons)
    assert Step.parse(step).season == season


@pytest.mark.parametrize(
    ("times", "step"),
    [
        (["2024-01-01", "2024-02-01", "2024-03-01"], "1 month"),
        (["2024-01-31", "2024-02-29", "2024-03-31"], "1 month"),
        (["2023-02-01", "2023-03-01", "2023-04-01"], "1 month"),
        (["2024-01-01", "2024-01-29", "2024-02-26"], "4 weeks"),
        (["2021-01-01", "2021-04-01", "2021-07-01"], "1 quarter"),
        (["2021-01-01", "2021-07-01", "2022-01-01"], "6 months"),
        (["2021-01-01", "2022-01-01", "2023-01-01"], "1 year"),
        (["2024-01-01", "2024-01-08", "2024-01-15"], "1 week"),
        (["2024-01-01", "2024-01-11", "2024-01-21"], "10 days"),
        (["2024-01-01T00:00", "2024-01-01T12:00"], "12 hours"),
        (["2024-01-01T00:00:00", "2024-01-01T00:00:30"], "30 seconds"),
        (["2024-01-01T00:00", "2024-01-01T01:30"], "90 minutes"),
        (["2024-01-01", "2024-01-02", "2024-01-03", "2024-01-09"], "1 day"),
    ],
)  # fmt: skip
def test_the_step_is_what_most_gaps_say(times: list[str], step: str) -> None:
    assert infer_step(np.array(times, "datetime64[s]")) == Step.parse(step)


def test_one_time_has_no_step() -> None:
    with pytest.raises(pt.InputError, match="at least two different times"):
        infer_step(np.array(["2024-01-01", "2024-01-01"], "datetime64[s]"))


@settings(max_examples=200, deadline=None)
@given(second=SECONDS)
def test_calendar_codes_are_those_of_the_calendar(second: int) -> None:
    moment = as_utc(second).replace(tzinfo=None)
    local = np.array([np.datetime64(second, "s")])
    day_of_year = moment.timetuple().tm_yday - 1
    expected = {
        "minute_of_day": moment.hour * 60 + moment.minute, "hour_of_day": moment.hour,
        "hour_of_week": moment.weekday() * 24 + moment.hour, "weekday": moment.weekday(),
        "day_of_month": moment.day - 1, "day_of_year": day_of_year, "week_of_year": day_of_year // 7,
        "month": moment.month - 1, "quarter": (moment.month - 1) // 3,
    }  # fmt: skip
    for field, code in expected.items():
        assert calendar_codes(field, local)[0] == code, field  # type: ignore[arg-type]
