"""Sources, roles, times and numbers: what is understood, and every refusal with its sentence."""

import gzip
import io
import zipfile

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pa_parquet
import pytest

import proteron as pt
from proteron.core.intake import Limits, ReaderSettings, Source, TableReading, guess_roles, read_raw
from proteron.core.intake.numbers import read_numbers
from proteron.core.intake.times import read_times

LONG = "when;district;inflow;temp\n" + "\n".join(
    f"2024-01-{1 + hour // 24:02d}T{hour % 24:02d}:00Z;{key};{hour * 1.5};{hour % 8}"
    for key in ("north", "east")
    for hour in range(60)
    if hour != 50
)


def daily(cells: list[str], name: str = "y", delimiter: str = ",") -> bytes:
    days = np.datetime64("2024-01-01") + np.arange(len(cells))
    return (
        f"day{delimiter}{name}\n" + "\n".join(f"{d}{delimiter}{c}" for d, c in zip(days, cells, strict=True))
    ).encode()


def codes(reading: TableReading) -> list[str]:
    return [finding.code for finding in reading.findings]


def test_long_rows_become_a_panel_with_reasons() -> None:
    raw = read_raw(LONG.encode())
    guesses = guess_roles(raw)
    assert [(guess.column, guess.role) for guess in guesses] == [
        ("when", "time"), ("district", "key"), ("inflow", "target"), ("temp", "observed"),
    ]  # fmt: skip
    assert all(guess.reason and 0 < guess.confidence <= 1 for guess in guesses)
    reading = pt.read_table(LONG.encode())
    panel = reading.panel
    assert panel.keys == ("north", "east")
    assert panel.step == "1 hour"
    assert panel["east"][:3].tolist() == [0, 1.5, 3]
    assert np.isnan(panel["east"][50])
    assert "gaps" in codes(reading)
    assert reading.account["roles"]["temp"] == "observed"
    assert panel.covariate("temp").series(1)[51] == 3
    named = pt.read_panel(LONG.encode(), time="when", value="inflow", key="district")
    assert named.hash == panel.hash


def test_row_order_does_not_change_the_dataset() -> None:
    head, *rows = LONG.split("\n")
    order = np.random.default_rng(0).permutation(len(rows))
    first = next(row for row in rows if ";north;" in row)
    shuffled = "\n".join([head, first, *[rows[i] for i in order if rows[i] != first]])
    reading = pt.read_table(shuffled.encode())
    assert reading.panel.hash == pt.read_panel(LONG.encode()).hash
    assert "unsorted" in codes(reading)


def test_wide_columns_become_series_and_keys_compound() -> None:
    panel = pt.read_panel(b"month,a,b\n2020-01,1,2\n2020-02,3,\n2020-03,5,6", value=["a", "b"])
    assert panel.keys == ("a", "b")
    assert panel.step == "1 month"
    assert np.isnan(panel["b"][1])
    wide = "month," + ",".join(f"store_{i}" for i in range(4)) + "\n2020-01,1,2,3,4\n2020-02,1,2,3,5\n2020-03,2,2,3,5"
    assert pt.read_panel(wide.encode()).keys == ("store_0", "store_1", "store_2", "store_3")
    rows = [f"2024-01-{d:02d},{region},{shop},{d}" for region in "xy" for shop in ("1", "2") for d in range(1, 9)]
    compound = pt.read_panel(("day,region,shop,sold\n" + "\n".join(rows)).encode(), key=["region", "shop"])
    assert compound.keys == ("x / 1", "x / 2", "y / 1", "y / 2")


@pytest.mark.parametrize(
    ("cells", "step", "first"),
    [
        (["2024-03-01", "2024-03-02", "2024-03-03"], "1 day", "2024-03-01T00:00:00"),
        (["2024-03-01 10:00", "2024-03-01 10:15", "2024-03-01 10:30"], "15 minutes", "2024-03-01T10:00:00"),
        (["2024-03-01T10:00+02:00", "2024-03-01T11:00+02:00"], "1 hour", "2024-03-01T08:00:00"),
        (["13.02.2024", "14.02.2024", "15.02.2024"], "1 day", "2024-02-13T00:00:00"),
        (["02/13/2024", "02/14/2024", "02/15/2024"], "1 day", "2024-02-13T00:00:00"),
        (["1/31/24 11:00 PM", "2/1/24 12:00 AM", "2/1/24 1:00 AM"], "1 hour", "2024-01-31T23:00:00"),
        (["2021", "2022", "2023"], "1 year", "2021-01-01T00:00:00"),
        (["2020-W53", "2021-W01", "2021-W02"], "1 week", "2020-12-28T00:00:00"),
        (["2023Q4", "2024Q1", "2024Q2"], "1 quarter", "2023-10-01T00:00:00"),
        (["Q4 2023", "Q1 2024", "Q2 2024"], "1 quarter", "2023-10-01T00:00:00"),
        (["Dec 2023", "Jan 2024", "Feb 2024"], "1 month", "2023-12-01T00:00:00"),
        (["31 January 2024", "1 February 2024", "2 February 2024"], "1 day", "2024-01-31T00:00:00"),
        (["Jan-24", "Feb-24", "Mar-24"], "1 month", "2024-01-01T00:00:00"),
        (["20240131", "20240201", "20240202"], "1 day", "2024-01-31T00:00:00"),
        (["1700000000", "1700003600", "1700007200"], "1 hour", "2023-11-14T22:13:20"),
        (["1700000000000", "1700003600000", "1700007200000"], "1 hour", "2023-11-14T22:13:20"),
        (["1700000000000000000", "1700003600000000000", "1700007200000000000"], "1 hour", "2023-11-14T22:13:20"),
        (["45322", "45323", "45324"], "1 day", "2024-01-31T00:00:00"),
    ],
)  # fmt: skip
def test_time_forms(cells: list[str], step: str, first: str) -> None:
    panel = pt.read_panel(("time,y\n" + "\n".join(f"{cell},{i}.5" for i, cell in enumerate(cells))).encode())
    assert (panel.step, str(panel.times("y")[0])) == (step, first)


def test_a_date_and_a_clock_go_together() -> None:
    text = b"date,clock,y\n2024-01-01,22:00,1\n2024-01-01,23:00,2\n2024-01-02,00:00,4"
    panel = pt.read_panel(text, zone="Europe/Lisbon")
    assert panel.step == "1 hour"
    assert panel["y"].tolist() == [1, 2, 4]


def test_day_and_month_are_told_apart_by_the_whole_column() -> None:
    column = pa.chunked_array([["03/04/2024", "04/04/2024", "25/04/2024"]])
    assert read_times(column, "UTC").form == "day first"  # type: ignore[union-attr]
    both = pt.read_table(b"time,y\n01/02/2024,1\n02/02/2024,2\n03/02/2024,3\n04/02/2024,4")
    assert both.panel.step == "1 day"
    assert "ambiguous dates" in codes(both)
    other = pt.read_table(b"time,y\n01/02/2024,1\n01/03/2024,2\n01/04/2024,3\n01/05/2024,4")
    stated = pt.read_table(
        b"time,y\n01/02/2024,1\n01/03/2024,2\n01/04/2024,3\n01/05/2024,4", recipe={"time_form": "month first"}
    )
    assert {other.panel.step, stated.panel.step} <= {"1 day", "1 month"}
    assert stated.panel.step == "1 day"


def test_impossible_dates_are_not_times() -> None:
    read = read_times(pa.chunked_array([["2024-02-29", "2023-02-29", "2024-13-01", "2024-01-01"]]), "UTC")
    assert read is not None
    assert read.bad.tolist() == [False, True, True, False]


def test_the_repeated_hour_of_a_clock_change_stands_twice() -> None:
    hours = ["00:00", "00:30", "01:00", "01:30", "01:00", "01:30", "02:00", "02:30"]
    rows = "\n".join(f"2024-10-27 {hour},{i}" for i, hour in enumerate(hours))
    reading = pt.read_table(f"time,y\n{rows}".encode(), zone="Europe/Lisbon")
    assert reading.panel["y"].tolist() == list(range(8))
    assert "clock change" in codes(reading)
    spring = [f"2024-03-31 {hour},{i}" for i, hour in enumerate(("00:00", "00:30", "01:00", "01:30", "02:00", "02:30"))]
    skipped = pt.read_table(("time,y\n" + "\n".join(spring)).encode(), zone="Europe/Lisbon")
    assert "skipped hour" in codes(skipped)


@pytest.mark.parametrize(
    ("cells", "values"),
    [
        (["1,234.50", "2.00", "12.25"], [1234.5, 2, 12.25]),
        (["1.234,50", "2,00", "12,25"], [1234.5, 2, 12.25]),
        (["(3.5)", "2", "1"], [-3.5, 2, 1]),
        (["$3.50", "€2", "£1"], [3.5, 2, 1]),
        (["12%", "50 %", "3%"], [0.12, 0.5, 0.03]),
        (["1 234", "2 000", "12"], [1234, 2000, 12]),
        (["5-", "2", "3"], [-5, 2, 3]),
        (["NA", "-", "null"], [np.nan] * 3),
        (["inf", "1e3", "-Infinity"], [np.nan, 1000, np.nan]),
        (["1.234.567", "1.000", "2.000"], [1234567, 1000, 2000]),
    ],
)
def test_number_forms(cells: list[str], values: list[float]) -> None:
    read = read_numbers(pa.chunked_array([cells]), ReaderSettings())
    assert np.array_equal(read.values, np.array(values), equal_nan=True)
    assert not read.bad.any()


def test_titles_comments_headers_and_marks_are_found() -> None:
    text = "# made by hand\nWater board;;\nflow;;printed today\nmonth;flow;note\n;m3;\n"
    text += "2020-01;1,5;\n2020-02;n.v.;\n2020-03;2,5;x\n"
    reading = pt.read_table(text.encode(), recipe={"reader": {"missing": ["n.v."]}})
    assert reading.panel.keys == ("flow m3",)
    assert np.array_equal(reading.panel.series(0), [1.5, np.nan, 2.5], equal_nan=True)
    quoted = pt.read_panel(b'time,"a,\nb"\n"2020-01-01","1"\n"2020-01-02","2"\n')
    assert quoted["a,\nb"].tolist() == [1, 2]


def test_categories_stay_categories() -> None:
    rows = "\n".join(
        f"2024-01-{d:02d},{d * 2.5},{(101, 205, 330)[d % 3]},{'dry' if d % 2 else 'wet'}" for d in range(1, 31)
    )
    for name in ("pump_code", "pump"):
        panel = pt.read_panel(f"day,y,{name},sky\n{rows}".encode())
        assert panel.covariate(name).labels == ("101", "205", "330")
    panel = pt.read_panel(f"day,y,pump_code,sky\n{rows}".encode())
    assert panel.covariate("pump_code").labels == ("101", "205", "330")
    assert panel.covariate("sky").labels == ("dry", "wet")
    assert panel.covariate("sky").series(0)[:2].tolist() == [0, 1]


def test_files_are_appended_joined_and_unpacked() -> None:
    one, two = daily(["1.5", "2.5"]), b"day,y\n2024-01-03,3.5\n2024-01-04,4.5"
    assert pt.read_panel([Source("a.csv", one), Source("b.csv", two)])["y"].tolist() == [1.5, 2.5, 3.5, 4.5]
    extra = b"day,temp\n2024-01-02,20\n2024-01-01,10"
    joined = pt.read_panel([one, extra], recipe={"combine": "join"})
    assert joined.covariate("temp").series(0).tolist() == [10, 20]
    with pytest.raises(pt.InputError, match="other columns"):
        pt.read_panel([one, extra])
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as archive:
        archive.writestr("in.csv", one)
    zstd = pa.BufferOutputStream()
    with pa.CompressedOutputStream(zstd, "zstd") as stream:
        stream.write(one)
    for content in (gzip.compress(one), packed.getvalue(), zstd.getvalue().to_pybytes()):
        assert pt.read_panel(content)["y"].tolist() == [1.5, 2.5]


def test_json_and_parquet_with_nested_and_mixed_values() -> None:
    lines = b'{"at": "2024-01-01T00:00:00+02:00", "m": {"y": 1}}\n{"at": "2024-01-01T01:00:00+02:00", "m": {"y": 2.5}}'
    panel = pt.read_panel(lines)
    assert (panel.keys, str(panel.times("m.y")[0])) == (("m.y",), "2023-12-31T22:00:00")
    mixed = (
        b'{"day": "2024-01-01", "y": 1}\n{"day": "2024-01-02", "y": "2.5"}\nbroken\n{"day": "2024-01-03", "y": null}'
    )
    reading = pt.read_table(mixed)
    assert np.array_equal(reading.panel.series(0), [1, 2.5, np.nan], equal_nan=True)
    assert "broken lines" in codes(reading)
    array = b'[{"day": "2024-01-01", "y": 1}, {"day": "2024-01-02", "y": 2}]'
    assert pt.read_panel(array)["y"].tolist() == [1, 2]
    sink = pa.BufferOutputStream()
    pa_parquet.write_table(
        pa.table({"t": pa.array([0, 3600], pa.timestamp("s", "UTC")), "v": pa.array([1, 2], pa.int8())}), sink
    )
    assert pt.read_panel(sink.getvalue().to_pybytes()).step == "1 hour"


@pytest.mark.parametrize(
    ("content", "sentence"),
    [
        (b"", "The file is empty"),
        (b"  \n\n", "The file is empty"),
        (b"time,y\n", "no row below it"),
        (b"\x89PNG\r\n\x1a\n\x00\x00\x00" * 30, "This is not text"),
        (b"x,y\n1,2\n3,4\n", "No column reads as a time"),
        (b"time,y\n2020-01-01,1\n", "One row is not a series"),
        (b"time,y\n2020-01-01,\n2020-01-02,\n", "No column is marked as the target"),
        (b"PK\x03\x04 no archive", "zip file is broken"),
        (b"\x1f\x8b no stream", "gzip file is broken"),
        (b"PAR1 no columns", "parquet file is broken"),
        (b'{"a": ', "No line is a JSON object"),
    ],
)
def test_every_refusal_says_what_is_wrong(content: bytes, sentence: str) -> None:
    with pytest.raises(pt.InputError, match=sentence):
        pt.read_table(content)


def test_chosen_roles_are_checked_against_the_rows() -> None:
    text = b"time,y,note\n2020-01-01,1,a\n2020-01-02,2,b\n2020-01-03,3,b"
    with pytest.raises(pt.InputError, match="“note” is not a number in lines 2, 3, 4: “a”"):
        pt.read_table(text, roles={"note": "target"})
    with pytest.raises(pt.InputError, match="no column “z”"):
        pt.read_table(text, roles={"z": "target"})
    with pytest.raises(pt.InputError, match="has no value in any row"):
        pt.read_table(b"time,y\n2020-01-01,\n2020-01-02,NA", roles={"y": "target"})
    with pytest.raises(pt.InputError, match="cannot be read"):
        pt.read_table("/nowhere/file.csv")


def test_other_encodings_are_read_and_said() -> None:
    latin = "time;wärme\n2020-01-01;1\n2020-01-02;2".encode("latin-1")
    reading = pt.read_table(latin)
    assert reading.panel.keys == ("wärme",)
    assert "Latin-1" in reading.findings[0].message
    late = b"time;y;n\n" + b"2020-01-01;1;a\n" * 40_000 + "2020-01-02;2;\xe4\n".encode("latin-1")
    assert "encoding" in codes(pt.read_table(late))
    for encoding in ("utf-16", "utf-16-le", "utf-8-sig"):
        assert pt.read_panel("time;wärme\n2020-01-01;1\n2020-01-02;2".encode(encoding)).keys == ("wärme",)


def test_limits_are_stated_and_bombs_refused() -> None:
    with pytest.raises(pt.LimitError, match="the limit is 10"):
        pt.read_table(b"time,y\n2020-01-01,1", limits=Limits(bytes=10))
    with pytest.raises(pt.LimitError, match="limit is 1"):
        pt.read_table(b"time,y\n2020-01-01,1\n2020-01-02,2", limits=Limits(rows=1))
    bomb = gzip.compress(b"0" * 100_000_000)
    with pytest.raises(pt.LimitError, match="times its size"):
        pt.read_table(bomb)
    with pytest.raises(pt.LimitError, match=r"limit of 800,000 bytes"):
        pt.read_table(gzip.compress(b"a,b\n" * 300_000), limits=Limits(bytes=100_000))
    with pytest.raises(pt.LimitError, match="first line is longer"):
        pt.read_table(b"a," * 20_000_000)
    with pytest.raises(pt.LimitError, match="columns; the limit is 2,000"):
        pt.read_table(b"a," * 3000 + b"\n" + b"1," * 3000 + b"\n" + b"1," * 3000)
