"""Evidence at a glance through the API is the library's."""

import numpy as np
import pytest
from flask.testing import FlaskClient
from test_api import application, client, get  # noqa: F401
from test_contract import ENTRIES, is_problem
from test_seals import FOLDS, sealed  # noqa: F401

import proteron as pt
from proteron.core.experiment import Judging
from proteron.core.judge import errors_in_time, skills_by


@pytest.fixture
def report(sealed) -> pt.Report:  # noqa: F811
    judging = Judging.parse({"contenders": ENTRIES, "folds": FOLDS})
    return pt.walk_forward(sealed.panel, judging.entrants, judging.folds, judging.metrics, judging.chosen_baseline)


def numbers(rows: list) -> np.ndarray:
    return np.array(rows, dtype=float)


@pytest.mark.parametrize("by", ["fold", "step", "series", "slot", "hour_of_week"])
def test_breakdowns(client: FlaskClient, sealed, report: pt.Report, by: str) -> None:  # noqa: F811
    address = f"/experiments/{sealed.experiment}/breakdown?by={by}"
    found = get(client, address + "&metric=mae").json
    errors = report.losses("mae", by=by)
    skill = skills_by(report.losses("mae"), "naive", by, report.panel, report.folds)
    assert (found["names"], found["labels"], found["metric"]["name"]) == (
        list(errors.names), list(errors.labels), "mae"
    )  # fmt: skip
    assert np.array_equal(numbers(found["errors"]), errors.values, equal_nan=True)
    assert np.array_equal(numbers(found["skill"]), skill.values, equal_nan=True)
    covered = get(client, address + "&metric=coverage_95").json
    assert covered["skill"] == [] and len(covered["errors"]) == 3  # nothing to be skilled in
    by_default = get(client, address).json
    assert by_default["metric"]["name"] == report.metrics[0]
    assert is_problem(get(client, address + "&metric=nonsense"), 422)


def test_errors_in_time_and_criteria(client: FlaskClient, sealed, report: pt.Report) -> None:  # noqa: F811
    found = get(client, f"/experiments/{sealed.experiment}/errors?series=1&ahead=3").json["entrants"]
    expected = errors_in_time(report.panel, report.results, 1, 3)
    for each in found:
        mine = expected[each["contender"]]
        times = report.panel.axis.times(mine.positions).astype(np.int64)
        assert np.array_equal(each["errors"], mine.errors) and np.array_equal(each["times"], times)
        assert set(each["ahead"]) == {3}
    assert [each["contender"] for each in found] == list(expected)
    assert is_problem(get(client, f"/experiments/{sealed.experiment}/errors?series=7"), 422)
    told = get(client, f"/experiments/{sealed.experiment}/criteria?fold=2&series=1").json
    assert told["metric"]["name"] == report.metrics[0]
    assert {each["contender"] for each in told["entrants"]} <= {"naive", "mean", "curve"}
    for each in told["entrants"]:
        place = list(report.names).index(each["contender"])
        errors = report.losses(report.metrics[0]).reported((3, 4))
        assert each["error"] == pytest.approx(errors[place, 2, 1])
    assert is_problem(get(client, f"/experiments/{sealed.experiment}/criteria?fold=3"), 404)  # it is sealed


def test_signs(client: FlaskClient, sealed, report: pt.Report) -> None:  # noqa: F811
    found = get(client, f"/experiments/{sealed.experiment}/signs?contender=curve").json
    assert found == {"changes": report.signs("curve"), "values": report.signs("curve", "values")}
    assert sum(sum(each.values()) for each in found["changes"].values()) > 50
    assert is_problem(get(client, f"/experiments/{sealed.experiment}/signs?contender=nobody"), 422)
