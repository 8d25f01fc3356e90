"""Watched panels over HTTP: a state goes on as it would have elsewhere, and what does not fit is refused in words."""

from pathlib import Path

import numpy as np
import pytest
from flask.testing import FlaskClient
from test_api import LOCAL, application, client, get, post  # noqa: F401

import proteron as pt


@pytest.fixture
def project(client: FlaskClient, request: pytest.FixtureRequest) -> int:  # noqa: F811
    return int(post(client, "/projects", {"name": request.node.name}).json["id"])


def town() -> pt.Panel:
    rng, hours = np.random.default_rng(2), np.arange(900)
    series = {key: 50 + 9 * np.sin(hours * np.pi / 12) + rng.normal(size=900) for key in ("north", "east")}
    series["north"][820] += 30
    series["east"][890:] += 25
    return pt.Panel.from_arrays(series, "2024-01-01", "1 hour", "Europe/Lisbon")


def later(panel: pt.Panel, since: int, until: int) -> dict:
    start = f"{panel.axis.times(np.array([since]))[0]}Z"
    return {"series": [{"key": key, "start": start, "values": panel.series(index)[since:until].tolist()}
                       for index, key in enumerate(panel.keys)]}  # fmt: skip


def keep(client: FlaskClient, project: int, state: bytes, **query: str):  # type: ignore[no-untyped-def] # noqa: F811
    return client.post(f"/api/v1/projects/{project}/watched", data=state, query_string=query, **LOCAL)


def test_a_state_goes_on_as_it_would_have_elsewhere(client: FlaskClient, project: int, tmp_path: Path) -> None:  # noqa: F811
    panel = town()
    made = keep(client, project, pt.watch(panel.cut_at(800)).to_bytes(), name="meters")
    assert made.status_code == 201 and (made.json["name"], made.json["points"], made.json["open"]) == (
        "meters",
        1600,
        [],
    )
    address, raised = f"/watched/{made.json['id']}", []
    for since, until in ((800, 815), (815, 822), (820, 860), (860, 900)):  # two points come again
        answer = post(client, f"{address}/points", later(panel, since, until))
        assert answer.status_code == 200, answer.json
        raised += answer.json["raised"]
    elsewhere = pt.watch(panel.cut_at(800))
    elsewhere.add(panel)
    assert (raised[0]["key"], raised[0]["kind"]) == ("north", "spike")
    assert len(raised) == len(elsewhere.flags) > 1
    assert raised[0]["since"] == f"{panel.axis.times(np.array([820]))[0]}Z" and raised[0]["points"] == 1
    assert raised[0]["observed"] == panel.series(0)[820] and "expected" in raised[0]["sentence"]
    now = get(client, address).json
    assert [(each["key"], each["score"]) for each in now["open"]] == [(f.key, f.score) for f in elsewhere.open]
    assert now["points"] == 1800 and now["moved"] > made.json["moved"]
    state = client.get(f"/api/v1{address}/state", **LOCAL)
    (tmp_path / "state.npz").write_bytes(state.data)
    assert pt.load_watching(tmp_path / "state.npz").flags == elsewhere.flags
    assert [each["id"] for each in get(client, f"/projects/{project}/watched").json["watched"]] == [made.json["id"]]
    assert client.delete(f"/api/v1{address}", **LOCAL).json["name"] == "meters"
    assert get(client, address).status_code == 404 and get(client, f"/projects/{project}/watched").json["watched"] == []


def test_what_does_not_fit_is_refused_and_nothing_moves(client: FlaskClient, project: int) -> None:  # noqa: F811
    panel = town()
    assert "It is no watched panel" in keep(client, project, b"PK nothing").json["detail"]
    assert get(client, "/projects/987654/watched").status_code == 404
    assert keep(client, 987_654, pt.watch(panel.cut_at(50)).to_bytes()).status_code == 404
    made = keep(client, project, pt.watch(panel.cut_at(50)).to_bytes()).json
    points = f"/watched/{made['id']}/points"
    good = later(panel, 50, 52)
    one = good["series"][0]
    for wrong, said in (
        ({"series": [one, one]}, "once"), ({"series": []}, ""), ({"series": [{**one, "values": []}]}, ""),
        ({"series": [{**one, "start": "yesterday"}]}, "yesterday"),
        ({"series": [{**one, "start": "2999-01-01T00:00Z"}]}, "points after what was watched"),
        ({"series": [{**one, "values": [1e999]}]}, ""),
        (later(panel.with_values(panel.values + 1), 40, 52), "differs from what was watched"),
        ({"series": [{**one, "key": str(k), "values": [1.0] * 9000} for k in range(2)]}, "1 to 10,000 points"),
    ):  # fmt: skip
        answer = post(client, points, wrong)
        assert answer.status_code == 422 and said in answer.json["detail"], answer.json
    assert get(client, f"/watched/{made['id']}").json["points"] == 100
    missing = {"series": [{**one, "values": [None, 51.0]}]}
    assert post(client, points, missing).json["points"] == 102
    assert post(client, "/watched/9876/points", good).status_code == 404
    assert client.delete(f"/api/v1/projects/{project}", **LOCAL).status_code == 200
    gone = get(client, f"/watched/{made['id']}"), post(client, points, missing)
    assert [answer.status_code for answer in gone] == [404, 404], "what belongs to a deleted project is not there"
