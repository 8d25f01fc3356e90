"""Forecasts made elsewhere: judged on the same points, each origin given what was made by then and nothing later."""

import numpy as np
import pyarrow as pa
import pytest

import proteron as pt

FOLDS = pt.Folds.expanding(count=4, horizon=6, span=12, every=6)


def data(keys: int = 2) -> pt.Panel:
    rng = np.random.default_rng(1)
    values = {key: 40 + rng.normal(size=300).cumsum() for key in ["north", "east"][:keys]}
    return pt.Panel.from_arrays(values, start="2024-01-01T00:00", step="1h", zone="Europe/Lisbon")


def judged(panel: pt.Panel, **more: pt.Contender) -> pt.Report:
    return pt.walk_forward(panel, {"last": pt.forecaster("last_value"), **more}, FOLDS, ["mae", "coverage_80"])


def exported(report: pt.Report, name: str = "last") -> pa.Table:
    """What a report takes away, as the table of forecasts that somebody else might have made."""
    table = report.table()
    return table.filter(pa.compute.equal(table["contender"].cast(pa.string()), name)).drop_columns(
        ["contender", "truth"]
    )


def test_what_was_taken_away_comes_back_to_the_last_digit() -> None:
    panel = data()
    first = judged(panel)
    brought = pt.read_forecasts(exported(first), panel, "the neighbours")
    assert (brought.rows, brought.used, brought.notes) == (2 * 4 * 2 * 6, 2 * 4 * 2 * 6, ())
    again = judged(panel, theirs=brought.contender)
    ours, theirs = again.board.row("last"), again.board.row("theirs")
    assert ours.errors == theirs.errors and theirs.skill == 0
    for fold in range(4):
        last, back = [each for each in again.results if each.cell.fold == fold]
        assert np.array_equal(last.mean, back.mean)
        levels = brought.contender.forecaster.levels
        assert levels == (0.5, 0.8, 0.95) and np.array_equal(last.ranges, back.ranges)
    (found,) = [each for each in again.deceptions if each.contender == "theirs" and each.kind == "unproven"]
    assert "nothing proves" in found.text
    assert not [each for each in again.deceptions if each.contender == "last" and each.kind == "unproven"]
    assert "48 forecasts as of their origins from the neighbours" in brought.contender.fit(panel).summary["north"]


def test_an_origin_is_given_the_latest_made_by_then() -> None:
    panel = data(1)
    times = panel.times("north")
    rows = [(origin, origin + ahead, 100 * origin + ahead) for origin in (200, 206, 209) for ahead in range(1, 9)]
    table = pa.table({
        "when": [str(times[at]) + "Z" for _, at, _ in rows], "Forecast": [float(value) for *_, value in rows],
        "made at": [str(times[origin]) + "Z" for origin, *_ in rows],
    })  # fmt: skip
    model = pt.read_forecasts(table, panel).contender
    fitted = model.fit(panel, until=207)
    means = lambda known: fitted.means(panel, np.array([known]), 4)[0][0, 0]  # noqa: E731
    assert means(201).tolist() == [20001, 20002, 20003, 20004]  # known up to point 200
    assert np.isnan(means(200)).all() and means(206).tolist()[:2] == [20006, 20007]
    assert np.isnan(means(206)[3])
    assert means(207).tolist() == [20601, 20602, 20603, 20604]
    assert means(208).tolist() == [20602, 20603, 20604, 20605]  # the newest of what is not later


def test_without_origins_all_are_given_the_same_and_it_is_said() -> None:
    panel = data(1)
    times = [str(each) + "Z" for each in panel.times("north")]
    brought = pt.read_forecasts(pa.table({"time": times, "value": list(panel["north"])}), panel)
    assert "every origin is given the same" in brought.notes[0]
    report = judged(panel, oracle=brought.contender)
    assert report.board.row("oracle").errors["mae"] == 0 and report.board.row("oracle").skill == 1
    assert np.isnan(report.losses("coverage_80", by="fold").values[1]).all()  # no bounds: undefined, not zero
    kinds = {each.kind for each in report.deceptions if each.contender == "oracle"}
    assert {"unproven", "too_good"} <= kinds


def test_rows_that_fit_nothing_are_counted_and_told() -> None:
    panel = data()
    good = {"time": "2024-01-10T05:00", "key": "east", "value": "1,5", "origin": "2024-01-09"}
    rows = [good, {**good, "time": "2024-01-10T05:30"}, {**good, "key": "west"}, {**good, "origin": "2024-01-10T06:00"},
            {**good, "time": "2024-01-10T06:00", "value": ""}]  # fmt: skip
    brought = pt.read_forecasts(pa.Table.from_pylist(rows), panel)
    assert (brought.rows, brought.used) == (5, 1)
    said = " ".join(brought.notes)
    assert "1 row has no time on the grid" in said and "no series west" in said and "1 row tells of what was" in said
    series = brought.contender.forecaster.forecasts["east"]
    assert series.values == (1.5,) and series.made == (8 * 24 + 1,) and series.positions == (9 * 24 + 5,)
    assert dict(brought.contender.forecaster.declined(brought.contender.fit(panel).state)) == {
        "north": "No forecast of it was brought."
    }


def test_bounds_are_used_by_level_where_they_are_whole() -> None:
    table = {"time": ["2024-01-10T05:00", "2024-01-10T06:00"], "value": [1.0, 2.0], "lower_80": [0.5, 1.5],
             "upper_80": [1.5, 2.5], "lower": [0.0, None], "upper": [2.0, 3.0], "upper_50": [1.2, 2.2]}  # fmt: skip
    brought = pt.read_forecasts(pa.table(table), data(1))
    assert brought.contender.forecaster.levels == (0.8,) and "95 % range is missing in 1 row" in " ".join(brought.notes)
    fitted = brought.contender.fit(data(1))
    ranges = fitted.ranges(data(1), np.array([9 * 24 + 5]), np.zeros((1, 1, 2)), (0.5, 0.8), np.empty((0, 1, 2)))
    assert np.isnan(ranges[0]).all() and ranges[1, :, 0, 0].tolist() == [[0.5, 1.5], [1.5, 2.5]]


@pytest.mark.parametrize(
    ("table", "reason"),
    [
        ({"value": [1.0]}, "no column of the time"),
        ({"time": ["2024-01-02"], "key": ["east"]}, "no column of the value"),
        ({"time": ["2024-01-02"], "value": [1.0]}, "no column of the key"),
        ({"time": ["soon"], "value": [1.0], "key": ["east"]}, "cannot be read as times"),
        ({"time": ["2034-01-02"], "value": [1.0], "key": ["west"]}, "No row is a forecast"),
        ({"time": ["2024-01-02"] * 2, "value": [1.0, 2.0], "key": ["east"] * 2}, "Two rows forecast the same point"),
    ],
)
def test_a_table_that_cannot_be_used_says_why(table: dict, reason: str) -> None:
    with pytest.raises(pt.ProteronError, match=reason):
        pt.read_forecasts(pa.table(table), data())


def test_it_takes_no_chain_and_stands_in_no_list() -> None:
    panel = data(1)
    model = pt.read_forecasts(pa.table({"time": ["2024-01-02T00:00"], "value": [1.0]}), panel).contender
    assert "made_elsewhere" not in pt.forecasters()
    with pytest.raises(pt.SettingsError, match="take no chain"):
        pt.Contender.parse(
            {"forecaster": model.forecaster.document(), "chain": pt.Chain([pt.flatten.Log()]).document()}
        )
    assert pt.Contender.from_document(model.document()) == model
    folds = pt.Folds.single(at="2024-01-01T23:00", horizon=2)
    entries = {"last": pt.forecaster("last_value"), "theirs": model}
    report = pt.walk_forward(panel, entries, folds, ["mae"])
    assert report.board.row("theirs").skill is not None
