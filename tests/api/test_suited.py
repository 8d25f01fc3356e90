"""Which contenders suit a series, through HTTP: as of the cutoff, with reasons, refusing what is not there."""

import numpy as np
import pytest
from flask.testing import FlaskClient
from test_api import application, client, dataset, get, post, project, send  # noqa: F401

from proteron.core.forecasters import FORECASTERS

KINDS = {each.model_fields["kind"].default for each in FORECASTERS}


def made_of(client: FlaskClient, project: int, values: np.ndarray, name: str) -> int:  # noqa: F811
    times = np.datetime_as_string(
        np.datetime64("2024-01-01T00", "s") + np.arange(len(values)) * np.timedelta64(3600, "s")
    )
    rows = "\n".join(f"{time}Z,{value:.6f}" for time, value in zip(times, values, strict=True))
    upload = send(client, ("time,value\n" + rows).encode()).json["upload_id"]
    body = {"project_id": project, "name": name, "recipe": {}}
    return post(client, f"/uploads/{upload}/dataset", body).json["id"]


def test_what_suits_does_not_look_beyond_the_cutoff(client: FlaskClient, project: int) -> None:  # noqa: F811
    """A future below zero, or with a hole, speaks against nothing as long as it is not known."""
    known = 50 + 9 * np.sin(np.arange(400) * 2 * np.pi / 24) + np.random.default_rng(2).normal(size=400)
    answers = []
    for number, future in enumerate((known, -known)):
        values = np.where(np.arange(400) < 300, known, future)
        number_of = made_of(client, project, values, f"d{number}")
        answers.append([get(client, f"/datasets/{number_of}/suited?series=0&until={until}") for until in (300, 400)])
    (early, late), (same, other) = answers
    assert early.data == same.data and late.data != other.data
    assert "random_walk_process" not in early.json["reasons"]
    assert "above zero" in other.json["reasons"]["random_walk_process"]


def test_reasons_follow_what_is_known(client: FlaskClient, dataset: int) -> None:  # noqa: F811
    few, many = (
        get(client, f"/datasets/{dataset}/suited?series=0&until={until}").json["reasons"] for until in (3, 400)
    )
    assert set(few) > set(many) and set(few) <= KINDS
    assert {"last_value", "drift", "mean", "zero"}.isdisjoint(few)
    for kind, reason in few.items():
        assert reason.endswith("."), kind
    assert "there are 3" in few["garch"] and "there are" not in str(many)


def test_a_level_that_moves_is_told_as_it_is_known(client: FlaskClient, project: int) -> None:  # noqa: F811
    rises = 50 + 0.1 * np.arange(400) + np.random.default_rng(3).normal(size=400)
    made = made_of(client, project, rises, "rises")
    early, late = (get(client, f"/datasets/{made}/suited?series=0&until={until}").json for until in (150, 400))
    assert early["moved"] is None and late["moved"] == pytest.approx(0.1 * 384, rel=0.1)


@pytest.mark.parametrize(
    ("query", "status"), [("series=9", 422), ("series=-1", 422), ("series=x", 422), ("until=x", 422)]
)
def test_what_is_not_there_is_refused(client: FlaskClient, dataset: int, query: str, status: int) -> None:  # noqa: F811
    answer = get(client, f"/datasets/{dataset}/suited?{query}")
    assert answer.status_code == status and answer.content_type == "application/problem+json"
    assert get(client, "/datasets/999999/suited").status_code == 404
    assert get(client, "/experiments/999999/facts?contender=a&fold=0").status_code == 404
