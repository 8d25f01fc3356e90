"""Sealed folds through the API: unseen until the seal is broken, and counted for good once it is."""

import tomllib
from types import SimpleNamespace

import numpy as np
import pytest
from flask.testing import FlaskClient
from test_api import application, client, get, post, send  # noqa: F401
from test_contract import ENTRIES, is_problem

from conftest import hourly_csv
from proteron.core.experiment import Experiment, Judging
from proteron.core.judge import compute_cells, optimism, walk_forward
from proteron.records.results import load_results, save_result
from proteron.services import experiments

FOLDS = {"count": 5, "horizon": 6, "span": 12, "every": 6, "sealed": 2}


@pytest.fixture
def sealed(application) -> SimpleNamespace:  # noqa: F811
    """An experiment of five folds, the last two sealed, whose open ones are done."""
    client = application.test_client()  # noqa: F811
    project = post(client, "/projects", {"name": f"sealed {np.random.default_rng().integers(1 << 60)}"}).json["id"]
    upload = send(client, hourly_csv(np.random.default_rng(8), 400).encode()).json["upload_id"]
    dataset = post(client, f"/uploads/{upload}/dataset", {"project_id": project, "name": "d", "recipe": {}}).json["id"]
    reach = application.extensions["proteron"]
    body = {"dataset_id": dataset, "contenders": ENTRIES, "folds": FOLDS, "run": False}
    made = post(client, f"/projects/{project}/experiments", body).json["id"]
    found = SimpleNamespace(project=project, dataset=dataset, experiment=made, reach=reach, panel=reach.panel(dataset))
    compute(found, made)
    return found


def compute(found: SimpleNamespace, experiment: int, contender: str | None = None) -> None:
    """Whatever of it is missing, here and now."""
    with found.reach.database.session() as session:
        judging = experiments.judging_of(experiments.records.get_experiment(session, experiment))
    cells = judging.cells(found.panel) if contender is None else judging.sealed_cells(found.panel, contender)
    with found.reach.database.session() as session:
        earlier = {each.cell.key: each for each in load_results(session, experiment)}
    for result in compute_cells(found.panel, cells, earlier=earlier):
        with found.reach.database.session() as session:
            save_result(session, result)
    with found.reach.database.session() as session:
        experiments.records.set_state(session, experiment, "done")


def test_sealed_folds_are_neither_computed_nor_shown(client: FlaskClient, sealed: SimpleNamespace) -> None:  # noqa: F811
    view = get(client, f"/experiments/{sealed.experiment}").json
    assert len(view["folds"]) == 3 and len(view["sealed"]) == 2 and view["cells"] == view["done"] == 3 * 3
    assert view["sealed"][0]["cutoff"] > view["folds"][-1]["cutoff"]
    board = get(client, f"/experiments/{sealed.experiment}/board").json
    assert all(len(row["skill_by_fold"]) == 3 and row["cells"] == 3 for row in board["rows"])
    seal = get(client, f"/experiments/{sealed.experiment}/seal").json
    assert seal["folds"] == 2 and not seal["rows"] and not seal["breakings"]
    assert seal["sentence"] == "The last 2 folds are sealed; the seal is unbroken on this data."
    unsealed = walk_forward(
        sealed.panel, Judging.parse({"contenders": ENTRIES}).entrants,
        experiments.Judging.parse({"contenders": ENTRIES, "folds": {**FOLDS, "count": 5, "sealed": 0}}).folds,
    )  # fmt: skip
    naive = next(row for row in board["rows"] if row["contender"] == "naive")
    assert naive["errors"]["mase"] != unsealed.board.row("naive")["mase"], "the last folds are not in it"


def test_breaking_the_seal_judges_one_and_is_counted_for_good(client: FlaskClient, sealed: SimpleNamespace) -> None:  # noqa: F811
    address = f"/experiments/{sealed.experiment}"
    before = get(client, f"{address}/board").json
    broken = post(client, f"{address}/seal", {"contender": "curve"})
    assert broken.json["state"] == "running" and broken.json["cells"] == 9 + 2 * 2
    assert is_problem(post(client, f"{address}/seal", {"contender": "mean"}), 409), "one after the other"
    compute(sealed, sealed.experiment, "curve")
    judging = Judging.parse({"contenders": ENTRIES, "folds": FOLDS})
    report = walk_forward(sealed.panel, judging.entrants, judging.folds, baseline="naive")
    mine = report.break_seal("curve")
    seal = get(client, f"{address}/seal").json
    (row,) = seal["rows"]
    assert row["contender"] == "curve" and row["skill"] == mine.board.row("curve").skill
    assert (
        row["optimism"] == optimism(report.board, mine.board, "curve") == report.board.row("curve").skill - row["skill"]
    )
    (breaking,) = seal["breakings"]
    assert breaking["contender"] == "curve" and breaking["here"] and breaking["broken"].startswith("20")
    assert "broken 1 time, last by curve on 20" in seal["sentence"]
    after = get(client, f"{address}/board").json
    untimed = [{k: v for k, v in each.items() if "seconds" not in k} for each in before["rows"]]
    assert untimed == [{k: v for k, v in each.items() if "seconds" not in k} for each in after["rows"]]
    assert is_problem(post(client, f"{address}/seal", {"contender": "curve"}), 409), "but once"
    assert get(client, f"{address}/seal").json["breakings"] == seal["breakings"]
    told = get(client, f"{address}/board.json").json["sealed"]
    assert told.startswith(seal["sentence"]) and "curve: skill" in told
    assert seal["sentence"] in get(client, f"{address}/report.html").text
    document = tomllib.loads(get(client, f"{address}/experiment.toml").text)
    assert [each["contender"] for each in document["seals"]] == ["curve"]
    assert Experiment.parse(document).seals[0].when == breaking["broken"].replace("Z", "+00:00")
    again = post(
        client, f"/projects/{sealed.project}/experiments",
        {"dataset_id": sealed.dataset, "contenders": ENTRIES, "folds": {**FOLDS, "sealed": 1}, "run": False},
    ).json["id"]  # fmt: skip
    elsewhere = get(client, f"/experiments/{again}/seal").json
    assert [each["here"] for each in elsewhere["breakings"]] == [False] and "broken 1 time" in elsewhere["sentence"]
    used = get(client, f"/experiments/{again}/deceptions").json["used"]
    assert (
        used == "In 1 earlier experiment 1 contender has been judged on this time: the best of many owes some to luck."
    )
    assert get(client, f"{address}/deceptions").json["used"] == ""


def test_what_cannot_be_unsealed_is_refused(client: FlaskClient, sealed: SimpleNamespace) -> None:  # noqa: F811
    assert is_problem(post(client, f"/experiments/{sealed.experiment}/seal", {"contender": "nobody"}), 422)
    plain = {"dataset_id": sealed.dataset, "contenders": ENTRIES, "folds": {**FOLDS, "sealed": 0}, "run": False}
    made = post(client, f"/projects/{sealed.project}/experiments", plain).json
    assert made["sealed"] == []
    assert is_problem(post(client, f"/experiments/{made['id']}/seal", {"contender": "curve"}), 422)
    assert is_problem(get(client, f"/experiments/{made['id']}/seal"), 422)
    waiting = post(client, f"/projects/{sealed.project}/experiments", plain | {"folds": FOLDS, "seed": 9}).json["id"]
    assert is_problem(post(client, f"/experiments/{waiting}/seal", {"contender": "curve"}), 409), (
        "open folds come first"
    )
    shut = post(client, f"/projects/{sealed.project}/experiments", plain | {"folds": {**FOLDS, "sealed": 5}})
    assert is_problem(shut, 422) and "at least one stays open" in shut.json["detail"]
