"""What an experiment would be, through the API: cells that are there are seen, costs are measured, variants entered."""

from types import SimpleNamespace

import numpy as np
import pytest
from flask.testing import FlaskClient
from test_api import application, client, get, post, send  # noqa: F401
from test_contract import ENTRIES, is_problem
from test_seals import FOLDS, compute, sealed  # noqa: F401

import proteron as pt
from proteron.core.errors import StoppedError
from proteron.core.experiment import Experiment, Judging
from proteron.core.forecasters.baselines import LastValue
from proteron.core.judge import cost
from proteron.runner.sidecar import TooLongError
from proteron.services.prospects import cost_in_trial

LINE = "5 folds, all before, gap 1 h, 6 h ahead, 12 h scored, origin every 6 h, last 2 sealed"


def refused(answered, status: int, words: str) -> None:
    assert is_problem(answered, status) and words in answered.json["detail"]


def test_cells_that_are_there_are_not_counted_again(client: FlaskClient, sealed) -> None:  # noqa: F811
    address = f"/datasets/{sealed.dataset}/prospect"
    same = post(client, address, {"folds": FOLDS, "contenders": ENTRIES}).json
    assert (same["cells"], same["there"], same["seconds"]) == (9, 9, 0)
    folds = pt.Folds.parse(FOLDS)
    assert [fold["cutoff"] for fold in same["folds"]] == [each.cutoff for each in folds.resolve(sealed.panel)]
    assert [fold["cutoff"] for fold in same["sealed"]] == [each.cutoff for each in folds.resolve_sealed(sealed.panel)]
    assert same["points"] == 3 * 2 * 6 * len(sealed.panel) and same["design"] == folds.document()
    assert same["line"] == "5 folds, all before, 6 h ahead, 12 h scored, origin every 6 h, last 2 sealed"
    known = post(client, address, {"line": LINE, "contenders": ENTRIES}).json
    assert (known["cells"], known["there"]) == (9, 0) and known["seconds"] > 0 and known["line"] == LINE
    fewer = post(client, address, {"line": LINE.replace("5 folds", "3 folds"), "contenders": ENTRIES}).json
    assert 0 < fewer["seconds"] < known["seconds"]
    new = {"name": "new", "forecaster": {"kind": "seasonal_mean", "period": 29}}
    other = post(client, address, {"folds": FOLDS, "contenders": [*ENTRIES, new]}).json
    assert (other["cells"], other["there"], other["seconds"]) == (12, 9, None)
    work = sum(cell.work for cell in Judging.parse({"contenders": [new], "folds": FOLDS}).cells(sealed.panel))
    told = post(client, address, {"folds": FOLDS, "contenders": [*ENTRIES, new], "rates": {"new": 60 / work}}).json
    assert told["seconds"] == pytest.approx(60 / min(sealed.reach.settings.workers, 3))
    seeded = post(client, address, {"folds": FOLDS, "contenders": ENTRIES, "seed": 9}).json
    assert seeded["there"] == 0
    assert post(client, address, {"folds": FOLDS}).json["cells"] == 0


def test_what_cannot_be_is_said_before_it_is_stored(client: FlaskClient, sealed) -> None:  # noqa: F811
    address = f"/datasets/{sealed.dataset}/prospect"
    refused(post(client, address, {"folds": {**FOLDS, "count": 400}}), 422, "nothing to learn from")
    refused(post(client, address, {"line": "5 folds, every full moon"}), 422, "every full moon")
    refused(post(client, address, {"folds": {**FOLDS, "sealed": 5}}), 422, "at least one stays open")
    refused(post(client, "/datasets/999999/prospect", {"folds": FOLDS}), 404, "")


def test_one_fit_is_made_and_its_time_taken(client: FlaskClient, sealed) -> None:  # noqa: F811
    address = f"/datasets/{sealed.dataset}/cost"
    found = post(client, address, {"contender": ENTRIES[0], "series": 1, "until": 300}).json
    assert found["seconds"] > 0 and found["rate"] == pytest.approx(found["seconds"] / 300 / LastValue.cost)
    refused(post(client, address, {"contender": ENTRIES[0], "series": 99, "until": 300}), 422, "series")
    garch = {"name": "a", "forecaster": {"kind": "garch"}}
    refused(post(client, address, {"contender": garch, "until": 5}), 422, "30 known points")


def test_a_fit_is_timed_twice_where_it_is_short_and_given_up_where_it_is_long(
    sealed, monkeypatch: pytest.MonkeyPatch  # noqa: F811
) -> None:  # fmt: skip
    taken, seen = [0.5, 0.2], []
    monkeypatch.setattr(cost, "_fit", lambda contender, known, work: (seen.append(known), taken[len(seen) - 1])[1])
    alone = cost.cost_of_fit(pt.forecaster("drift"), sealed.panel, 1, 300)
    assert alone.seconds == 0.2 and [len(known) for known in seen] == [1, 1] and seen[0].end == 300
    seen.clear()
    taken[:] = [1.5]
    together = cost.cost_of_fit(pt.forecaster("vector_autoregression"), sealed.panel, 1, 300)
    assert together.seconds == 1.5 and len(seen[0]) == len(sealed.panel) > 1 and len(seen) == 1

    def endless(contender, known, work):
        assert work.stop_asked()
        raise StoppedError("Stopped on request.")

    monkeypatch.setattr(cost, "_fit", endless)
    assert cost.cost_of_fit(pt.forecaster("drift"), sealed.panel, 0, 300, limit=-1.0) == cost.Cost(
        None, -1.0, None
    )  # fmt: skip


def test_a_fit_that_does_not_stop_is_told_as_longer_than_the_limit() -> None:
    def call(*asked, seconds: float) -> None:
        assert asked[0] == "cost" and seconds > cost.LONGEST
        raise TooLongError("This took longer.")

    found = cost_in_trial(SimpleNamespace(trial=SimpleNamespace(call=call)), None, 1, 0, 300)
    assert found == cost.Cost(None, cost.LONGEST, None)


def test_variants_come_with_chain_and_names(client: FlaskClient) -> None:  # noqa: F811
    entry = {"name": "s", "forecaster": {"kind": "smoothing"}, "chain": [{"kind": "log"}], "bias_adjust": True}
    found = post(client, "/variants", {"contender": entry, "values": {"damped": [True, False]}}).json["contenders"]
    assert [each["name"] for each in found] == ["s, damped", "s, not damped"]
    assert all(each["chain"][0]["kind"] == "log" and each["bias_adjust"] for each in found)
    assert [each["forecaster"]["damped"] for each in found] == [True, False]
    refused(post(client, "/variants", {"contender": entry, "values": {"wings": [1]}}), 422, "no setting")


def test_brought_forecasts_go_through_an_experiment_and_its_file(client: FlaskClient, sealed, tmp_path) -> None:  # noqa: F811
    rows = ["time,series,origin,mean,lower_80,upper_80"]
    rows += [f"2024-01-16T{hour:02d}:00,north,2024-01-15,{hour},{hour - 1},{hour + 1}" for hour in range(24)]
    upload = send(client, "\n".join(rows).encode()).json["upload_id"]
    found = post(client, f"/uploads/{upload}/forecasts", {"dataset_id": sealed.dataset}).json
    assert (found["rows"], found["used"], found["notes"]) == (24, 24, [])
    contender = found["contender"]
    assert contender["name"] == "x" and contender["forecaster"]["source"] == "x.csv"
    contender["name"] = "their guess"
    body = {"dataset_id": sealed.dataset, "contenders": [ENTRIES[0], contender], "run": False,
            "folds": {"kind": "at", "cutoffs": ["2024-01-15T12:00"], "horizon": 36}, "metrics": ["mae"]}  # fmt: skip
    made = post(client, f"/projects/{sealed.project}/experiments", body).json["id"]
    compute(sealed, made)
    row = get(client, f"/experiments/{made}/board").json["rows"][-1]
    known = sealed.panel.series(0)[15 * 24 : 16 * 24]
    assert row["contender"] == "their guess" and row["skill"] is not None
    assert row["errors"]["mae"] == pytest.approx(np.abs(np.arange(24) - known).mean())
    (tmp_path / "e.toml").write_text(get(client, f"/experiments/{made}/experiment.toml").text, "utf-8")
    again = Experiment.load(tmp_path / "e.toml").entrants["their guess"]
    assert again.hash == Judging.parse({"contenders": [contender]}).entrants["their guess"].hash
    refused(post(client, f"/uploads/{'0' * 32}/forecasts", {"dataset_id": sealed.dataset}), 404, "bring the file again")
    wrong = send(client, b"when,what\n2024-01-01,1\n").json["upload_id"]
    refused(post(client, f"/uploads/{wrong}/forecasts", {"dataset_id": sealed.dataset}), 422, "no column of the value")
