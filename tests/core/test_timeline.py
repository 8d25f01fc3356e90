"""Steps, zones and calendars."""

import numpy as np
import pytest

from proteron.core.errors import SettingsError
from proteron.core.timeline import Step, TimeAxis, calendar_codes, grid_positions, infer_step, to_local, to_utc


@pytest.mark.parametrize(
    ("text", "shown"),
    [
        ("1h", "1 hour"),
        ("15 min", "15 minutes"),
        ("month", "1 month"),
        ("2 weeks", "2 weeks"),
        ("Q", "1 quarter"),
        ("D", "1 day"),
        ("b", "1 business day"),
        ("5 business_days", "5 business days"),
        ("business day of pt, us-ny", "1 business day of PT, US-NY"),
        ("Working days except 2024-12-31 2024-12-24", "1 business day except 2024-12-24, 2024-12-31"),
        ("business day of PT except 2024-12-24", "1 business day of PT except 2024-12-24"),
    ],
)
def test_steps_are_read_and_shown(text: str, shown: str) -> None:
    assert str(Step.parse(text)) == shown


@pytest.mark.parametrize("text", ["", "0h", "fortnight", "1.5h", "h1"])
def test_a_bad_step_is_a_clear_error(text: str) -> None:
    with pytest.raises(SettingsError, match="not a step"):
        Step.parse(text)


def test_local_days_have_23_24_and_25_hours() -> None:
    axis = TimeAxis.make("2024-03-30", "1 day", "Europe/Lisbon")
    hours = np.diff(axis.times(np.arange(4))).astype("timedelta64[h]").astype(int)
    assert hours.tolist() == [24, 23, 24]
    autumn = TimeAxis.make("2024-10-26", "1 day", "Europe/Lisbon")
    assert np.diff(autumn.times(np.arange(3))).astype("timedelta64[h]").astype(int).tolist() == [24, 25]


def test_months_keep_the_last_day() -> None:
    axis = TimeAxis.make("2024-01-31", "1 month")
    assert [str(t)[:10] for t in axis.times(np.arange(4))] == ["2024-01-31", "2024-02-29", "2024-03-31", "2024-04-30"]


@pytest.mark.parametrize(
    "step",
    ["1 min", "6 h", "1 day", "2 business days of US", "1 week", "1 month", "1 quarter", "1 year"],
)
def test_positions_and_times_are_inverse(step: str) -> None:
    axis = TimeAxis.make("2019-12-31", step, "America/New_York")
    positions = np.arange(0, 400)
    times = axis.times(positions)
    assert [axis.position(time) for time in times] == positions.tolist()
    assert [axis.position(time + np.timedelta64(1, "s")) for time in times] == positions.tolist()
    found, exact = grid_positions(times, axis)
    assert exact.all()
    assert (found == positions).all()


def test_known_counts_points_up_to_and_including_a_time() -> None:
    axis = TimeAxis.make("2024-01-01", "1h", "Europe/Lisbon")
    assert axis.known("2024-01-01 05:00") == 6
    assert axis.known("2024-01-01T05:59:59") == 6
    assert axis.known("2024-01-01T05:00+01:00") == 5
    assert axis.known(17) == 17


@pytest.mark.parametrize(
    "step", ["10 min", "1 h", "1 day", "1 business day", "1 week", "1 month", "1 quarter", "1 year"]
)
def test_the_step_is_inferred_despite_a_gap(step: str) -> None:
    axis = TimeAxis.make("2018-01-01", step, "Europe/Lisbon")
    times = axis.times(np.delete(np.arange(30), [7, 8]))
    assert infer_step(times, "Europe/Lisbon") == Step.parse(step)


def test_zones_round_trip_outside_clock_changes() -> None:
    utc = np.datetime64("2024-03-30T00", "s") + np.arange(0, 72) * np.timedelta64(3600, "s")
    assert (to_utc(to_local(utc, "Europe/Lisbon"), "Europe/Lisbon") == utc).all()


def test_calendar_codes() -> None:
    local = np.array(["2024-02-29T13:45", "2023-12-31T00:00"], dtype="datetime64[s]")
    assert calendar_codes("hour_of_day", local).tolist() == [13, 0]
    assert calendar_codes("weekday", local).tolist() == [3, 6]
    assert calendar_codes("hour_of_week", local).tolist() == [3 * 24 + 13, 6 * 24]
    assert calendar_codes("day_of_year", local).tolist() == [59, 364]
    assert calendar_codes("month", local).tolist() == [1, 11]
    assert calendar_codes("quarter", local).tolist() == [0, 3]
