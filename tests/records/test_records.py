"""Records on a real PostgreSQL: migrations, panels to the bit, results stored once."""

import json
from dataclasses import replace

import numpy as np
import pytest
from sqlalchemy import inspect, text

import proteron as pt
from conftest import fresh_database
from proteron.core.intake import TableReading
from proteron.core.judge import METRICS, Told, Yardsticks, compute_cell, expand, gather_losses, make_board
from proteron.core.panel import FILLED, Panel
from proteron.records import experiments, findings, projects, scans
from proteron.records import results as results_of
from proteron.records.database import ConflictError, Database, NotFoundError
from proteron.records.datasets import datasets_of, load_panel, save_dataset
from proteron.records.schema import downgrade, upgrade


@pytest.fixture
def database(database_url: str):
    opened = Database(database_url)
    yield opened
    opened.close()


def make_project(database: Database, name: str) -> int:
    with database.session() as session:
        projects.delete_project(session, name)
        return projects.create_project(session, name).id


def test_migrations_go_up_down_and_up(cluster_url: str) -> None:
    url = fresh_database(cluster_url, "migrations")
    upgrade(url)
    opened = Database(url)
    tables = set(inspect(opened.engine).get_table_names())
    assert {"project", "dataset", "series_block", "experiment", "cell", "forecast_block", "fit", "cell_loss"} <= tables
    assert set(inspect(opened.engine).get_view_names()) == {"observation", "forecast"}
    opened.close()
    downgrade(url)
    opened = Database(url)
    assert inspect(opened.engine).get_table_names() == ["alembic_version"]
    opened.close()
    upgrade(url)


def test_verdicts_and_scans_of_old_come_along(cluster_url: str) -> None:
    """A scan that was an experiment goes on as a scan, what was said of its flags stays with the data."""
    url = fresh_database(cluster_url, "migrated")
    upgrade(url, "0008")
    opened = Database(url)
    layout = {"start": "2024-01-01T00:00:00", "step": "1 hour", "zone": "UTC"}
    rows = [
        "INSERT INTO project (name, choices) VALUES ('p', '{}')",
        f"INSERT INTO dataset (project_id, version, name, hash, layout, account) "
        f"VALUES (1, 1, 'd', 'first', '{json.dumps(layout)}', '{{}}')",
        f"INSERT INTO dataset (project_id, parent_id, version, name, hash, layout, account) "
        f"VALUES (1, 1, 2, 'd', 'second', '{json.dumps(layout)}', '{{}}')",
        "INSERT INTO series (dataset_id, position, key, start, length) VALUES (2, 0, 'a', 0, 9), (2, 1, 'b', 0, 9)",
        "INSERT INTO experiment (project_id, dataset_id, purpose, name, document, state) "
        """VALUES (1, 2, 'judge', 'j', '{"baseline": "x"}', 'done'), """
        """(1, 2, 'scan', 's', '{"baseline": "ridge"}', 'done')""",
        "INSERT INTO anomaly_flag (experiment_id, series, start, stop, time, score, kind, verdict) VALUES "
        "(2, 1, 3, 5, '2024-01-01T03:00Z', 9, 'spike', 'confirmed'), "
        "(2, 0, 4, 5, '2024-01-01T04:00Z', 8, 'spike', 'dismissed'), (2, 0, 7, 8, '2024-01-01T07:00Z', 8, 'x', 'open')",
        """UPDATE project SET choices = '{"scan_id": 2, "experiment_id": 1}'""",
    ]
    with opened.session() as session:
        for row in rows:
            session.execute(text(row.replace(":", "\\:")))
    opened.close()
    upgrade(url)
    opened = Database(url)
    with opened.session() as session:
        (scan,) = scans.scans_of(session, 1)
        assert (scan.dataset_id, scan.experiment_id, scan.document["contender"], scan.series) == (2, 2, "ridge", 2)
        assert projects.get_project(session, 1).choices == {"scan_id": scan.id, "experiment_id": 1}
        panel = Panel.from_arrays({"a": np.zeros(9), "b": np.zeros(9)}, "2024-01-01", "1 hour")
        said = findings.said_of(session, scan, panel)
        assert [(each.key, each.start, each.stop, each.verdict) for each in said] == [
            ("b", 3, 4, "right"), ("a", 4, 5, "wrong"),
        ]  # fmt: skip
    opened.close()
    downgrade(url, "0008")
    upgrade(url)


def test_the_models_match_the_migrations(database: Database) -> None:
    from alembic.autogenerate import compare_metadata
    from alembic.migration import MigrationContext

    from proteron.records.models import Base

    with database.engine.connect() as connection:
        context = MigrationContext.configure(connection, opts={"compare_type": False})
        assert compare_metadata(context, Base.metadata) == []


def test_a_panel_comes_back_to_the_bit(database: Database, hourly: Panel) -> None:
    marks = np.zeros(len(hourly.values), np.uint8)
    marks[7] = FILLED
    long = np.sin(np.arange(150_000.0))  # more than two blocks
    panels = [
        Panel(hourly.axis, hourly.keys, hourly.values, hourly.offsets, hourly.starts, hourly.covariates, marks, "m³/h"),
        Panel.from_arrays({"a": long, "b": long[:5]}, "2020-02-29", "1 month", "Europe/Lisbon"),
    ]
    project = make_project(database, "bits")
    for version, panel in enumerate(panels, start=1):
        with database.session() as session:
            dataset = save_dataset(session, project, "d", TableReading(panel, (), {}))
            assert dataset.version == version
        with database.session() as session:
            loaded = load_panel(session, dataset.id)
        assert loaded.hash == panel.hash == dataset.hash
        assert loaded.values.tobytes() == panel.values.tobytes()
        assert loaded.marks.tolist() == panel.marks.tolist()
    with database.session() as session:
        again = save_dataset(session, project, "again", TableReading(panels[0], (), {}))
        assert again.version == 1  # the same content is the same dataset
        assert [d.parent_id is None for d in datasets_of(session, project)] == [True, False]


def test_the_observation_view_unrolls_times_and_values(database: Database) -> None:
    panel = Panel.from_arrays({"a": [1.5, np.nan, 3.5]}, "2024-03-30", "1 day", "Europe/Lisbon")
    project = make_project(database, "views")
    with database.session() as session:
        dataset = save_dataset(session, project, "d", TableReading(panel, (), {}))
        rows = session.execute(
            text("SELECT extract(epoch FROM time), value FROM observation WHERE dataset_id = :d ORDER BY time"),
            {"d": dataset.id},
        ).all()
    assert [float(row[0]) for row in rows] == panel.times("a").astype(int).tolist()
    assert [row[1] for row in rows] == [1.5, None, 3.5]


@pytest.mark.parametrize("step", ["business day of PT", "1 quarter", "15 min"])
def test_the_observation_view_tells_times_of_every_step(database: Database, step: str) -> None:
    values = {"a": np.arange(30.0), "b": np.arange(9.0)}
    starts = {"a": "2024-03-26 09:00", "b": "2024-03-26 09:00"}
    panel = Panel.from_arrays(values, starts, step, "Europe/Lisbon")
    late = Panel.from_arrays({"b": values["b"]}, {"b": panel.times("a")[3]}, step, "Europe/Lisbon")
    project = make_project(database, f"views of {step}")
    for each in (panel, late):
        with database.session() as session:
            number = save_dataset(session, project, "d", TableReading(each, (), {})).id
            query = (
                "SELECT series, extract(epoch FROM time), value FROM observation WHERE dataset_id = :d ORDER BY 1, 3"
            )
            rows = session.execute(text(query), {"d": number}).all()
        told = []
        for key in each.keys:
            times = each.times(key).astype(int).tolist()
            told += [(key, time, value) for time, value in zip(times, each.series(each.index(key)), strict=True)]
        assert [(key, int(time), value) for key, time, value in rows] == told


def stored_experiment(database: Database, panel: Panel, name: str, contenders: dict, **folds: int) -> tuple[int, list]:
    """A project with one experiment, nothing of it computed; its number and cells."""
    project = make_project(database, name)
    places = pt.Folds.expanding(**{"count": 2, "horizon": 6, **folds}).resolve(panel)
    with database.session() as session:
        dataset = save_dataset(session, project, "d", TableReading(panel, (), {}))
        cells = expand(panel, contenders, places, seed=project, dataset=dataset.hash)  # cells of its own
        return experiments.add_experiment(session, project, dataset.id, "judge", "x", {}, cells).id, cells


def test_results_are_stored_once_and_come_back_to_the_bit(database: Database, hourly: Panel) -> None:
    contenders = {
        "ridge": pt.forecaster("ridge", lags=[1, 24], chain=pt.Chain([pt.flatten.Log()])),
        "smoothing": pt.forecaster("smoothing", season=None),
    }
    number, cells = stored_experiment(database, hourly, "results", contenders)
    first = [cell for cell in cells if cell.name == "ridge"]
    results = [compute_cell(hourly, cell) for cell in cells[:2]]
    for _ in range(2):
        for result in results:
            with database.session() as session:
                results_of.save_result(session, result)
    with database.session() as session:
        assert not experiments.save_failure(session, cells[0].key, "too late")
        assert experiments.tally(session, number) == {"cells": 4, "done": 2, "failed": 0}
        assert [key for key, *_ in experiments.missing_cells(session, number)] == [cell.key for cell in cells[2:]]
        (loaded,) = results_of.load_results(session, number, ["ridge"], learned=True)
        (apart,) = results_of.load_results(session, number, ["ridge"], fold=0, series=1)
        assert results_of.load_results(session, number, ["ridge"], fold=1) == []
        assert results_of.load_cell(session, number, first[0].key) == first[0]
        count = session.scalar(text("SELECT count(*) FROM forecast WHERE experiment_id = :e"), {"e": number})
        view = session.execute(
            text("SELECT origin, step, mean FROM forecast WHERE experiment_id = :e AND contender = 'ridge' "
                 "AND series = 'north' ORDER BY step"), {"e": number},
        ).all()  # fmt: skip
    result = results[0]
    assert count == 2 * 2 * 6
    assert [(row[0], row[1]) for row in view] == [(float(first[0].place.cutoff), step) for step in range(1, 7)]
    np.testing.assert_array_equal([row[2] for row in view], result.mean[0, 0])
    assert apart.fit is None and loaded.fit is not None
    for each in (loaded, apart):
        for name in ("mean", "flat_mean", "flat_truth", "ranges", "spread", "origins"):
            assert getattr(each, name).tobytes() == getattr(result, name).tobytes(), name
    origins = np.array([cells[0].place.cutoff + 3])
    later = [each.fitted(hourly).means(hourly, origins, 6)[0] for each in (loaded, result)]
    assert later[0].tobytes() == later[1].tobytes()


def test_losses_come_back_as_they_were_and_the_board_is_the_same(database: Database, hourly: Panel) -> None:
    contenders = {"naive": pt.forecaster("seasonal_last_value", period=24), "mean": pt.forecaster("mean")}
    number, cells = stored_experiment(database, hourly, "losses", contenders, count=3, span=12)
    computed = [compute_cell(hourly, cell) for cell in cells]
    for result in computed[:-1]:
        with database.session() as session:
            results_of.save_result(session, result)
    folds = [cells[0].place, cells[2].place, cells[4].place]
    kept = gather_losses(computed[:-1], list(contenders), folds, 2)
    with database.session() as session:
        experiments.save_failure(session, cells[-1].key, "no memory")
        found = results_of.load_losses(session, number, ["mase", "crps", "coverage_95"], list(contenders), folds, 2)
        facts = results_of.entrant_facts(session, number, {"naive": "baseline", "mean": "baseline"}, range(3))
        last = results_of.entrant_facts(session, number, {"mean": "baseline"}, range(2, 3))
        tail = results_of.load_losses(session, number, ["mase"], ["naive"], folds[2:], 2, first=2)
    assert (last[0].cells, last[0].failed, last[0].failures[0].fold) == (0, 1, 0), "folds are numbered from the first"
    assert tail["mase"].values.tobytes() == kept["mase"].values[:1, 2:].tobytes()
    for metric, losses in found.items():
        assert losses.values.tobytes() == kept[metric].values.tobytes(), metric
    assert (facts[1].cells, facts[1].failed, facts[1].failures[0].reason) == (2, 1, "no memory")
    assert facts[0].seconds == pytest.approx(sum(r.seconds for r in computed if r.cell.name == "naive"))
    with database.session() as session:
        nothing = Told({}, Yardsticks(hourly, folds))
        lacking = nothing.lacking(METRICS)
        told = nothing.joined_by(results_of.load_losses(session, number, lacking, list(contenders), folds, 2))
    everything = make_board(told, facts, list(METRICS), "naive")
    same = make_board(Told(kept, Yardsticks(hourly, folds)), facts, list(METRICS), "naive")
    assert everything == same and all(value is not None for value in everything.row("mean").errors.values())
    board = make_board(found, facts, ["mase", "crps"], "naive")
    assert board.row("mean").reasons[0].text == "no memory"
    assert board.row("mean").reasons[0].folds == (2,)
    assert board.row("mean").skill_by_fold[2] is None


def test_a_failure_is_replaced_by_the_next_and_by_a_result(database: Database, hourly: Panel) -> None:
    number, cells = stored_experiment(database, hourly, "failures", {"m": pt.forecaster("mean")})
    key = cells[0].key
    for reason in ("out of memory", "took too long"):
        with database.session() as session:
            assert experiments.save_failure(session, key, reason)
            assert [each["reason"] for each in experiments.failures_of(session, number)] == [reason]
    with database.session() as session:
        experiments.try_again(session, number)
        assert experiments.tally(session, number) == {"cells": 2, "done": 0, "failed": 0}
        assert [each for each, *_ in experiments.missing_cells(session, number)] == [cells[0].key, cells[1].key]
        experiments.leave_as_failed(session, number)
        assert experiments.tally(session, number)["failed"] == 1
        experiments.try_again(session, number)
        assert results_of.save_result(session, compute_cell(hourly, cells[0]))
        assert experiments.cell_state(session, key) == "done"
        assert experiments.failures_of(session, number) == []


def test_stopping_one_experiment_leaves_what_another_is_trying_again(database: Database, hourly: Panel) -> None:
    entries = {"d": pt.forecaster("drift")}
    first, cells = stored_experiment(database, hourly, "stopped one", entries, count=1)
    with database.session() as session:
        made = experiments.get_experiment(session, first)
        second = experiments.add_experiment(session, made.project_id, made.dataset_id, "judge", "y", {}, cells).id
        experiments.save_failure(session, cells[0].key, "no luck")
        for number in (first, second):
            experiments.try_again(session, number)
            experiments.set_state(session, number, "running")
        experiments.leave_as_failed(session, first)
        experiments.set_state(session, first, "stopped")
        assert experiments.cell_state(session, cells[0].key) == "again"
        experiments.leave_as_failed(session, second)
        assert experiments.cell_state(session, cells[0].key) == "failed"
        assert [each["reason"] for each in experiments.failures_of(session, second)] == ["no luck"]


def test_cells_wait_for_those_they_need(database: Database, hourly: Panel) -> None:
    number, cells = stored_experiment(database, hourly, "needs", {"m": pt.forecaster("mean")}, count=1)
    (cell,) = cells
    second = replace(cell, name="blend", key="b" * 64, needs=(cell.key,))
    with database.session() as session:
        experiments.add_cells(session, number, [cell, second])
        assert [key for key, *_ in experiments.missing_cells(session, number)] == [cell.key]
        experiments.save_failure(session, cell.key, "no")
        assert [key for key, *_ in experiments.missing_cells(session, number, dependent_only=True)] == [second.key]
        experiments.try_again(session, number)
        assert experiments.missing_cells(session, number, dependent_only=True) == []


def test_declined_series_are_told_with_their_reason(database: Database, hourly: Panel) -> None:
    short = Panel.from_arrays(
        {"long": hourly["north"][300:500], "short": [np.nan] * 198 + [1.0, 2.0]}, "2024-01-01", "1h"
    )
    number, cells = stored_experiment(database, short, "declined", {"curve": pt.forecaster("trend_curve")}, count=1)
    with database.session() as session:
        results_of.save_result(session, compute_cell(short, cells[0]))
        (failure,) = experiments.failures_of(session, number)
        assert (failure["contender"], failure["fold"], failure["series"]) == ("curve", 0, "short")
        assert "known point" in failure["reason"]
        assert experiments.tally(session, number)["done"] == 1


def test_missing_and_taken_things_are_clear(database: Database) -> None:
    make_project(database, "taken")
    with pytest.raises(ConflictError, match="already"), database.session() as session:
        projects.create_project(session, "taken")
    for ask in (projects.get_project, load_panel, experiments.get_experiment):
        with pytest.raises(NotFoundError), database.session() as session:
            ask(session, 10**9)
