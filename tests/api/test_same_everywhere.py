"""The same experiment from the page's API, a file, and the notebook: equal to the last digit, whatever the folds."""

from pathlib import Path

import numpy as np
import pytest
from flask.testing import FlaskClient
from test_api import application, client, get, post  # noqa: F401
from test_seals import compute, sealed  # noqa: F401

import proteron as pt
from proteron.core.experiment import Experiment, run_experiment

ENTRIES = [
    {"name": "naive", "forecaster": {"kind": "seasonal_last_value", "period": 24}},
    {"name": "mean", "forecaster": {"kind": "mean"}, "chain": [{"kind": "log", "offset": 99.0}], "bias_adjust": True},
    {"name": "drift", "forecaster": {"kind": "drift"}, "ranges": "split"},
]
DESIGNS = {
    "expanding": {"count": 3, "horizon": 6, "span": 12, "every": 3, "gap": 1, "refit": 2},
    "sliding": {"kind": "sliding", "count": 3, "horizon": 6, "length": 120, "spacing": 30, "refit": 0},
    "single": {"kind": "single", "share": 0.1, "horizon": 12, "every": 7, "steps": [1, 12]},
    "single from a time": {"kind": "single", "cutoffs": ["2024-01-14"], "horizon": 8},
    "at": {"kind": "at", "cutoffs": ["2024-01-12", "2024-01-15T06:00"], "horizon": 10, "sealed": 1},
    "calendar": {"kind": "calendar", "period": "week", "learn": 4, "hidden": True, "horizon": 12, "count": 2},
    "in months": {"count": 2, "horizon": 24, "months": [1], "sealed": 1},
}


@pytest.mark.parametrize("name", DESIGNS)
def test_every_design_and_every_metric(client: FlaskClient, sealed, name: str, tmp_path: Path) -> None:  # noqa: F811
    metrics = list(pt.METRICS)
    body = {"dataset_id": sealed.dataset, "contenders": ENTRIES, "folds": DESIGNS[name], "metrics": metrics,
            "levels": [0.5, 0.8, 0.95], "seed": 7, "run": False}  # fmt: skip
    made = post(client, f"/projects/{sealed.project}/experiments", body).json["id"]
    compute(sealed, made)
    board = {row["contender"]: row for row in get(client, f"/experiments/{made}/board").json["rows"]}
    (tmp_path / "experiment.toml").write_text(get(client, f"/experiments/{made}/experiment.toml").text, "utf-8")
    experiment = Experiment.load(tmp_path / "experiment.toml")
    pt.write_panel(sealed.panel, tmp_path / experiment.data.file)
    from_file = run_experiment(experiment, tmp_path).report
    entered = {
        "naive": pt.forecaster("seasonal_last_value", period=24),
        "mean": pt.forecaster("mean", chain=pt.Chain([pt.flatten.Log(offset=99.0)], bias_adjust=True)),
        "drift": pt.forecaster("drift", ranges="split"),
    }
    notebook = pt.walk_forward(sealed.panel, entered, pt.Folds.parse(DESIGNS[name]), metrics, "naive", seed=7)
    for report in (from_file, notebook):
        assert [each.cutoff for each in report.folds] == [each.cutoff for each in notebook.folds]
        for entrant in entered:
            row = report.board.row(entrant)
            assert set(row.errors) == set(board[entrant]["errors"]) == set(metrics)
            told = {metric: board[entrant]["errors"][metric] for metric in metrics}
            assert {metric: None if v is None or np.isnan(v) else v for metric, v in row.errors.items()} == told
            assert (row.skill, row.skill_low, row.skill_high) == tuple(
                board[entrant][each] for each in ("skill", "skill_low", "skill_high")
            )
    assert sum(value is not None for value in board["drift"]["errors"].values()) > 20
