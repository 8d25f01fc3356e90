"""Scenarios, recent points handed over, and how outlooks fared: nothing changes but what depends on it."""

from typing import Any

import numpy as np
import pytest

import proteron as pt
from proteron.core.intake.recipe import OccasionSpan
from proteron.core.outlook.drawing import apart
from proteron.core.outlook.fared import fared
from proteron.core.outlook.learned import learned_by
from proteron.core.outlook.recent import Recent, with_recent
from proteron.core.outlook.scenarios import ColumnEdit, Scenario
from proteron.core.panel import Floats, Occasion, Panel
from proteron.core.table_files import FORMATS, written

POINTS, AHEAD = 240, 12
NOW = np.datetime64("2030-01-01", "s")


def town(spoil: bool = False) -> Panel:
    """Two series that follow heat, which is known ahead, and a third column that nobody reads."""
    rng = np.random.default_rng(4)
    heat = 10 + 5 * np.sin(np.arange(POINTS + 60) / 8) + rng.normal(size=POINTS + 60)
    rows = [30 + 2 * heat + rng.normal(size=POINTS + 60), 20 - heat + rng.normal(size=POINTS + 60)]
    if spoil:
        rows = [np.concatenate([row[:POINTS], rng.normal(size=60) * 1e3]) for row in rows]
    panel = Panel.from_arrays(
        {"north": rows[0], "south": rows[1]}, "2024-01-01", "1 hour",
        covariates={"heat": ("known_ahead", heat), "rain": ("known_ahead", heat * 0)},
    )  # fmt: skip
    return panel.cut_at(POINTS) if not spoil else panel


MODELS = {
    "regression": pt.forecaster("regression", covariates=["heat"]),
    "ridge": pt.forecaster(
        "ridge", lags=[1, 2], covariates=[{"column": "heat", "at": [1]}], horizon=[1], recursive=True
    ),
}


@pytest.mark.parametrize("kind", MODELS)
def test_a_scenario_changes_what_depends_on_it_and_nothing_else(kind: str) -> None:
    made = pt.outlook(town(), MODELS[kind], horizon=AHEAD, paths=40, seed=3)
    warmer = Scenario(edits=[ColumnEdit(column="heat", how="shift", values=[5.0], since=POINTS + 4, key="north")])
    other = made.under(warmer)
    assert np.array_equal(other.mean[1], made.mean[1]) and np.array_equal(other.paths[:, 1], made.paths[:, 1])
    assert np.array_equal(other.mean[0, :4], made.mean[0, :4])
    assert other.mean[0, 4:] - made.mean[0, 4:] == pytest.approx(np.full(AHEAD - 4, 10.0), rel=0.25)
    assert (other.paths - made.paths)[:, 0, 4:].mean(axis=0) == pytest.approx((other.mean - made.mean)[0, 4:], rel=0.05)
    unread = made.under(Scenario(edits=[ColumnEdit(column="rain", values=[9.0])]))
    assert np.array_equal(unread.mean, made.mean) and np.array_equal(unread.paths, made.paths)
    asked: dict[str, Any] = {"horizon": AHEAD, "paths": 40, "seed": 3, "scenario": warmer}
    at_once = pt.outlook(town(), MODELS[kind], **asked)
    assert np.array_equal(at_once.mean, other.mean) and np.array_equal(at_once.paths, other.paths)
    spoiled = pt.outlook(town(spoil=True), MODELS[kind], until=POINTS, **asked)
    assert np.array_equal(spoiled.mean, other.mean) and np.array_equal(spoiled.lower[0.95], other.lower[0.95])


def values(edits: list[dict[str, Any]], **rest: Any) -> Floats:
    panel = Scenario.parse({"edits": [{"column": "heat"} | each for each in edits], **rest}).applied(town(), AHEAD)
    return panel.covariate("heat").series(0)[POINTS : POINTS + AHEAD]


def test_edits_come_one_after_the_other_and_lie_ahead() -> None:
    given = town().covariate("heat").series(0)[POINTS - 1 : POINTS + AHEAD]
    drawn = values([{"values": [1, None, 3], "since": POINTS, "until": POINTS + 2}, {"how": "scale", "values": [2]}])
    assert drawn == pytest.approx([2, 2 * given[2], 6, *(2 * given[4:])])
    assert values([{"how": "hold"}]) == pytest.approx(np.full(AHEAD, given[0]))
    at = str(town().axis.local(np.array([POINTS + 1]))[0])
    assert values([{"values": [7], "since": at, "until": at}])[:3] == pytest.approx([given[1], 7, given[3]])
    for wrong, words in (
        ([{"column": "wind", "values": [1]}], "“wind” is no column that is known ahead: “heat” and “rain”"),
        ([{"values": [1], "key": "west"}], "no series “west”"),
        ([{"values": [1], "since": POINTS - 1}], "changes what is ahead"),
        ([{"values": [1], "until": POINTS + AHEAD}], "changes what is ahead"),
        ([{"values": [1, 2]}], "2 values are given for 12 steps"),
        ([{"values": []}], "at least one value"), ([{"how": "hold", "values": [1]}], "takes no values"),
        ([{"how": "scale", "values": [1, 2]}], "takes one number"), ([{"values": [np.inf]}], "numbers"),
    ):  # fmt: skip
        with pytest.raises(pt.SettingsError, match=words):
            values(wrong)


def test_a_category_is_set_to_what_it_can_be() -> None:
    sky = (["dry", "wet"] * 130)[: POINTS + AHEAD]
    rows = np.arange(POINTS, dtype=float)
    panel = Panel.from_arrays({"a": rows}, "2024-01-01", "1 hour", covariates={"sky": ("known_ahead", sky)})
    changed = Scenario(edits=[ColumnEdit(column="sky", values=[1.0])]).applied(panel, AHEAD).covariate("sky")
    assert changed.labels == ("dry", "wet") and (changed.series(0)[POINTS:] == 1).all()
    for wrong in ({"values": [1, 2, *[0] * 10]}, {"how": "shift", "values": [1]}, {"values": [0.5]}):
        with pytest.raises(pt.SettingsError, match="has categories"):
            Scenario.parse({"edits": [{"column": "sky", **wrong}]}).applied(panel, AHEAD)


def test_occasions_ahead_come_and_go() -> None:
    from dataclasses import replace

    old, going, later = Occasion("fair", 10, 20), Occasion("fair", POINTS - 5, POINTS + 5), Occasion("gala", 250, 251)
    panel = replace(town(), occasions=(old, going, later))
    added = OccasionSpan(name="strike", first="2024-01-11", last="2024-01-11")
    found = Scenario(removed=["fair"], added=[added]).applied(panel, AHEAD).occasions
    assert found == (old, Occasion("fair", POINTS - 5, POINTS), later, Occasion("strike", 240, 264))
    with pytest.raises(pt.SettingsError, match="No occasion “feast” lies ahead: “fair” and “gala”"):
        Scenario(removed=["feast"]).applied(panel, AHEAD)
    with pytest.raises(pt.SettingsError, match="begins before"):
        Scenario(added=[OccasionSpan(name="strike", first="2024-01-10")]).applied(panel, AHEAD)


def stamps(panel: Panel, start: int, stop: int) -> list[str]:
    return [f"{each}Z" for each in panel.axis.times(np.arange(start, stop))]


@pytest.mark.parametrize("kind", [*MODELS, "theta"])
def test_recent_points_go_on_from_what_was_known(kind: str) -> None:
    """As a panel that holds them does, to the bit."""
    whole = town(spoil=True)
    contender = MODELS.get(kind) or pt.forecaster(kind)
    learned = learned_by(pt.outlook(whole, contender, horizon=6, until=POINTS, paths=1))
    whole = whole.cut_at(POINTS + 9)
    rows, heat = whole.series(1), whole.covariate("heat").series(1)
    points = Recent(stamps(whole, 236, 255), [*rows[236:249], *[None] * 6], {"heat": list(heat[236:255])})
    found, same = learned.after({"south": points}, now=NOW), learned.outlook(whole.select([1]), paths=1)
    assert found.keys == ("south",) and found.origin == POINTS + 9 and not found.paths.size
    assert np.array_equal(found.mean, same.mean) and np.array_equal(found.upper[0.8], same.upper[0.8])


def test_recent_points_that_do_not_fit_are_refused_in_words() -> None:
    known = town()
    hourly = stamps(known, POINTS, POINTS + 2)
    for recent, words in (
        ({"west": Recent(hourly, [1, 2])}, "Nothing was learned of “west”"), ({}, "at least one series"),
        ({"north": Recent([hourly[0]], [1, 2])}, "as many times as values"),
        ({"north": Recent([], [])}, "at least one"),
        ({"north": Recent(["2024-01-11T00:30Z"], [1])}, "not on the grid that was learned on: 1 hour"),
        ({"north": Recent(stamps(known, 0, 96)[::24], [1] * 4)}, "No two points of “north” are one step apart"),
        ({"north": Recent([hourly[0]] * 2, [1, 2])}, "comes twice"),
        ({"north": Recent(stamps(known, 8, 13)[::2], [1, 2, 3])}, "No two points of “north” are one step apart"),
        ({"north": Recent(["2023-12-31T23:00Z", "2024-01-01T00:00Z"], [1, 2])}, "before the series begins"),
        ({"north": Recent(["2023-12-31T23:00Z"], [1])}, "before the series begins"),
        ({"north": Recent(["2031-01-01T00:00Z"], [1])}, "2031-01-01 00:00:00 of “north” has not come yet"),
        ({"north": Recent(hourly, [1, 2], {"snow": [1, 2]})}, "no column “snow”"),
        ({"north": Recent(hourly, [1, np.inf])}, "no number"), ({"north": Recent(["soon"], [1])}, "not a date"),
    ):  # fmt: skip
        with pytest.raises(pt.ProteronError, match=words) as refused:
            with_recent(known, recent, NOW)
        assert refused.value.field == ("time" if words == "not a date" else "series")
    seconds = [float(known.axis.times(np.array([at])).astype(np.int64)[0]) for at in (POINTS + 1, POINTS)]
    found = with_recent(known, {"south": Recent(seconds, [5, 4])}, NOW)
    assert found.series(0)[-3:].tolist() == [known.series(1)[-1], 4, 5]
    far = with_recent(known, {"south": Recent(hourly[1:], [5]), "north": Recent(hourly[:1], [np.nan])}, NOW)
    assert far.keys == ("south", "north") and far.end == POINTS + 2
    assert np.isnan(far.series(0)[-2]) and np.isnan(far.series(1)[-2:]).all()


def futures(rng: np.random.Generator, count: int, series: int, steps: int, weight: float) -> Floats:
    out = np.zeros((count, series, steps))
    for step in range(steps):
        out[:, :, step] = (weight * out[:, :, step - 1] if step else 0) + rng.normal(size=(count, series))
    return out


@pytest.mark.parametrize("weight", [0.0, 0.8])
def test_an_outlook_that_is_right_is_seldom_called_drifted_and_one_that_drifts_is(weight: float) -> None:
    """Also where errors of neighbouring steps belong together, which a plain CUSUM would take for drift."""
    rng, alarms, found, since = np.random.default_rng(5), 0, 0, []
    mean = np.zeros((4, 48))
    for _ in range(60):
        *drawn, truth = futures(rng, 1001, 4, 48, weight)
        paths = np.array(drawn)
        alarms += fared(mean, paths, {}, truth).verdict == "drifted"
        truth[2, 20:] += 3 * paths.std(axis=0)[2, 20:]
        told = fared(mean, paths, {}, truth)
        found += bool(told.drifted[2])
        since += [int(told.since[2])] if told.drifted[2] else []
    assert alarms <= 3 and found >= 54
    assert np.median(since) == pytest.approx(20, abs=3)


def test_errors_are_told_against_what_was_promised() -> None:
    rng = np.random.default_rng(6)
    paths = rng.normal(size=(2000, 2, 5)) * np.array([1.0, 3.0])[:, None]
    mean, truth = np.zeros((2, 5)), np.full((2, 5), np.nan)
    truth[:, :3] = [[1.0, -1, 1], [3, 3, -3]]
    ranges = {0.8: (np.full((2, 5), -1.5), np.full((2, 5), 1.5))}
    found = fared(mean, paths, ranges, truth)
    usual = np.sqrt(2 / np.pi)
    assert found.promised[:, 0] == pytest.approx([usual, 3 * usual], rel=0.06)
    assert (found.known, found.of, found.held[0.8], found.verdict) == (3, 6, 0.5, "as promised")
    assert found.ratio == pytest.approx(1 / usual, rel=0.05)
    error, promised = found.by_step()
    assert error[:3].tolist() == [2, 2, 2] and np.isnan(error[3:]).all() and np.isnan(promised[3:]).all()
    keys, when = ("a", "b"), [f"day {n}" for n in range(5)]
    assert (
        found.in_words(keys, when)
        == f"Still as promised: mean error {found.ratio:.2f} of what was promised, over 6 values."
    )
    partly = truth.copy()
    partly[0, 2] = np.nan
    assert fared(mean, paths, ranges, partly).known == 3 and fared(mean, paths, ranges, partly).of == 5
    louder = fared(np.zeros((1, 40)), np.tile(paths[:, :1], (1, 1, 8)), {}, 4.0 * (-1.0) ** np.arange(40)[None])
    assert louder.cusum[1].max() > louder.limit[1, 0] and louder.cusum[0].max() < louder.limit[0, 0]
    assert louder.since.tolist() == [0] and louder.verdict == "drifted"
    truth[1] = 30
    worse = fared(mean, paths, ranges, truth)
    assert worse.drifted.tolist() == [False, True] and worse.verdict == "drifted"
    assert worse.in_words(keys, when).startswith("Has drifted since day 0: b.")
    nothing = fared(mean, paths, ranges, truth * np.nan)
    assert nothing.verdict == "nothing came" and np.isnan(nothing.ratio) and nothing.known == 0
    assert nothing.in_words(keys, when) == "Nothing of what it forecast has come yet."


def test_the_truth_is_found_by_key_and_time() -> None:
    """Of a version that begins elsewhere, has other series, and marks what is not to be scored."""
    from proteron.core.panel import Mask

    made = pt.outlook(town(), pt.forecaster("mean"), horizon=4, paths=50)
    whole = town(spoil=True)
    later = whole.between(100, POINTS + 3).select([1]).with_masks([Mask(POINTS + 1, POINTS + 2, "burst")])
    found = made.fared(later)
    assert found.of == 2 and np.isnan(found.error[0]).all() and np.isnan(found.error[1, [1, 3]]).all()
    truth = whole.series(1)[[POINTS, POINTS + 2]]
    assert found.error[1, [0, 2]] == pytest.approx(np.abs(made.mean[1, [0, 2]] - truth))
    assert made.fared(town()).verdict == "nothing came"
    daily = Panel.from_arrays({"north": np.arange(30.0)}, "2024-01-01", "1 day")
    with pytest.raises(pt.InputError, match="The step is"):
        made.fared(daily)


def test_apart_keeps_every_step_and_makes_sums_narrower() -> None:
    paths = np.cumsum(np.random.default_rng(7).normal(size=(500, 2, 6)), axis=2)
    alone = apart(paths, 1)
    assert np.array_equal(np.sort(alone, axis=0), np.sort(paths, axis=0))
    assert alone.sum(axis=2).std() < 0.8 * paths.sum(axis=2).std()


@pytest.mark.parametrize("format", FORMATS)
def test_tables_come_back_from_every_format_with_what_they_are_about(format: str) -> None:
    import io
    import json

    import pandas
    import pyarrow as pa
    import pyarrow.parquet as pq
    from openpyxl import load_workbook

    table = pa.table({"time": pa.array([0, 3600], pa.timestamp("s", tz="UTC")), "key": ["a", "=1+1"],
                      "mean": pa.array([0.1 + 0.2, None], pa.float64())})  # fmt: skip
    content = written(table, format, {"unit": "m³", "levels": [0.8]})
    if format == "csv":
        assert content.decode().splitlines()[1:] == ['1970-01-01 00:00:00Z,"a",0.30000000000000004',
                                                     '1970-01-01 01:00:00Z,"\'=1+1",']  # fmt: skip
    elif format == "json":
        told = json.loads(content)
        assert told["about"]["unit"] == "m³" and told["rows"][1]["mean"] is None
        assert pandas.Timestamp(told["rows"][1]["time"]) == pandas.Timestamp("1970-01-01 01:00Z")
    elif format == "xlsx":
        book = load_workbook(io.BytesIO(content))
        rows = [[cell.value for cell in row] for row in book["table"].iter_rows()]
        assert rows[1:] == [["1970-01-01T00:00:00Z", "a", 0.1 + 0.2], ["1970-01-01T01:00:00Z", "'=1+1", None]]
        assert [cell.value for cell in book["about"]["B"]] == ["m³", "[0.8]"]
    else:
        opened = {"arrow": pa.ipc.open_file, "arrows": pa.ipc.open_stream}
        back = pq.read_table(io.BytesIO(content)) if format == "parquet" else opened[format](content).read_all()
        assert json.loads(back.schema.metadata[b"about"])["levels"] == [0.8]
        assert back.to_pylist() == table.to_pylist()
    with pytest.raises(pt.SettingsError, match="there are: csv, json"):
        written(table, "paper")
