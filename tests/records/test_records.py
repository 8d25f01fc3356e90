"""Records on a real PostgreSQL: migrations, panels to the bit, results stored once."""

import numpy as np
import pytest
from sqlalchemy import inspect, text

import proteron as pt
from conftest import fresh_database
from proteron.core.intake import TableReading
from proteron.core.judge import compute_cell, expand
from proteron.core.panel import FILLED, Panel
from proteron.records import experiments, projects
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
    assert {"project", "dataset", "series_block", "experiment", "cell", "forecast_block"} <= tables
    assert set(inspect(opened.engine).get_view_names()) == {"observation", "forecast", "flag"}
    opened.close()
    downgrade(url)
    opened = Database(url)
    assert inspect(opened.engine).get_table_names() == ["alembic_version"]
    opened.close()
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


def test_results_are_stored_once_and_come_back_to_the_bit(database: Database, hourly: Panel) -> None:
    project = make_project(database, "results")
    contenders = {"ridge": pt.forecaster("ridge", lags=[1, 24], chain=pt.Chain([pt.flatten.Log()]))}
    cells = expand(hourly, contenders, pt.Folds.expanding(count=2, horizon=6).resolve(hourly), seed=1)
    with database.session() as session:
        dataset = save_dataset(session, project, "d", TableReading(hourly, (), {}))
        stored = experiments.add_experiment(session, project, dataset.id, "judge", "x", {}, cells)
    assert isinstance(stored.id, int)
    result = compute_cell(hourly, cells[0])
    for _ in range(2):
        with database.session() as session:
            experiments.save_result(session, result)
    with database.session() as session:
        experiments.save_failure(session, cells[0].key, "too late")
        assert experiments.tally(session, stored.id) == {"cells": 2, "done": 1, "failed": 0}
        assert experiments.missing_keys(session, stored.id) == [cells[1].key]
        (loaded,) = experiments.load_results(session, cells)
        count = session.scalar(text("SELECT count(*) FROM forecast WHERE experiment_id = :e"), {"e": stored.id})
    assert count == 2 * 6
    for name in ("mean", "flat_mean", "flat_truth", "ranges", "scale", "spread"):
        assert getattr(loaded, name).tobytes() == getattr(result, name).tobytes()
    origins = np.array([cells[0].place.cutoff])
    assert (
        loaded.fitted(hourly).means(hourly, origins, 6)[0].tobytes()
        == result.fitted(hourly).means(hourly, origins, 6)[0].tobytes()
    )


def test_a_failed_cell_may_be_replaced_by_a_result(database: Database, hourly: Panel) -> None:
    cell = expand(hourly, {"m": pt.forecaster("mean")}, pt.Folds.expanding(count=1, horizon=3).resolve(hourly), seed=9)[
        0
    ]
    with database.session() as session:
        experiments.save_failure(session, cell.key, "out of memory")
    with database.session() as session:
        experiments.save_result(session, compute_cell(hourly, cell))
        assert experiments.has_result(session, cell.key)


def test_missing_and_taken_things_are_clear(database: Database) -> None:
    make_project(database, "taken")
    with pytest.raises(ConflictError, match="already"), database.session() as session:
        projects.create_project(session, "taken")
    for ask in (projects.get_project, load_panel, experiments.get_experiment):
        with pytest.raises(NotFoundError), database.session() as session:
            ask(session, 10**9)
