"""The experiment file: what it says by itself, what it refuses, and what a run makes of it."""

from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tomli_w
from tests.core.intake.bank import amounts, moments, table

import proteron as pt
from proteron.core.experiment import Experiment, Judging, best_of, run_experiment
from proteron.core.judge import DEFAULT_METRICS, LEVELS

ENTRIES = [
    {"name": "curve", "forecaster": {"kind": "trend_curve"}},
    {"name": "naive", "forecaster": {"kind": "last_value"}},
    {"name": "mean", "forecaster": {"kind": "mean"}, "chain": [{"kind": "log"}], "bias_adjust": True},
]


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    rows = [(day, key, value) for key, seed in (("a", 1), ("b", 2))
            for day, value in zip(moments("2024-01-01", 90), amounts(90, seed), strict=True)]  # fmt: skip
    (tmp_path / "data.csv").write_bytes(table("day,key,y", rows))
    return tmp_path


def written(folder: Path, **changes: Any) -> Path:
    document = {"data": {"file": "data.csv"}, "contenders": ENTRIES, "folds": {"count": 3, "horizon": 4}} | changes
    path = folder / "experiment.toml"
    path.write_text(tomli_w.dumps(document))
    return path


def run(folder: Path, **changes: Any):  # type: ignore[no-untyped-def]
    return run_experiment(Experiment.load(written(folder, **changes)), folder)


def test_what_is_not_said_is_the_default(folder: Path) -> None:
    experiment = Experiment.load(written(folder))
    assert (experiment.name, experiment.seed, experiment.metrics) == ("experiment", 0, DEFAULT_METRICS)
    assert experiment.levels == LEVELS
    assert experiment.chosen_baseline == "naive", "the first naive contender, not the first of all"
    assert list(experiment.entrants) == ["curve", "naive", "mean"]
    assert experiment.entrants["mean"].chain.bias_adjust
    outcome = run_experiment(experiment, folder)
    assert outcome.report.baseline == "naive"
    assert (outcome.forecast, outcome.forecast_by, outcome.anomalies) == (None, None, None)
    assert len(outcome.report.results) == 9


def test_without_a_naive_one_the_first_is_the_baseline() -> None:
    judging = Judging.parse({"contenders": [ENTRIES[0], {"name": "theta", "forecaster": {"kind": "theta"}}]})
    assert judging.chosen_baseline == "curve"
    assert Judging.parse({"contenders": ENTRIES, "baseline": "mean"}).chosen_baseline == "mean"


@pytest.mark.parametrize(
    ("changes", "field", "words"),
    [
        ({"contenders": []}, "contenders", "at least 1 item"),
        ({"contenders": [ENTRIES[0], ENTRIES[0]]}, "contenders", "two contenders have the same name"),
        ({"contenders": [{"name": "", "forecaster": {"kind": "mean"}}]}, "contenders.0.name", "at least 1 character"),
        ({"contenders": [{"name": "x", "forecaster": {"kind": "oracle"}}]}, "contenders.0.forecaster", "oracle"),
        ({"contenders": [{**ENTRIES[0], "chain": [{"kind": "wobble"}]}]}, "contenders.0.chain.0", "wobble"),
        ({"levels": [0.5, 1.0]}, "levels.1", "less than 1"), ({"levels": [0.0]}, "levels.0", "greater than 0"),
        ({"seed": -1}, "seed", "greater than or equal to 0"),
        ({"folds": {"count": 0}}, "folds.count", "greater than or"),
        ({"folds": {"colour": 3}}, "folds.colour", "not permitted"), ({"surprise": 1}, "surprise", "not permitted"),
        ({"schema_version": 2}, "schema_version", "1"), ({"windows": {"lags": [0]}}, "lags.0", "greater than or"),
        ({"outlook": {"levels": [2.0]}}, "outlook.levels.0", "less than 1"),
        ({"outlook": {"horizon": 0}}, "outlook.horizon", ""),
        ({"anomalies": {"using": "naive", "per_week": 0}}, "anomalies.per_week", "greater than 0"),
        ({"data": {}}, "data.file", "required"),
    ],
)  # fmt: skip
def test_what_does_not_go_is_named_by_its_place(folder: Path, changes: dict, field: str, words: str) -> None:
    with pytest.raises(pt.SettingsError) as caught:
        Experiment.load(written(folder, **changes))
    assert (caught.value.field or "").startswith(field)
    assert words in caught.value.message


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"baseline": "nobody"}, "The baseline “nobody” is not among the contenders"),
        ({"metrics": ["vibes"]}, "There is no metric “vibes”"),
        ({"metrics": ["coverage_80", "coverage_95"]}, "Skill needs a metric by which smaller is better"),
        ({"folds": {"count": 99, "horizon": 4}}, "the first would have nothing to learn from"),
        ({"data": {"file": "gone.csv"}}, "gone.csv cannot be read"),
        ({"data": {"file": "data.csv", "roles": {"z": "target"}}}, "There is no column “z”"),
        ({"data": {"file": "data.csv", "dataset": "f" * 64}}, "is not the data this experiment was made with: "),
        ({"outlook": {"contender": "nobody"}}, "There is no contender “nobody”"),
        ({"outlook": {"floor": 5, "ceiling": 4}}, "The floor lies below the ceiling"),
        ({"anomalies": {"using": "nobody"}}, "There is no contender “nobody”"),
    ],
)
def test_what_does_not_fit_the_data_stops_the_run_in_words(folder: Path, changes: dict, words: str) -> None:
    with pytest.raises(pt.ProteronError, match=words):
        run(folder, **changes)


def test_files_that_are_none_are_refused(tmp_path: Path) -> None:
    (tmp_path / "bad.toml").write_bytes(b"not = [toml")
    with pytest.raises(pt.InputError, match=r"bad\.toml is not TOML"):
        Experiment.load(tmp_path / "bad.toml")
    (tmp_path / "latin.toml").write_bytes("name = 'Füll'".encode("latin-1"))
    with pytest.raises(pt.InputError, match=r"latin\.toml is not TOML"):
        Experiment.load(tmp_path / "latin.toml")
    with pytest.raises(pt.InputError, match="cannot be read"):
        Experiment.load(tmp_path / "nowhere.toml")


def test_the_dataset_s_hash_lets_the_same_data_through(folder: Path) -> None:
    found = run(folder).reading.panel.hash
    assert run(folder, data={"file": "data.csv", "dataset": found}).reading.panel.hash == found


def test_the_outlook_is_by_the_best_or_by_whom_is_named(folder: Path) -> None:
    outcome = run(folder, outlook={})
    ranked = sorted(outcome.report.board, key=lambda row: -(row.skill or 0))
    assert outcome.forecast_by == ranked[0].contender
    assert outcome.forecast.horizon == 4
    assert outcome.forecast.levels == LEVELS
    named = run(folder, outlook={"contender": "curve", "horizon": 2}, levels=[0.7, 0.9])
    assert (named.forecast_by, named.forecast.horizon) == ("curve", 2)
    assert named.forecast.levels == (0.7, 0.9), "the levels that were judged"
    assert run(folder, outlook={"levels": [0.6]}, levels=[0.7, 0.9]).forecast.levels == (0.6,)


def test_the_best_is_the_highest_skill_and_the_first_of_equals(folder: Path) -> None:
    board = list(run(folder).report.board)
    from dataclasses import replace

    equal = [replace(row, skill=0.25) for row in board]
    assert best_of(equal) == board[0].contender
    assert best_of([replace(board[0], skill=None), *equal[1:]]) == board[1].contender
    assert best_of([replace(board[0], skill=-0.5), replace(board[1], skill=None)]) == board[0].contender


def test_flags_are_those_of_the_library(folder: Path) -> None:
    outcome = run(folder, anomalies={"using": "mean", "per_week": 0.5}, seed=3)
    contender = outcome.report.contenders["mean"]
    alone = pt.find_anomalies(outcome.reading.panel, using=contender, per_week=0.5, seed=3)
    assert list(outcome.anomalies) == list(alone)
    assert outcome.anomalies.thresholds == alone.thresholds


def test_zone_step_unit_and_recipe_reach_the_reading(folder: Path) -> None:
    data = {"file": "data.csv", "zone": "Europe/Lisbon", "unit": "m³/h", "recipe": {"exclude": ["b"]}}
    panel = run(folder, data=data).reading.panel
    assert (panel.zone, panel.unit, panel.keys) == ("Europe/Lisbon", "m³/h", ("a",))
    hashes = {run(folder, data=data).reading.panel.hash for _ in range(2)}
    assert len(hashes) == 1


def test_a_run_tells_of_every_cell_and_does_not_depend_on_processes(folder: Path) -> None:
    told: list[tuple[int, int, str | None]] = []
    experiment = Experiment.load(written(folder, seed=5))
    one = run_experiment(experiment, folder, 1, lambda done, of, cell, reason: told.append((done, of, reason)))
    assert told == [(done, 9, None) for done in range(1, 10)]
    two = run_experiment(experiment, folder, 2)
    for name in experiment.entrants:
        assert one.report.forecasts[name]["mean"].tobytes() == two.report.forecasts[name]["mean"].tobytes()
    assert np.isfinite([row.skill for row in one.report.board]).all()
