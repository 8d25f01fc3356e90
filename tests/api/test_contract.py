"""The API as its own document says it is: every address, its refusals, and answers of a judged project."""

import json
import re
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest
from flask.testing import FlaskClient
from test_api import LOCAL, application, client, get, post, send  # noqa: F401

from conftest import hourly_csv
from proteron.core.experiment import Judging
from proteron.core.judge import compute_cell
from proteron.records.datasets import PanelCache
from proteron.records.results import save_result
from proteron.runner.work.scans import ScanWork
from proteron.services import experiments

ENTRIES = [
    {"name": "naive", "forecaster": {"kind": "seasonal_last_value", "period": 24}},
    {"name": "mean", "forecaster": {"kind": "mean"}, "chain": [{"kind": "log"}]},
    {"name": "curve", "forecaster": {"kind": "trend_curve"}},
]
FOLDS = {"count": 3, "horizon": 6, "span": 12, "every": 6}
LOG = [{"kind": "log"}]
GONE = 987_654_321


@pytest.fixture(scope="module")
def judged(application, request: pytest.FixtureRequest) -> SimpleNamespace:  # noqa: F811
    """A project with two versions of its data, an experiment and a scan that are done, and an outlook."""
    client = application.test_client()  # noqa: F811
    name = f"judged for {request.module.__name__}"
    project = post(client, "/projects", {"name": name}).json["id"]
    text = re.sub(r"(01-10T09:00:00Z,north),[^\n]+", r"\1,95.5", hourly_csv(np.random.default_rng(8), 400))
    upload = send(client, text.encode()).json["upload_id"]
    made = post(client, f"/uploads/{upload}/dataset", {"project_id": project, "name": "d", "recipe": {"unit": "m³/h"}})
    dataset = made.json["id"]
    reach = application.extensions["proteron"]
    panel = reach.panel(dataset)
    judging = Judging.parse({"contenders": ENTRIES, "folds": FOLDS})
    with reach.database.session() as session:
        found = experiments.create(session, panel, project, dataset, "judge", "judge", judging).id
    for cell in judging.cells(panel):
        with reach.database.session() as session:
            save_result(session, compute_cell(panel, cell))
    with reach.database.session() as session:
        experiments.records.set_state(session, found, "done")
    scan = post(client, f"/projects/{project}/scans", {"dataset_id": dataset}).json["id"]
    here = SimpleNamespace(database=reach.database, panels=PanelCache(1))
    assert ScanWork().run(here, list(range(len(panel))), {"scan_id": scan}) == "done"
    kept = post(
        client, f"/datasets/{dataset}/fitted-chains", {"name": "kept", "chain": [{"kind": "log"}], "until": 300}
    )
    chain = post(client, f"/projects/{project}/chains", {"name": "mine", "stages": [{"kind": "log"}]})
    return SimpleNamespace(
        name=name, project=project, dataset=dataset, upload=upload, experiment=found, scan=scan,
        panel=panel, fitted=kept.json["id"], chain=chain.json["id"], reach=reach,
    )  # fmt: skip


def documented(application) -> list[tuple[str, str, dict[str, Any]]]:  # noqa: F811
    return [(method.upper(), path, operation) for path, operations in application.api_doc["paths"].items()
            for method, operation in operations.items()]  # fmt: skip


def fill(path: str, value: object) -> str:
    return re.sub(r"\{\w+\}", str(value), path)


def is_problem(answer, status: int) -> bool:
    body = answer.json
    named = {"type", "title", "status", "detail", "field"} == set(body)
    return answer.content_type == "application/problem+json" and body["status"] == status and named and body["detail"]


def test_every_address_refuses_what_is_not_there(client: FlaskClient, application) -> None:  # noqa: F811
    """An id that nothing has, or that nothing could have: a problem each, whatever the method."""
    asked = 0
    for method, path, operation in documented(application):
        if "{" not in path or path.endswith("/events"):
            continue
        unknown = client.open(fill(path, "0" * 32 if "upload" in path else GONE), method=method, json={}, **LOCAL)
        assert unknown.status_code in (404, 422), (method, path)
        assert is_problem(unknown, unknown.status_code), (method, path)
        required = any(each["in"] == "query" and each.get("required") for each in operation.get("parameters", ()))
        if "requestBody" not in operation and not required:
            assert unknown.status_code == 404, (method, path)
        beyond = client.open(fill(path, 10**30), method=method, json={}, **LOCAL)
        assert is_problem(beyond, 422), (method, path)
        asked += 1
    assert asked > 40


def test_every_body_refuses_fields_it_does_not_know_and_what_is_no_json(client: FlaskClient, application) -> None:  # noqa: F811
    asked = 0
    for method, path, operation in documented(application):
        if "application/json" not in operation.get("requestBody", {}).get("content", {}):
            continue
        address = fill(path, "0" * 32 if "upload" in path else 1)
        for body in ({"no such field": 1}, [1, 2], "text", None):
            answer = client.open(address, method=method, json=body, **LOCAL)
            assert answer.status_code in (404, 415, 422), (method, path, body)
            assert is_problem(answer, answer.status_code)
        broken = client.open(address, method=method, data=b'{"half": ', content_type="application/json", **LOCAL)
        assert broken.status_code in (400, 404, 422), (method, path)
        assert is_problem(broken, broken.status_code)
        asked += 1
    assert asked > 25


def test_every_operation_is_described(application) -> None:  # noqa: F811
    for method, path, operation in documented(application):
        assert operation.get("summary") or operation.get("description"), (method, path)
        assert operation["tags"] or path.endswith("/health"), (method, path)


def test_a_judged_project_answers_in_every_room(client: FlaskClient, judged: SimpleNamespace) -> None:  # noqa: F811
    project = get(client, f"/projects/{judged.project}").json
    assert project["datasets"][0]["id"] == judged.dataset
    assert {each["id"]: (each["state"], each["done"], each["failed"]) for each in project["experiments"]} == {
        judged.experiment: ("done", 9, 0)
    }
    assert [(each["id"], each["state"], each["done"]) for each in project["scans"]] == [(judged.scan, "done", 2)]
    assert project["running"] == []
    view = get(client, f"/experiments/{judged.experiment}").json
    assert [fold["cutoff"] for fold in view["folds"]] == [364, 376, 388]
    assert view["baseline"] == "naive"
    assert view["failures"] == []
    assert view["seconds_left"] is None
    assert [each["chain"] for each in view["contenders"]] == ["none", "log", "none"]
    board = get(client, f"/experiments/{judged.experiment}/board").json
    assert [row["contender"] for row in board["rows"]] == ["naive", "mean", "curve"]
    assert sum(row["best_in"] for row in board["rows"]) == 3
    assert board["rows"][0]["skill"] == 0
    assert board["skill_metric"] in {metric["name"] for metric in board["metrics"]}


@pytest.mark.parametrize("metric", ["mae", "rmse", "mase", "rmsse", "smape", "pinball", "crps"])
def test_skill_can_be_told_by_any_metric(client: FlaskClient, judged: SimpleNamespace, metric: str) -> None:  # noqa: F811
    board = get(client, f"/experiments/{judged.experiment}/board?metric={metric}").json
    assert board["skill_metric"] == metric
    base = next(row for row in board["rows"] if row["baseline"])["errors"][metric]
    for row in board["rows"]:
        assert row["skill"] == pytest.approx(1 - row["errors"][metric] / base, abs=1e-12)
    assert is_problem(get(client, f"/experiments/{judged.experiment}/board?metric=vibes"), 422)


def test_forecasts_are_those_that_had_been_learned_by_then(client: FlaskClient, judged: SimpleNamespace) -> None:  # noqa: F811
    address = f"/experiments/{judged.experiment}/forecasts"
    before = post(client, address, {"series": 0, "origin": 363}).json
    assert (before["fold"], before["forecasts"]) == (None, [])
    assert before["note"]
    for origin, fold, stored in ((364, 0, True), (370, 0, True), (371, 0, False), (376, 1, True), (400, 2, False)):
        found = post(client, address, {"series": 0, "origin": origin}).json
        assert found["fold"] == fold
        assert {each["contender"] for each in found["forecasts"]} == {"naive", "mean", "curve"}
        assert {each["fold"] for each in found["forecasts"]} == {fold}
        assert {each["stored"] for each in found["forecasts"]} == {stored}, origin
        naive = next(each for each in found["forecasts"] if each["contender"] == "naive")
        values = judged.panel.series(0)
        assert naive["mean"] == pytest.approx(values[origin - 24 : origin - 18].tolist())
        for low, high in zip(naive["lower"], naive["upper"], strict=True):
            assert all(a <= b for a, b in zip(low, high, strict=True))
    one = post(client, address, {"series": 0, "origin": 376, "contenders": ["curve"]}).json
    assert [each["contender"] for each in one["forecasts"]] == ["curve"]
    for body in ({"series": 99, "origin": 376}, {"series": 0}):
        assert is_problem(post(client, address, body), 422), body


def test_facts_name_the_fold_and_refuse_strangers(client: FlaskClient, judged: SimpleNamespace) -> None:  # noqa: F811
    base = f"/experiments/{judged.experiment}/facts"
    assert get(client, f"{base}?contender=curve&fold=1").status_code == 200
    assert is_problem(get(client, f"{base}?contender=nobody&fold=1"), 404)
    assert is_problem(get(client, f"{base}?contender=curve&fold=99"), 404)
    assert is_problem(get(client, base), 422)


def test_flags_follow_budget_and_verdict(client: FlaskClient, judged: SimpleNamespace) -> None:  # noqa: F811
    address = f"/scans/{judged.scan}"

    def budget(**body: object) -> dict[str, Any]:
        answer = client.put(f"/api/v1{address}/budget", json=body, **LOCAL)
        assert answer.status_code == 200
        return get(client, f"{address}/flags").json

    few, many = budget(per_thousand=1), budget(threshold=4.0)
    assert len(few["flags"]) <= len(many["flags"]) and many["threshold"] == 4.0
    assert all(flag["score"] > 4 and flag["verdict"] == "open" for flag in many["flags"])
    first = many["flags"][0]
    assert first["raised"] >= first["last"] >= first["time"] and first["key"] in judged.panel.keys
    span = {name: first[name] for name in ("key", "start", "stop")}
    said = {"spans": [span], "verdict": "right", "kind": "leak", "note": "n", "by": "Ana"}
    assert post(client, f"{address}/verdicts", said).json["spans"] == 1
    again = get(client, f"{address}/flags").json
    assert (again["flags"][0]["verdict"], again["flags"][0]["named"], again["flags"][0]["by"]) == (
        "right",
        "leak",
        "Ana",
    )
    assert (again["precision"]["right"], again["precision"]["judged"]) == (1, 1)
    alike = get(client, f"{address}/alike?key={first['key']}&start={first['start']}").json["flags"]
    assert alike[0]["start"] == first["start"]
    open_now = get(client, f"/projects/{judged.project}/open-flags").json["flags"]
    assert len(open_now) == len(many["flags"]) - 1 and [f["time"] for f in open_now] == sorted(
        (f["time"] for f in open_now), reverse=True
    )
    assert get(client, f"{address}/verdicts").json["verdicts"][0]["note"] == "n"
    curves = get(client, f"{address}/curves").json
    assert curves["labelled"][-1]["recall"] == 1 and len(curves["curve"]) == 48
    assert client.delete(f"/api/v1{address}/verdicts/last", **LOCAL).json["kind"] == "leak"
    assert is_problem(client.delete(f"/api/v1{address}/verdicts/last", **LOCAL), 404)
    for body in ({"per_week": 0}, {"threshold": -1}, {"per_week": 1, "per_thousand": 1}, {"over": "all"}):
        assert is_problem(client.put(f"/api/v1{address}/budget", json=body, **LOCAL), 422), body
    for body in ({**said, "spans": []}, {**said, "verdict": "maybe"}, {**said, "spans": [{**span, "key": "nobody"}]}):
        assert is_problem(post(client, f"{address}/verdicts", body), 422), body
    for format, kind in (("csv", "text/csv"), ("json", "application/json"), ("parquet", "parquet"), ("arrow", "arrow")):
        answer = get(client, f"{address}/table?format={format}")
        assert answer.status_code == 200 and kind in answer.content_type
    budget()


def test_scores_are_drawn_and_a_scan_tells_how_it_goes(client: FlaskClient, judged: SimpleNamespace) -> None:  # noqa: F811
    whole = get(client, f"/scans/{judged.scan}/scores?series=0").json
    assert len(whole["score"]["values"]) == len(whole["expected"]["values"]) == judged.panel.lengths[0]
    assert is_problem(get(client, f"/scans/{judged.scan}/scores?series=0&width=2"), 422)
    assert is_problem(get(client, f"/scans/{judged.scan}/scores?series=99"), 422)
    view = get(client, f"/scans/{judged.scan}").json
    assert (view["state"], view["mode"], view["using"], view["drill"], view["done"]) == (
        "done",
        "as_of",
        "joint",
        None,
        2,
    )
    assert is_problem(post(client, f"/scans/{judged.scan}/run", {}), 409)
    assert post(client, f"/scans/{judged.scan}/stop", {}).json["state"] == "done"
    assert is_problem(post(client, f"/scans/{judged.scan}/use", {"way": "mask"}), 422), "nothing is called right"
    assert get(client, f"/scans/{judged.scan}/drill").json["state"] is None
    assert post(client, f"/scans/{judged.scan}/drill", {"repeats": 1}).json["drill"] == "running"
    assert client.delete(f"/api/v1/scans/{judged.scan}/drill", **LOCAL).json["drill"] is None
    for body in ({"delay": 9}, {"using": "magic"}, {"mode": "both"}, {"using": "contender"}):
        wrong = post(client, f"/projects/{judged.project}/scans", {"dataset_id": judged.dataset, **body})
        assert is_problem(wrong, 422), body


def test_an_outlook_is_ordered_shown_and_taken_away(client: FlaskClient, judged: SimpleNamespace) -> None:  # noqa: F811
    address = f"/experiments/{judged.experiment}/outlooks"
    assert is_problem(post(client, address, {"contender": "nobody"}), 422)
    assert is_problem(post(client, address, {"contender": "naive", "horizon": 0}), 422)
    for wrong in ({"floor": 2, "ceiling": 1}, {"paths": 0}, {"levels": [1.5]}, {"ranges": "hope"}, {"until": 0}):
        assert is_problem(post(client, address, {"contender": "naive", **wrong}), 422), wrong
    made = post(client, address, {"contender": "naive", "horizon": 7})
    assert made.status_code == 201
    shown = get(client, f"/outlooks/{made.json['id']}").json
    assert (shown["contender"], shown["state"]) == ("naive", "queued")
    assert shown["mean"] == []
    assert get(client, f"/projects/{judged.project}").json["outlooks"][0]["id"] == made.json["id"]
    mine = f"/outlooks/{made.json['id']}"
    for later in ("/table", "/chance?above=1", "/paths", "/words"):
        assert is_problem(get(client, mine + later), 409), "not made yet"
    assert is_problem(post(client, mine + "/totals", {}), 409)


FILES = {
    "/datasets/{dataset}/data.csv": ("text/csv", b'"time"'),
    "/datasets/{dataset}/export?format=jsonl": ("application/", b"{"),
    "/datasets/{dataset}/export?format=parquet": ("application/", b"PAR1"),
    "/datasets/{dataset}/account.json": ("application/json", b"{"),
    "/fitted-chains/{fitted}.json": ("application/json", b"{"),
    "/datasets/{dataset}/fitted-chains/{fitted}/flat.csv": ("text/csv", b'"time"'),
    "/experiments/{experiment}/experiment.toml": ("application/toml", b"schema_version"),
}  # fmt: skip


@pytest.mark.parametrize("metric", ["vibes", "coverage_95", "flat_square"])
def test_skill_needs_smaller_to_be_better(client: FlaskClient, judged: SimpleNamespace, metric: str) -> None:  # noqa: F811
    refused = get(client, f"/experiments/{judged.experiment}/board?metric={metric}")
    assert is_problem(refused, 422)
    assert refused.json["field"] == "metric"
    assert "mase" in refused.json["detail"]


@pytest.mark.parametrize("path", FILES)
def test_files_say_what_they_are(client: FlaskClient, judged: SimpleNamespace, path: str) -> None:  # noqa: F811
    kind, start = FILES[path]
    answer = get(client, path.format(**vars(judged)))
    assert answer.status_code == 200
    assert answer.content_type.startswith(kind)
    assert answer.data.startswith(start), answer.data[:40]
    assert answer.headers["Content-Disposition"].startswith("attachment; filename=")
    assert answer.headers["X-Content-Type-Options"] == "nosniff"


def test_choices_are_set_one_by_one_and_taken_back(client: FlaskClient, judged: SimpleNamespace) -> None:  # noqa: F811
    address = f"/api/v1/projects/{judged.project}/choices"
    change = lambda **body: client.patch(address, json=body, **LOCAL)  # noqa: E731
    assert change(experiment_id=judged.experiment).json["choices"]["experiment_id"] == judged.experiment
    after = change(plan={"lags": [1, 2]}).json
    assert after["choices"]["experiment_id"] == judged.experiment, "what is not sent stays"
    assert after["rooms"]["windows"]["state"] == "current"
    assert after["rooms"]["walkforward"]["state"] == "current"
    assert "plan" not in change(plan=None).json["choices"] or change(plan=None).json["choices"]["plan"] is None
    assert is_problem(change(plan={"lags": [0]}), 422)
    assert is_problem(change(chain=[{"kind": "wobble"}]), 422)
    assert is_problem(change(dataset_id=-1), 422)
    assert is_problem(change(colour="red"), 422)


def test_a_name_is_used_once_and_never_blank(client: FlaskClient, judged: SimpleNamespace) -> None:  # noqa: F811
    assert is_problem(post(client, "/projects", {"name": judged.name}), 409)
    assert is_problem(post(client, "/projects", {"name": "x" * 201}), 422)
    chains = f"/projects/{judged.project}/chains"
    assert is_problem(post(client, chains, {"name": "", "stages": LOG}), 422)
    replaced = post(client, chains, {"name": "mine", "stages": [{"kind": "linear_trend"}]})
    assert (replaced.status_code, replaced.json["id"]) == (201, judged.chain), "the same name again replaces it"
    saved = get(client, chains).json["saved"]
    assert [(each["name"], each["stages"][0]["kind"]) for each in saved] == [("mine", "linear_trend")]


def test_an_experiment_that_is_done_is_neither_run_nor_stopped(client: FlaskClient, judged: SimpleNamespace) -> None:  # noqa: F811
    stopped = client.post(f"/api/v1/experiments/{judged.experiment}/stop", **LOCAL)
    assert json.loads(stopped.data)["state"] == "done"
    assert get(client, f"/experiments/{judged.experiment}").json["done"] == 9
