"""Business days as a step: against a calendar walked day by day, and through reading, windows, folds and forecasts."""

from datetime import date, timedelta

import numpy as np
import pyarrow as pa
import pytest

import proteron as pt
from proteron.core.errors import InputError, SettingsError
from proteron.core.flatten.seasons import phase_labels, season_name
from proteron.core.flatten.stage import Calendar
from proteron.core.intake.reading import TableReading, read_table
from proteron.core.intake.recipe import Bucketing, PublicHolidays, Recipe, Resampling
from proteron.core.timeline import Step, TimeAxis

CLOSED = {date(2024, *day) for day in ((3, 29), (4, 25), (5, 1), (5, 30), (6, 10))}  # Portugal, spring of 2024


def open_dates(first: date, last: date, closed: set[date]) -> list[date]:
    """The slow twin: every day asked one by one."""
    days = (first + timedelta(n) for n in range((last - first).days + 1))
    return [day for day in days if day.weekday() < 5 and day not in closed]


def test_the_grid_is_the_calendar_walked_day_by_day() -> None:
    days = open_dates(date(2024, 3, 1), date(2024, 6, 28), CLOSED)
    axis = TimeAxis.make("2024-03-01 17:30", "business day of PT", "Europe/Lisbon")
    local = axis.local(np.arange(len(days)))
    assert [str(each) for each in local] == [f"{day}T17:30:00" for day in days]
    assert [str(each)[:10] for each in axis.local(np.array([-1, -2, -5]))] == ["2024-02-29", "2024-02-28", "2024-02-23"]
    for moment, last in {
        "2024-03-30 12:00": date(2024, 3, 28),  # a Saturday after a closed Friday
        "2024-04-26 17:29": date(2024, 4, 24),  # not yet the point of the 26th; the 25th is closed
        "2024-04-26 17:30": date(2024, 4, 26),
    }.items():
        assert axis.known(moment) == days.index(last) + 1
    assert axis.known("2024-02-29 17:29") == -1


def test_single_dates_are_closed_and_a_closed_start_is_refused() -> None:
    axis = TimeAxis.make("2024-12-23", "business day except 2024-12-24, 2024-12-25")
    assert [str(each)[:10] for each in axis.times(np.arange(3))] == ["2024-12-23", "2024-12-26", "2024-12-27"]
    with pytest.raises(SettingsError, match="begins on an open day"):
        TimeAxis.make("2024-12-24", "business day except 2024-12-24")
    assert TimeAxis.from_document(axis.document()) == axis


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("business day of XX", "No holidays are known"),
        ("business day of Portugal", "not a country"),
        ("business day except 2024-02-30", "not a date"),
        ("week of PT", "Only business days"),
        ("business day of", "not a step"),
    ],
)
def test_what_cannot_be_closed_is_said(text: str, why: str) -> None:
    with pytest.raises(SettingsError, match=why):
        Step.parse(text)


def test_weekends_follow_the_country() -> None:
    axis = TimeAxis.make("2024-03-07", "business day of SA")  # a Thursday; Friday and Saturday are the weekend
    assert [str(each)[:10] for each in axis.times(np.arange(2))] == ["2024-03-07", "2024-03-10"]


def test_seasons_and_their_names() -> None:
    step = Step.parse("business day")
    assert (step.season, step.seasons) == (5, (5.0, 21.0, 252.0))
    calendar = Calendar(TimeAxis.make("2024-03-06", "business day"))
    assert [season_name(period, calendar) for period in (5, 21, 252, 7)] == ["week", "month", "year", "7 steps"]
    assert phase_labels(5, 0, calendar)[0] == ("Mon", "Tue", "Wed", "Thu", "Fri")
    shut = Calendar(TimeAxis.make("2024-03-06", "business day of PT"))
    assert phase_labels(5, 0, shut)[0] == ("0", "1", "2", "3", "4")  # a holiday shifts them against the weekdays


def read(columns: dict[str, list], roles: dict | None = None, step: str | None = None, **rest) -> TableReading:
    return read_table(pa.table(columns), roles, step, **rest)


def rows(days: list[date], skip: tuple[int, ...] = ()) -> dict[str, list]:
    kept = [n for n in range(len(days)) if n not in skip]
    return {"day": [str(days[n]) for n in kept], "orders": [100.0 + n % 5 + n / 50 for n in kept]}


def test_a_file_without_weekends_is_read_as_business_days() -> None:
    days = open_dates(date(2024, 3, 1), date(2024, 6, 28), CLOSED)
    reading = read(rows(days))
    (found,) = [each for each in reading.findings if each.code == "business days"]
    assert (reading.panel.step, found.count, int(np.isnan(reading.panel.values).sum())) == (
        "1 business day",
        len(CLOSED),
        len(CLOSED),
    )
    assert "business day of PT" in found.message
    stated = read(rows(days), step="business day of PT").panel
    assert (int(np.isnan(stated.values).sum()), stated.end) == (0, len(days))


def test_named_holidays_are_closed_unless_a_row_lies_on_one() -> None:
    recipe = Recipe(holidays=(PublicHolidays(country="PT"),))
    days = open_dates(date(2024, 3, 1), date(2024, 6, 28), CLOSED)
    assert read(rows(days), recipe=recipe).panel.step == "1 business day of PT"
    open_on_may_day = open_dates(date(2024, 3, 1), date(2024, 6, 28), CLOSED - {date(2024, 5, 1)})
    assert read(rows(open_on_may_day), recipe=recipe).panel.step == "1 business day"


def test_a_saturday_of_another_series_makes_it_days() -> None:
    days = open_dates(date(2024, 3, 1), date(2024, 4, 30), set())
    table = rows(days) | {"site": ["a"] * len(days)}
    for name, value in {"day": "2024-03-16", "orders": 1.0, "site": "b"}.items():
        table[name] = [*table[name], value, value if name != "day" else "2024-03-18"]
    assert read(table, {"day": "time", "orders": "target", "site": "key"}).panel.step == "1 day"
    one_weekend = rows(days[1:8])
    assert read(one_weekend).panel.step == "1 day"  # too little to tell


def test_a_row_on_a_closed_day_is_named() -> None:
    table = {"day": ["2024-03-02", "2024-03-04", "2024-03-05", "2024-03-06", "2024-03-07"], "orders": [9.0, 1, 2, 3, 4]}
    reading = read(table, step="business day", recipe=Recipe(remedies={"off grid": "drop"}))
    assert reading.panel.series(0).tolist() == [1.0, 2.0, 3.0, 4.0]
    assert str(reading.panel.axis.local(reading.panel.positions(0))[0]) == "2024-03-04T00:00:00"
    assert [each.count for each in reading.findings if each.code == "off grid"] == [1]


def test_events_of_a_weekend_count_to_the_open_day_before() -> None:
    table = {"when": [f"2024-03-{d:02d} {h:02d}:15" for d in range(4, 17) for h in (9, 15)]}
    recipe = Recipe(events=Bucketing(step="business day", edges="keep"))
    panel = read(table, {"when": "time"}, recipe=recipe).panel
    assert panel.series(0).tolist() == [2, 2, 2, 2, 6, 2, 2, 2, 2, 4]  # the last Friday has only its Saturday


def test_days_are_summed_to_open_days_and_open_days_to_weeks() -> None:
    days = [date(2024, 3, 4) + timedelta(n) for n in range(28)]
    daily = {"day": [str(day) for day in days], "orders": [1.0] * 28}
    recipe = Recipe(resampling=Resampling(step="business day of PT", aggregate="sum"))
    panel = read(daily, recipe=recipe).panel
    assert panel.series(0).tolist() == [1, 1, 1, 1, 3] * 3 + [1, 1, 1, 4]  # Good Friday and Easter count to Thursday
    back = Recipe(resampling=Resampling(step="week", aggregate="sum"))
    table = {"day": [str(d)[:10] for d in panel.axis.times(panel.positions(0))], "orders": panel.series(0).tolist()}
    assert read(table, step="business day of PT", recipe=back).panel.series(0).tolist() == [7, 7, 7, 7]


def test_a_moment_between_grid_points_is_no_grid_point() -> None:
    axis = TimeAxis.make("2024-03-01", "business day of PT")
    assert axis.position_of("2024-04-01") == axis.position_of("2024-03-28") + 1
    with pytest.raises(InputError, match="no grid point"):
        axis.position_of("2024-03-29")


def test_folds_forecasts_and_what_is_known_ahead_lie_on_open_days() -> None:
    days = open_dates(date(2024, 1, 8), date(2024, 5, 31), CLOSED)
    axis = TimeAxis.make("2024-01-08", "business day of PT")
    truth = [float(day.weekday()) for day in days]
    panel = pt.Panel.from_arrays({"a": truth}, "2024-01-08", "business day of PT", covariates={
        "weekday": ("known_ahead", {"a": [float(each.astype(date).weekday()) for each in
                                          axis.times(np.arange(len(days) + 4)).astype("datetime64[D]")]}),
    })  # fmt: skip
    contender = pt.forecaster("ridge", lags=[1], covariates=[{"column": "weekday", "at": [1, 2, 3, 4]}])
    ahead = contender.fit(panel, horizon=4).forecast(4)
    when = [str(each)[:10] for each in axis.times(np.arange(len(days), len(days) + 4))]
    assert when == ["2024-06-03", "2024-06-04", "2024-06-05", "2024-06-06"]
    assert ahead.mean.ravel().round(1).tolist() == [0, 1, 2, 3]  # what the column says of these days, past the weekend
    report = pt.walk_forward(panel, {"last week": pt.forecaster("seasonal_last_value")}, pt.Folds(count=3, horizon=5))
    assert report.board[0]["mae"] == pytest.approx(
        1 / 15
    )  # the closed 30th makes the 31st five open days after a Thursday


@pytest.mark.parametrize("step", ["business day", "business day of PT"])
def test_nothing_leaks_over_closed_days(step: str) -> None:
    rng = np.random.default_rng(3)
    panel = pt.Panel.from_arrays({"a": 50 + rng.normal(size=160).cumsum()}, "2024-01-08", step)
    proof = pt.leak_check(panel, contender=pt.forecaster("ridge", lags=[1, 5], calendar=["weekday"]), horizon=5)
    assert proof.passed, proof.evidence
