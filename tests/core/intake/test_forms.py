"""Any moment and any number, written in any usual form, read back as what it was; headings are found."""

import datetime
import string

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

import proteron as pt
from proteron.core.intake import ReaderSettings
from proteron.core.intake.heading import find_heading
from proteron.core.intake.numbers import read_numbers
from proteron.core.intake.times import read_times

MOMENTS = st.datetimes(datetime.datetime(1971, 1, 1), datetime.datetime(2068, 12, 31))
FORMS = {
    "ISO": "%Y-%m-%dT%H:%M:%S",
    "ISO, blank": "%Y-%m-%d %H:%M:%S",
    "ISO, zone": "%Y-%m-%dT%H:%M:%SZ",
    "year first": "%Y/%m/%d %H:%M:%S",
    "day first": "%d.%m.%Y %H:%M:%S",
    "day first, short": "%d/%m/%y %H:%M:%S",
    "half days": "%d-%b-%Y %I:%M:%S %p",
    "named": "%A, %d %B %Y %H:%M:%S",
    "month named first": "%b %d, %Y %H:%M:%S",
    "compact": "%Y%m%dT%H%M%S",
}


@settings(deadline=None)
@given(moments=st.lists(MOMENTS, min_size=1, max_size=8), form=st.sampled_from(list(FORMS)))
def test_moments_written_in_a_form_read_back(moments: list[datetime.datetime], form: str) -> None:
    moments = [moment.replace(microsecond=0) for moment in moments]
    if "first" in form:  # one day beyond twelve tells day and month apart
        moments.append(datetime.datetime(2001, 5, 28, 1, 2, 3))
    cells = [moment.strftime(FORMS[form]) for moment in moments]
    read = read_times(pa.chunked_array([cells]), "UTC")
    assert read is not None
    assert not read.bad.any()
    assert read.instants.tolist() == moments


@settings(deadline=None)
@given(
    moments=st.lists(MOMENTS, min_size=1, max_size=8), hours=st.integers(-11, 13), minutes=st.sampled_from([0, 30, 45])
)
def test_offsets_are_taken_off(moments: list[datetime.datetime], hours: int, minutes: int) -> None:
    zone = datetime.timezone(datetime.timedelta(hours=hours, minutes=minutes))
    given_moments = [moment.replace(microsecond=0, tzinfo=zone) for moment in moments]
    read = read_times(pa.chunked_array([[moment.isoformat() for moment in given_moments]]), "Asia/Tokyo")
    assert read is not None
    utc = [moment.astimezone(datetime.UTC).replace(tzinfo=None) for moment in given_moments]
    assert read.instants.tolist() == utc
    assert not read.naive.any()


@settings(deadline=None)
@given(
    seconds=st.lists(st.integers(10**8, 4 * 10**9), min_size=2, max_size=8),
    factor=st.sampled_from([1, 10**3, 10**6, 10**9]),
)
def test_counts_since_1970_are_exact_in_every_unit(seconds: list[int], factor: int) -> None:
    digits = [str(s * factor) for s in seconds]
    assume(not all(_is_calendar_moment(each) for each in digits))  # then the calendar is the likelier reading
    for column in (
        pa.chunked_array([[s * factor for s in seconds]]),
        pa.chunked_array([digits]),
    ):
        read = read_times(column, "UTC", serials=True)
        assert read is not None
        expected = np.array(seconds, dtype="datetime64[s]")
        slack = 0 if pa.types.is_integer(column.type) or factor < 10**9 else 1
        assert np.abs((read.instants - expected).astype(int)).max() <= slack


def _is_calendar_moment(digits: str) -> bool:
    """Whether twelve digits could as well be a year, month, day, hour and minute."""
    try:
        return len(digits) == 12 and datetime.datetime.strptime(digits, "%Y%m%d%H%M").year >= 1900
    except ValueError:
        return False


NUMBERS = st.decimals(-(10**9), 10**9, places=2, allow_nan=False)


def _grouped(number: object, thousands: str, decimal: str) -> str:
    text = f"{number:,.2f}"
    return text.replace(",", "\0").replace(".", decimal).replace("\0", thousands)


@settings(deadline=None)
@given(
    numbers=st.lists(NUMBERS, min_size=1, max_size=8),
    style=st.sampled_from([(",", "."), (".", ","), (" ", ","), ("\u202f", ","), ("'", "."), ("", ".")]),
    around=st.sampled_from(["{}", " {} ", "${}", "{} €", "EUR {}"]), brackets=st.booleans(),
)  # fmt: skip
def test_numbers_in_any_dress_read_back(numbers: list, style: tuple[str, str], around: str, brackets: bool) -> None:
    cells = []
    for number in numbers:
        text = _grouped(abs(number) if brackets and number < 0 else number, *style)
        dressed = around.format(text)
        cells.append(f"({dressed.strip()})" if brackets and number < 0 else dressed)
    read = read_numbers(pa.chunked_array([cells]), ReaderSettings(decimal=style[1]))
    assert not read.bad.any()
    assert read.values.tolist() == [float(number) for number in numbers]


@settings(deadline=None)
@given(words=st.lists(st.text(string.ascii_letters, min_size=1, max_size=6), min_size=1, max_size=6))
def test_words_are_never_numbers(words: list[str]) -> None:
    names = [
        word
        for word in words
        if word.lower() not in ("na", "nan", "null", "none", "inf", "infinity", "eur", "usd", "gbp", "chf", "jpy")
    ]
    read = read_numbers(pa.chunked_array([names], pa.string()), ReaderSettings())
    assert read.bad.all()
    assert np.isnan(read.values).all()


ROWS = [["2024-01-01", "north", "1.5"], ["2024-01-02", "north", "2.5"], ["2024-01-03", "south", "3"]]


@pytest.mark.parametrize(
    ("above", "skip", "header", "names"),
    [
        ([["day", "place", "flow"]], 0, 1, ["day", "place", "flow"]),
        ([], 0, 0, ["", "", ""]),
        ([["Report"], ["made", "", ""], ["day", "place", "flow"]], 2, 1, ["day", "place", "flow"]),
        ([["day", "place", "flow"], ["", "", "m3/h"]], 0, 2, ["day", "place", "flow m3/h"]),
        ([["Water board", "", ""], ["", "", ""], ["day", "place", "flow"]], 2, 1, ["day", "place", "flow"]),
    ],
)
def test_headings(above: list[list[str]], skip: int, header: int, names: list[str]) -> None:
    found = find_heading([*above, *ROWS])
    assert (found.skip, found.rows, found.names) == (skip, header, names)
    overruled = find_heading([*above, *ROWS], skip=len(above), header=0)
    assert (overruled.skip, overruled.rows) == (len(above), 0)


@pytest.mark.parametrize("delimiter", [",", ";", "\t", "|"])
@pytest.mark.parametrize("ending", ["\n", "\r\n"])
def test_delimiters_and_line_endings_are_found(delimiter: str, ending: str) -> None:
    rows = [["day", "place", "flow"], *ROWS, ["2024-01-04", "so, uth" if delimiter != "," else "south", "4"]]
    text = ending.join(delimiter.join(row) for row in rows)
    panel = pt.read_panel(text.encode(), key="place")
    assert panel["north"].tolist() == [1.5, 2.5]


@settings(deadline=None, max_examples=50)
@given(
    order=st.permutations(range(12)),
    gaps=st.sets(st.integers(1, 10), max_size=4),
    repeats=st.sets(st.integers(0, 11), max_size=3),
)
def test_order_gaps_and_plain_repeats_never_change_values(order: list[int], gaps: set[int], repeats: set[int]) -> None:
    """Shuffled rows, rows left out and rows said twice give the values of the rows that are there."""
    kept = [i for i in order if i not in gaps]
    rows = [f"2024-01-{1 + i:02d},{i}.25" for i in [*kept, *(i for i in repeats if i not in gaps)]]
    panel = pt.read_panel(("day,y\n" + "\n".join(rows)).encode(), step="1 day")
    expected = np.array([np.nan if i in gaps else i + 0.25 for i in range(min(kept), max(kept) + 1)])
    assert np.array_equal(panel["y"], expected, equal_nan=True)
