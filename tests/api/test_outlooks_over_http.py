"""Outlooks over HTTP: made, drawn anew, under scenarios, handed over, asked on demand, and held to."""

import io
import json
import threading
import time
from types import SimpleNamespace
from typing import Any

import numpy as np
import psycopg
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from flask.testing import FlaskClient
from test_api import LOCAL, application, client, get, post  # noqa: F401
from test_contract import is_problem

import proteron as pt
from proteron.core.experiment import Judging
from proteron.core.intake import TableReading
from proteron.core.judge import compute_cell
from proteron.core.outlook.learned import learned_by
from proteron.core.panel import Panel
from proteron.records import outlooks as records
from proteron.records.copies import copy_kept
from proteron.records.datasets import PanelCache, save_dataset
from proteron.records.projects import create_project
from proteron.records.results import save_result
from proteron.runner.work.outlooks import OutlookWork
from proteron.services import experiments
from proteron.services.outlooks import learned as served

HOURS, AHEAD = 480, 24
CONTENDERS = [
    {"name": "by heat", "forecaster": {"kind": "regression", "covariates": ["heat"]}},
    {"name": "as yesterday", "forecaster": {"kind": "seasonal_last_value", "period": 24}},
]


def town(hours: int = HOURS, drift: float = 0.0) -> Panel:
    """Two districts that follow the heat, which is forecast; north takes more from six hours after the first data."""
    rng, at = np.random.default_rng(9), np.arange(HOURS + 96)
    heat = 12 + 6 * np.sin(at * np.pi / 12) + rng.normal(size=len(at))
    rows = {"north": 40 + 2 * heat + rng.normal(size=len(at)), "south": 30 - heat + rng.normal(size=len(at))}
    rows["north"][HOURS + 6 :] += drift
    whole = Panel.from_arrays(rows, "2024-01-01", "1 hour", "Europe/Lisbon",
                              covariates={"heat": ("known_ahead", heat)}, unit="m³/h")  # fmt: skip
    return whole.cut_at(hours)


def account() -> dict[str, Any]:
    return {"reader": "arrays", "recipe": {}}


@pytest.fixture(scope="module")
def made(application) -> SimpleNamespace:  # type: ignore[no-untyped-def] # noqa: F811
    """A judged contender by heat and its outlook of a day, as the runner makes it."""
    reach, panel = application.extensions["proteron"], town()
    judging = Judging.parse({"contenders": CONTENDERS, "folds": {"count": 3, "horizon": AHEAD, "span": 96, "every": 6}})
    with reach.database.session() as session:
        project = create_project(session, "outlooks over HTTP").id
        dataset = save_dataset(session, project, "d", TableReading(panel, [], account())).id
        experiment = experiments.create(session, panel, project, dataset, "judge", "judge", judging).id
    for cell in judging.cells(panel):
        with reach.database.session() as session:
            save_result(session, compute_cell(panel, cell))
    with reach.database.session() as session:
        experiments.records.set_state(session, experiment, "done")
    here = SimpleNamespace(database=reach.database, panels=PanelCache(1))

    def outlook(contender: str = "by heat", **asked: Any) -> int:
        with application.test_client() as opened:
            answer = post(opened, f"/experiments/{experiment}/outlooks", {"contender": contender, **asked})
        assert answer.status_code == 201, answer.json
        assert OutlookWork().run(here, None, {"outlook_id": answer.json["id"]}) == "done"
        return int(answer.json["id"])

    return SimpleNamespace(
        reach=reach, here=here, panel=panel, project=project, dataset=dataset, experiment=experiment, make=outlook,
        id=outlook(paths=400),
    )  # fmt: skip


def body(shown: Any) -> Any:
    assert shown.status_code in (200, 201), shown.json
    return shown.json


def test_what_is_made_is_told_and_drawn_anew(client: FlaskClient, made: SimpleNamespace) -> None:  # noqa: F811
    address = f"/outlooks/{made.id}"
    shown = body(get(client, f"{address}?series=1"))
    assert (shown["state"], shown["seed"], shown["scenario"], shown["newer"]) == ("done", 0, None, None)
    parts = body(get(client, f"{address}/parts?series=1"))
    assert np.sum(parts["parts"], axis=0) == pytest.approx(shown["mean"], abs=1e-9)
    assert parts["names"] == ["intercept", "heat"] and min(parts["errors"][1]) > 0
    paths = body(get(client, f"{address}/paths?count=400"))["paths"]
    again = body(post(client, f"{address}/redraw", {"seed": 5}))
    drawn = body(get(client, f"{address}/paths?count=400"))["paths"]
    assert again["seed"] == 5 and drawn != paths
    assert again["mean"] == body(get(client, address))["mean"]
    body(post(client, f"{address}/redraw", {"seed": 0}))
    assert body(get(client, f"{address}/paths?count=400"))["paths"] == paths
    widths = []
    for joint in (True, False):
        told = body(post(client, f"{address}/totals", {"series": 0, "joint": joint}))
        widths.append(told["upper"][-1][0][0] - told["lower"][-1][0][0])
    assert widths[1] != widths[0]
    assert is_problem(post(client, f"{address}/redraw", {"seed": -1}), 422)


def test_what_lacks_is_said_before_it_matters(client: FlaskClient, made: SimpleNamespace) -> None:  # noqa: F811
    address = f"/experiments/{made.experiment}/outlooks/lacks"
    assert body(post(client, address, {"contender": "by heat"})) == {"lacks": []}
    (lack,) = body(post(client, address, {"contender": "by heat", "horizon": 120}))["lacks"]
    assert (lack["column"], lack["steps"], lack["needed"], lack["series"]) == ("heat", 96, 120, 2)
    assert lack["last"] == "2024-01-24 23:00:00"
    assert body(post(client, address, {"contender": "by heat", "horizon": 120, "ahead": "hold last"})) == {"lacks": []}
    assert body(post(client, address, {"contender": "as yesterday", "horizon": 120})) == {"lacks": []}


def test_scenarios_are_kept_by_name_and_read_as_outlooks(client: FlaskClient, made: SimpleNamespace) -> None:  # noqa: F811
    address = f"/outlooks/{made.id}"
    (heat,) = body(get(client, f"{address}/ahead"))["columns"]
    assert heat["read"] and len(heat["past"]) == 5 * AHEAD and heat["given"] == heat["edited"]
    assert len(heat["times"]) == 6 * AHEAD
    frost = {"name": "frost", "edits": [{"column": "heat", "how": "shift", "values": [-4], "since": HOURS + 6}]}
    kept = body(post(client, f"{address}/scenarios", frost))
    plain = body(get(client, address))
    assert kept["scenario"] == "frost" and kept["of"] == made.id
    change = np.subtract(kept["mean"], plain["mean"])
    assert not change[:6].any() and change[6:] == pytest.approx(np.full(18, -8), rel=0.1)
    (told,) = body(get(client, f"/outlooks/{kept['id']}/ahead"))["columns"]
    assert np.subtract(told["given"], told["edited"]) == pytest.approx([0] * 6 + [4] * 18)
    total = {"series": 0, "by": None}
    less = [body(post(client, f"/outlooks/{each}/totals", total))["mean"][0][0] for each in (made.id, kept["id"])]
    assert less[1] - less[0] == pytest.approx(18 * -8, rel=0.1)
    assert body(get(client, f"/outlooks/{kept['id']}/about"))["scenario"] == "frost"
    frost["edits"][0]["values"] = [0]
    again = body(post(client, f"{address}/scenarios", frost))
    assert again["mean"] == plain["mean"]
    listed = body(get(client, f"{address}/scenarios"))["scenarios"]
    assert [each["id"] for each in listed] == [again["id"]] and listed[0]["scenario"]["edits"][0]["values"] == [0]
    assert made.id in [each["id"] for each in body(get(client, f"/projects/{made.project}/outlooks"))["outlooks"]]
    assert again["id"] not in [each["id"] for each in body(get(client, f"/projects/{made.project}"))["outlooks"]]
    with made.reach.database.session() as session:
        copied = copy_kept(session, "projects", made.project, "held apart")
        (theirs,) = [each for each in records.outlooks_of(session, copied.id) if each.document["paths"] == 400]
        (their,) = records.scenarios_of(session, theirs.id)
        mine = records.learned_of(session, made.id)
        assert mine is not None and records.learned_of(session, theirs.id) == mine
        assert their.document["scenario"]["name"] == "frost"
    nothing = {"name": "x", "edits": [{"column": "wind", "values": [1]}]}
    assert is_problem(post(client, f"{address}/scenarios", nothing), 422)
    assert is_problem(post(client, f"/outlooks/{again['id']}/scenarios", frost), 409)
    assert is_problem(client.delete(f"/api/v1/outlooks/{made.id}/scenario", **LOCAL), 409)
    assert body(client.delete(f"/api/v1/outlooks/{again['id']}/scenario", **LOCAL))
    assert body(get(client, f"{address}/scenarios")) == {"scenarios": []}


def test_an_address_answers_in_what_is_accepted_and_only_what_is_new(
    client: FlaskClient, made: SimpleNamespace  # noqa: F811
) -> None:  # fmt: skip
    address = f"/outlooks/{made.id}/table"
    plain = get(client, address)
    assert plain.content_type == "application/json" and plain.json["about"]["known_until"] == "2024-01-20T23:00:00Z"
    assert plain.json["rows"][0]["key"] == "north" and "Content-Disposition" not in plain.headers
    as_csv = get(client, address, Accept="text/csv;q=0.9, image/png")
    assert (
        as_csv.data.splitlines()[0]
        == b'"time","key","mean","lower_0.5","upper_0.5","lower_0.8","upper_0.8","lower_0.95","upper_0.95"'
    )
    arrow = get(client, address, Accept="application/vnd.apache.arrow.stream")
    back = pa.ipc.open_stream(arrow.data).read_all()
    assert back["mean"].to_pylist()[AHEAD:] == body(get(client, f"/outlooks/{made.id}?series=1"))["mean"]
    assert json.loads(back.schema.metadata[b"about"])["contender"] == "by heat"
    wide = pq.read_table(io.BytesIO(get(client, f"{address}?format=parquet&form=wide").data))
    assert wide.column_names[:4] == ["time", "north", "north, lower 0.5", "north, upper 0.5"] and len(wide) == AHEAD
    assert get(client, f"{address}?format=xlsx").data[:2] == b"PK"
    tag = plain.headers["ETag"]
    known = get(client, address, **{"If-None-Match": tag})
    assert known.status_code == 304 and not known.data and known.headers["ETag"] == tag
    assert as_csv.headers["ETag"] != tag and plain.headers["Vary"] == "Accept"
    for seed, status in ((3, 200), (0, 304)):
        body(post(client, f"/outlooks/{made.id}/redraw", {"seed": seed}))
        assert get(client, address, **{"If-None-Match": tag}).status_code == status, "issued when it was"
    refused = get(client, address, Accept="image/png")
    assert refused.status_code == 406 and refused.content_type == "application/problem+json"
    learned = pt.load_learned(get(client, f"/outlooks/{made.id}/learned").data)
    assert learned.horizon == AHEAD
    assert is_problem(get(client, f"{address}?format=paper"), 422)


def test_forecasts_on_demand_go_on_from_what_was_learned(client: FlaskClient, made: SimpleNamespace) -> None:  # noqa: F811
    newer = town(HOURS + 5)
    stamps = [f"{each}Z" for each in newer.axis.times(np.arange(HOURS - 3, HOURS + 5))]
    rows = {"times": stamps, "values": newer.series(0)[-8:].tolist()}
    address = f"/outlooks/{made.id}/forecast"
    found = body(post(client, address, {"series": {"north": rows}, "horizon": 6}))
    same = served.learned_of(made.reach, made.id).outlook(newer.select([0]), 6, paths=1)
    assert found["times"][0] == "2024-01-21T05:00:00Z" and list(found["series"]) == ["north"]
    assert found["series"]["north"]["mean"] == same.mean[0].tolist()
    assert found["series"]["north"]["upper"]["0.95"] == same.upper[0.95][0].tolist()
    assert get(client, f"/outlooks/{made.id}").json["origin"] == HOURS, "nothing is stored"
    other = {**rows, "times": [f"2024-01-2{n}T00:00Z" for n in range(8)]}
    late = {**rows, "times": [f"2198-01-01T0{n}:00Z" for n in range(8)]}
    for wrong, words in (
        ({"west": rows}, "Nothing was learned of “west”"), ({"north": other}, "No two points"),
        ({"north": late}, "has not come yet"), ({"north": {**rows, "values": [1]}}, "as many times as values"),
    ):  # fmt: skip
        refused = post(client, address, {"series": wrong})
        assert is_problem(refused, 422) and words in refused.json["detail"]
    assert "1 to 24 steps" in post(client, address, {"series": {"north": rows}, "horizon": 25}).json["detail"]
    assert is_problem(post(client, address, {"series": {}}), 422)


@pytest.fixture
def written(made: SimpleNamespace, database_url: str) -> Any:
    """A configured database that may be written to, and a connection to look into it."""
    settings, plain = made.reach.settings, database_url.replace("+psycopg", "")
    settings.connections.parent.mkdir(parents=True, exist_ok=True)
    settings.connections.write_text(
        f'[sql.board]\nurl = "{plain}"\nwrites = true\n[sql.archive]\nurl = "{plain}"\n[sql.old]\nurl = "sqlite://"\n'
    )
    with psycopg.connect(plain, autocommit=True) as opened:
        opened.execute("CREATE SCHEMA handed")
        yield opened
        opened.execute("DROP SCHEMA handed CASCADE")
    settings.connections.unlink()


def test_tables_are_written_whole_or_not_at_all(client: FlaskClient, made: SimpleNamespace, written: Any) -> None:  # noqa: F811
    address, target = (
        f"/outlooks/{made.id}/written",
        {"connection": "board", "table": "next day", "schema_name": "handed"},
    )
    told = body(post(client, address, target))
    assert told == {"rows": 2 * AHEAD, "table": "next day", "view": "next day_latest"}
    shown = body(get(client, f"/outlooks/{made.id}?series=1"))
    look = 'SELECT mean, lower_80, upper_80, step FROM handed."next day" WHERE series = %s ORDER BY time'
    rows = written.execute(look, ("south",)).fetchall()
    assert [row[0] for row in rows] == shown["mean"] and [row[3] for row in rows] == list(range(1, AHEAD + 1))
    assert [row[1] for row in rows] == shown["lower"][1] and [row[2] for row in rows] == shown["upper"][1]
    words = "SELECT col_description('handed.\"next day\"'::regclass, 9)"
    assert written.execute(words).fetchone()[0] == "The forecast; missing where there is none; in m³/h."
    assert "is there already" in post(client, address, target).json["detail"]
    assert "is in “next day” already" in post(client, address, {**target, "way": "append"}).json["detail"]
    other = made.make("as yesterday", levels=[0.8, 0.95, 0.5])
    body(post(client, f"/outlooks/{other}/written", {**target, "way": "append"}))
    latest = written.execute('SELECT DISTINCT outlook FROM handed."next day_latest"').fetchall()
    assert latest == [(other,)]
    few = made.make("as yesterday", levels=[0.6])
    misfit = post(client, f"/outlooks/{few}/written", {**target, "way": "append"})
    assert is_problem(misfit, 409) and "lacks lower_60, upper_60 and has lower_50" in misfit.json["detail"]
    body(post(client, address, {**target, "way": "replace"}))
    assert written.execute('SELECT DISTINCT outlook FROM handed."next day"').fetchall() == [(made.id,)]
    for wrong, words in (
        ({"table": "x" * 60}, "1 to 56 bytes; this one has 60"), ({"table": "é" * 30}, "has 60"),
        ({"schema_name": "nowhere"}, "refused: schema"), ({"connection": "archive"}, "is for reading"),
        ({"connection": "old"}, "PostgreSQL only"), ({"table": " "}, "1 to 56 bytes"),
    ):  # fmt: skip
        refused = post(client, address, {**target, **wrong})
        assert is_problem(refused, 422) and words in refused.json["detail"], wrong
    assert is_problem(post(client, address, {**target, "connection": "lake"}), 404)
    injected = {**target, "table": '"; DROP TABLE outlook; --'}
    assert body(post(client, address, injected))["rows"] == 48


def test_permissions_are_said(client: FlaskClient, made: SimpleNamespace, written: Any, database_url: str) -> None:  # noqa: F811
    written.execute("DROP ROLE IF EXISTS onlooker")
    written.execute("CREATE ROLE onlooker LOGIN PASSWORD 'x'")
    place = psycopg.conninfo.conninfo_to_dict(database_url.replace("+psycopg", ""))
    url = f"postgresql://onlooker:x@{place['host']}:{place['port']}/{place['dbname']}"
    made.reach.settings.connections.write_text(f'[sql.board]\nurl = "{url}"\nwrites = true\n')
    try:
        target = {"connection": "board", "table": "t", "schema_name": "handed"}
        refused = post(client, f"/outlooks/{made.id}/written", target)
        assert is_problem(refused, 422) and "user may not do that: permission denied" in refused.json["detail"]
    finally:
        written.execute("DROP ROLE onlooker")


def test_a_writer_that_is_killed_leaves_the_table_as_it_was(
    client: FlaskClient, made: SimpleNamespace, written: Any, monkeypatch: pytest.MonkeyPatch  # noqa: F811
) -> None:  # fmt: skip
    """Its connection is cut by the server between two rows; readers see the old rows all the while."""
    from proteron.records import written_tables

    target = {"connection": "board", "table": "t", "schema_name": "handed"}
    body(post(client, f"/outlooks/{made.id}/written", target))
    before = written.execute("SELECT * FROM handed.t ORDER BY series, step").fetchall()
    rows_of, half, go_on = written_tables._rows, threading.Event(), threading.Event()

    def slowly(issued: Any) -> Any:
        for number, row in enumerate(rows_of(issued)):
            if number == AHEAD:
                half.set()
                assert go_on.wait(20)
            yield row

    monkeypatch.setattr(written_tables, "_rows", slowly)
    answers: list[Any] = []
    writer = threading.Thread(target=lambda: answers.append(
        post(client, f"/outlooks/{made.id}/written", {**target, "way": "replace"})))  # fmt: skip
    writer.start()
    assert half.wait(20)
    assert written.execute("SELECT count(*) FROM handed.t").fetchone() == (2 * AHEAD,), "readers are not held up"
    killed = 'SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE query LIKE \'COPY "handed"."t"%\''
    assert written.execute(killed).fetchall() == [(True,)]
    go_on.set()
    writer.join(20)
    assert is_problem(answers[0], 422) and "The database refused" in answers[0].json["detail"]
    assert written.execute("SELECT * FROM handed.t ORDER BY series, step").fetchall() == before


def test_outlooks_are_held_to_what_they_promised(client: FlaskClient, made: SimpleNamespace) -> None:  # noqa: F811
    address = f"/outlooks/{made.id}/held"
    first = body(get(client, address))
    assert (first["verdict"], first["newer"], first["of"]) == ("nothing came", False, 0)
    with made.reach.database.session() as session:
        reading = TableReading(town(HOURS + 12), [], account())
        save_dataset(session, made.project, "d", reading, parent_id=made.dataset)
    half = body(get(client, address))
    assert (half["verdict"], half["newer"], half["known"], half["of"], half["version"]) == (
        "as promised",
        True,
        12,
        24,
        2,
    )
    assert 0.5 < half["ratio"] < 1.5 and half["held"][-1] > 0.8 and half["drifted"] == []
    assert half["error"][12:] == [None] * 12 and len(half["promised"]) == AHEAD
    assert body(get(client, f"/outlooks/{made.id}"))["newer"]
    with made.reach.database.session() as session:
        reading = TableReading(town(HOURS + 24, drift=12.0), [], account())
        save_dataset(session, made.project, "d", reading)
    asked = {"floor": 0.0, "levels": [0.7], "until": HOURS - 30, "to": "2024-01-21 05:00"}
    again = body(post(client, f"/outlooks/{made.make('by heat', **asked)}/refit", {}))
    with made.reach.database.session() as session:
        told = records.get_outlook(session, again["id"])
        assert told.document["floor"] == 0 and told.document["levels"] == [0.7] and told.document["until"] is None
        assert (told.document["horizon"], told.document["to"], told.experiment_id) == (36, None, made.experiment)
        assert again["dataset_id"] == told.dataset_id > made.dataset
    whole = body(get(client, address))
    assert whole["verdict"] == "drifted" and whole["drifted"] == ["north"] and whole["version"] == 3
    assert whole["sentence"].startswith("Has drifted since 2024-01-21 06:00: north.")
    (listed,) = [
        each for each in body(get(client, f"/projects/{made.project}/outlooks"))["outlooks"] if each["id"] == made.id
    ]
    assert listed["verdict"] == "drifted" and listed["sentence"] == whole["sentence"]


def test_one_that_is_being_made_is_stopped(client: FlaskClient, made: SimpleNamespace) -> None:  # noqa: F811
    queued = body(post(client, f"/experiments/{made.experiment}/outlooks", {"contender": "by heat", "horizon": 30}))
    number = queued["id"]
    with made.reach.database.session() as session:
        assert records.tell_share(session, number, 0.4)
    (running,) = [each for each in OutlookWork().running(session, made.project) if each.id == number]
    assert (running.done, running.of) == (40, 100)
    assert body(get(client, f"/outlooks/{number}"))["share"] == 0.4
    for path in ("parts", "ahead", "about", "learned", "held", "table"):
        assert is_problem(get(client, f"/outlooks/{number}/{path}"), 409), path
    assert body(post(client, f"/outlooks/{number}/stop", {}))["state"] == "stopped"
    with made.reach.database.session() as session:
        assert not records.tell_share(session, number, 0.5)
        assert not OutlookWork().wanted(session, {"outlook_id": number})
    assert OutlookWork().run(made.here, None, {"outlook_id": number}) == "skipped"
    assert body(post(client, f"/outlooks/{made.id}/stop", {}))["state"] == "done"


def test_what_was_learned_is_the_same_as_without_a_server(made: SimpleNamespace) -> None:
    judging = Judging.parse({"contenders": CONTENDERS, "folds": {"count": 3, "horizon": AHEAD, "span": 96, "every": 6}})
    contender = judging.entry("by heat").contender
    results = [compute_cell(made.panel, cell) for cell in judging.cells(made.panel) if cell.name == "by heat"]
    alone = learned_by(pt.outlook(made.panel, contender, results, AHEAD, paths=400)).outlook(made.panel, paths=400)
    theirs = served.learned_of(made.reach, made.id).outlook(made.panel, paths=400)
    assert np.array_equal(alone.mean, theirs.mean) and np.array_equal(alone.paths, theirs.paths)
    started = time.monotonic()
    for _ in range(20):
        served.learned_of(made.reach, made.id)
    assert time.monotonic() - started < 5
