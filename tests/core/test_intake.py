"""Reading tables: roles, times, numbers, and every refusal with its sentence."""

import numpy as np
import pytest

import proteron as pt
from proteron.core.intake import Limits, guess_roles, read_delimited

LONG = "when;district;inflow;temp\n" + "\n".join(
    f"2024-01-{1 + hour // 24:02d}T{hour % 24:02d}:00Z;{key};{hour * 1.5};{hour}"
    for key in ("north", "east")
    for hour in range(60)
    if hour != 50
)


def test_long_rows_become_a_panel_with_reasons() -> None:
    raw = read_delimited(LONG.encode())
    assert [(guess.column, guess.role) for guess in guess_roles(raw)] == [
        ("when", "time"), ("district", "key"), ("inflow", "target"), ("temp", "observed"),
    ]  # fmt: skip
    reading = pt.read_table(LONG.encode())
    panel = reading.panel
    assert panel.keys == ("north", "east")
    assert panel.step == "1 hour"
    assert panel["east"][:3].tolist() == [0, 1.5, 3]
    assert np.isnan(panel["east"][50])
    assert reading.findings[0].code == "gaps"
    assert reading.account["roles"]["temp"] == "observed"
    assert panel.covariate("temp").series(1)[51] == 51
    named = pt.read_panel(LONG.encode(), time="when", value="inflow", key="district")
    assert named.hash == panel.hash


def test_row_order_does_not_change_the_dataset() -> None:
    head, *rows = LONG.split("\n")
    order = np.random.default_rng(0).permutation(len(rows))
    first = next(row for row in rows if ";north;" in row)
    shuffled = "\n".join([head, first, *[rows[i] for i in order if rows[i] != first]])
    assert pt.read_panel(shuffled.encode()).hash == pt.read_panel(LONG.encode()).hash


def test_wide_columns_become_series() -> None:
    panel = pt.read_panel(b"month,a,b\n2020-01,1,2\n2020-02,3,\n2020-03,5,6", value=["a", "b"])
    assert panel.keys == ("a", "b")
    assert panel.step == "1 month"
    assert panel["a"].tolist() == [1, 3, 5]
    assert np.isnan(panel["b"][1])


@pytest.mark.parametrize(
    ("cells", "step", "first"),
    [
        (["2024-03-01", "2024-03-02", "2024-03-03"], "1 day", "2024-03-01T00:00:00"),
        (["2024-03-01 10:00", "2024-03-01 10:15", "2024-03-01 10:30"], "15 minutes", "2024-03-01T10:00:00"),
        (
            ["2024-03-01T10:00+02:00", "2024-03-01T11:00+02:00", "2024-03-01T12:00+02:00"],
            "1 hour",
            "2024-03-01T08:00:00",
        ),
        (["13.02.2024", "14.02.2024", "15.02.2024"], "1 day", "2024-02-13T00:00:00"),
        (["02/13/2024", "02/14/2024", "02/15/2024"], "1 day", "2024-02-13T00:00:00"),
        (["2021", "2022", "2023"], "1 year", "2021-01-01T00:00:00"),
    ],
)
def test_time_forms(cells: list[str], step: str, first: str) -> None:
    panel = pt.read_panel(("time,y\n" + "\n".join(f"{cell},{i}" for i, cell in enumerate(cells))).encode())
    assert panel.step == step
    assert str(panel.times("y")[0]) == first


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
        (b"time,y\n2020-01-01,1\n2020-01-02,2\n2020-01-02,3\n", "1 times occur twice, first 2020-01-02"),
        (b"time,y\n2020-01-01,1\n2020-01-02,2,9\n", "do not fit the header"),
        (b"time,y\n2020-01-01,1\n2020-01-02,2\n2020-01-03,3\n2020-01-03T07:00,4\n", "do not lie on a grid"),
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
    assert pt.read_panel("time;wärme\n2020-01-01;1\n2020-01-02;2".encode("utf-16")).keys == ("wärme",)


def test_limits_are_stated() -> None:
    with pytest.raises(pt.LimitError, match="the limit is 10"):
        pt.read_table(b"time,y\n2020-01-01,1", limits=Limits(bytes=10))
    with pytest.raises(pt.LimitError, match="limit is 1"):
        pt.read_table(b"time,y\n2020-01-01,1\n2020-01-02,2", limits=Limits(rows=1))
