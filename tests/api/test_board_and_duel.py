"""A duel through the API: the numbers of the notebook, and clear refusals."""

import html
import io
import re
import tomllib
from types import SimpleNamespace
from urllib.parse import urlencode

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from flask.testing import FlaskClient
from test_api import application, client, get, post  # noqa: F401
from test_contract import ENTRIES, FOLDS, is_problem, judged  # noqa: F401

import proteron as pt
from proteron.core.experiment import Judging
from proteron.core.judge import Report, walk_forward


@pytest.fixture(scope="module")
def report(judged: SimpleNamespace) -> Report:  # noqa: F811
    """The same experiment in the notebook."""
    judging = Judging.parse({"contenders": ENTRIES, "folds": FOLDS})
    contenders = {entry.name: entry.contender for entry in judging.contenders}
    return walk_forward(judged.panel, contenders, judging.folds, judging.metrics, "naive", judging.seed)


def ask(client: FlaskClient, judged: SimpleNamespace, **query: object):  # noqa: F811
    return get(client, f"/experiments/{judged.experiment}/duel?{urlencode(query)}")


@pytest.mark.parametrize("metric", ["mase", "rmse", "crps"])
def test_a_duel_is_the_notebooks(client, judged: SimpleNamespace, report: Report, metric: str) -> None:  # noqa: F811
    told = ask(client, judged, one="mean", other="naive", metric=metric).json
    found = report.difference("mean", "naive", metric)
    assert (told["skill"], told["sentence"], told["resampled"]) == (found.skill, found.sentence, found.resampled)
    assert (told["skill_low"], told["skill_high"]) == (found.interval or (None, None))
    assert told["test"] == vars(found.test)
    assert [each["test"] for each in told["steps"]] == [vars(each) for each in found.by_step]
    assert [each["ahead"] for each in told["steps"]] == list(range(1, 7))
    slots = {each["label"]: (each["one"], each["other"]) for each in told["by_slot"]}
    assert slots == dict(zip(found.by_slot.labels, map(tuple, found.by_slot.values.T.tolist()), strict=True))
    assert told["metric"]["name"] == metric and len(told["savings"]["times"]) == 36
    if metric != "rmse":  # whose error is a root of the mean loss
        assert told["savings"]["shares"][-1] == pytest.approx(told["skill"])


def test_the_board_says_what_the_notebooks_says(client, judged: SimpleNamespace, report: Report) -> None:  # noqa: F811
    told = get(client, f"/experiments/{judged.experiment}/board").json
    ranks = report.board.evidence.ranks
    assert ranks is not None and told["ranks"]["critical_difference"] == ranks.critical_difference
    assert told["verdict"] == report.board.verdict and told["resampled"] == report.board.evidence.resampled
    assert [row["among_best"] for row in told["rows"]] == [row.among_best for row in report.board]
    assert [row["mean_rank"] for row in told["rows"]] == list(ranks.mean_ranks.values())


def test_a_duel_that_cannot_be_is_refused(client: FlaskClient, judged: SimpleNamespace) -> None:  # noqa: F811
    refused = {"one": {"one": "nobody", "other": "naive"}, "other": {"one": "mean", "other": "mean"},
               "metric": {"one": "mean", "other": "naive", "metric": "bias"},
               "series": {"one": "mean", "other": "naive", "series": 7}}  # fmt: skip
    for field, query in refused.items():
        answer = ask(client, judged, **query)
        assert is_problem(answer, 422) and answer.json["field"] == field
    assert is_problem(get(client, "/experiments/987654321/duel?one=a&other=b"), 404)


def test_what_deceives_is_what_the_notebook_names(client, judged: SimpleNamespace, report: Report) -> None:  # noqa: F811
    told = get(client, f"/experiments/{judged.experiment}/deceptions").json
    assert told["deceptions"] == [vars(each) for each in report.deceptions]
    assert is_problem(get(client, f"/experiments/{judged.experiment}/deceptions?metric=bias"), 422)


def test_what_is_taken_away_is_what_the_notebook_has(client, judged: SimpleNamespace, report: Report) -> None:  # noqa: F811
    address = f"/experiments/{judged.experiment}"
    table = pq.read_table(io.BytesIO(get(client, f"{address}/forecasts.parquet").data))
    mine = report.table()
    assert table.schema.names == mine.schema.names and "lower_95" in table.schema.names
    order = [(name, "ascending") for name in ("contender", "fold", "key", "origin", "step")]
    plain = [each.cast(pa.schema([(f.name, pa.string() if f.name == "contender" else f.type) for f in each.schema]))
             for each in (table, mine)]  # fmt: skip
    assert plain[0].sort_by(order).equals(plain[1].sort_by(order))
    away = np.abs(table["mean"].to_numpy() - table["truth"].to_numpy())[table["contender"].to_numpy() == "curve"]
    assert np.nanmean(away) == pytest.approx(report.weighed("points").row("curve")["mae"])
    board = get(client, f"{address}/board.json").json
    assert board["verdict"] == report.board.verdict
    assert [row["skill"] for row in board["rows"]] == [row.skill for row in report.board]
    lines = get(client, f"{address}/board.csv").text.splitlines()
    assert len(lines) == 1 + len(report.board) and lines[0].startswith('"contender"')


def test_a_report_stands_by_itself(client, judged: SimpleNamespace, report: Report) -> None:  # noqa: F811
    answer = get(client, f"/experiments/{judged.experiment}/report.html")
    page = answer.text
    assert answer.content_type.startswith("text/html") and "attachment" in answer.headers["Content-Disposition"]
    assert not re.findall(r"""(?:src|href)\s*=\s*["'](?!#)""", page), "it asks for nothing from anywhere"
    assert report.board.verdict in html.unescape(page) and judged.panel.hash in page and page.count("<svg") == 3
    settings = html.unescape(page[page.rindex("<pre>") + 5 : page.rindex("</pre>")])
    assert tomllib.loads(settings)["seed"] == 0 and tomllib.loads(settings)["data"]["dataset"] == judged.panel.hash
    assert "NumPy" in page and "leaves out" not in page
    for each in report.deceptions:
        assert each.text in html.unescape(page)
    again = get(client, f"/experiments/{judged.experiment}/report.html").text
    assert again == page, "the same to the byte"


def test_what_was_learned_is_taken_away_and_forecasts_as_it_did(client, judged: SimpleNamespace, tmp_path) -> None:  # noqa: F811
    address = f"/experiments/{judged.experiment}"
    answer = get(client, f"{address}/learned.npz?contender=curve&fold=1&series=1")
    assert "curve.npz" in answer.headers["Content-Disposition"]
    (tmp_path / "curve.npz").write_bytes(answer.data)
    fitted = pt.load_fitted(tmp_path / "curve.npz")
    mine = Judging.parse({"contenders": ENTRIES, "folds": FOLDS}).folds.resolve(judged.panel)[1]
    assert fitted.until == mine.fit_until and fitted.known.end == mine.fit_until
    told = post(client, f"{address}/forecasts", {"origin": mine.cutoff, "series": 1}).json["forecasts"]
    stored = next(each["mean"] for each in told if each["contender"] == "curve")
    found = fitted.forecast(6).mean[fitted.known.keys.index(judged.panel.keys[1])]
    np.testing.assert_allclose(found, stored, rtol=1e-12)
    refused = get(client, f"{address}/learned.onnx.zip?contender=curve&fold=1")
    assert refused.status_code == 422 and "graph" in refused.json["detail"]
    assert get(client, f"{address}/learned.npz?contender=nobody&fold=1").status_code == 404
