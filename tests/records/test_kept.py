"""What a project keeps: choices, chains, outlooks, and what is told of them."""

import json

import numpy as np
import psycopg
import pytest
from sqlalchemy.orm import Session

from proteron.core.experiment import Judging
from proteron.core.intake import TableReading
from proteron.core.panel import Panel
from proteron.records import chains, experiments, outlooks, projects
from proteron.records.copies import copy_kept
from proteron.records.database import ConflictError, Database, NotFoundError
from proteron.records.datasets import datasets_of, save_dataset
from proteron.services import experiments as rules

PANEL = Panel.from_arrays({key: 50 + np.arange(60.0) for key in "ab"}, "2024-01-01", "1 hour")
JUDGING = Judging.parse({"contenders": [{"name": "last", "forecaster": {"kind": "last_value"}}],
                         "folds": {"count": 2, "horizon": 3}})  # fmt: skip


@pytest.fixture
def project(session: Session, request: pytest.FixtureRequest) -> int:
    projects.delete_project(session, request.node.name)
    return projects.create_project(session, request.node.name).id


@pytest.fixture
def dataset(session: Session, project: int) -> int:
    return save_dataset(session, project, "d", TableReading(PANEL, (), {})).id


@pytest.fixture
def experiment(session: Session, project: int, dataset: int) -> int:
    return rules.create(session, PANEL, project, dataset, "judge", "s", JUDGING).id


def test_a_choice_stays_until_it_is_changed_or_taken_back(session: Session, project: int, dataset: int) -> None:
    later = save_dataset(session, project, "d", TableReading(PANEL.cut_at(50), (), {})).id
    both = {"dataset_id": dataset, "plan": {"lags": [1]}}
    assert projects.choose(session, project, both) == both
    assert projects.choose(session, project, {"dataset_id": later})["plan"] == {"lags": [1]}
    assert projects.choose(session, project, {"plan": None}) == {"dataset_id": later}
    assert projects.choose(session, project, {}) == {"dataset_id": later}
    with pytest.raises(NotFoundError, match="no project 99999999"):
        projects.choose(session, 99_999_999, {"plan": None})
    with pytest.raises(ConflictError, match="already"):
        projects.create_project(session, projects.get_project(session, project).name)
    other = projects.create_project(session, "another for choices").id
    for name, number in (("dataset_id", dataset), ("dataset_id", 99_999_999), ("experiment_id", 99_999_999)):
        with pytest.raises(NotFoundError, match="in this project"):
            projects.choose(session, other, {name: number})


def test_chains_and_plans_are_kept_by_name_within_their_project(session: Session, project: int) -> None:
    one = chains.save(session, project, "chains", "b", {"stages": [1]})
    chains.save(session, project, "chains", "a", {"stages": [2]})
    chains.save(session, project, "plans", "b", {"lags": [1]})
    again = chains.save(session, project, "chains", "b", {"stages": [3]})
    assert (again.id, again.revision) == (one.id, 2)
    assert chains.save(session, project, "chains", "b", {"stages": [3]}).revision == 2  # nothing is changed by it
    assert [(each.name, each.document) for each in chains.saved_of(session, project, "chains")] == [
        ("a", {"stages": [2]}), ("b", {"stages": [3]}),
    ]  # fmt: skip
    assert [each.document for each in chains.saved_of(session, project, "plans")] == [{"lags": [1]}]
    other = projects.create_project(session, "another for chains").id
    assert chains.saved_of(session, other, "chains") == []


def test_the_same_fitted_chain_is_one_record_whatever_it_is_called(
    session: Session, project: int, dataset: int
) -> None:
    document = {"fitted": {"until": 5}, "dataset": "h", "name": "in the file"}
    first = chains.store_fitted_chain(session, dataset, "mine", document)
    again = chains.store_fitted_chain(session, dataset, "", document)
    assert (again.id, again.name) == (first.id, "in the file")
    other = chains.store_fitted_chain(session, dataset, "", {"fitted": {"until": 6}, "dataset": "h"})
    assert (other.id != first.id, other.name) == (True, "chain")
    later = save_dataset(session, project, "d", TableReading(PANEL.cut_at(50), (), {})).id
    assert chains.store_fitted_chain(session, later, "x", document).id != first.id, "kept with its dataset's version"
    assert [each.id for each in chains.fitted_chains(session, dataset)] == [other.id, first.id], "the newest first"
    with pytest.raises(NotFoundError, match="no fitted chain"):
        chains.get_fitted_chain(session, 99_999_999)


def test_versions_count_up_within_a_project(session: Session, project: int, dataset: int) -> None:
    second = save_dataset(session, project, "d", TableReading(PANEL.cut_at(40), (), {}), parent_id=dataset)
    other = save_dataset(session, project, "e", TableReading(PANEL.cut_at(30), (), {}))
    same = save_dataset(session, project, "f", TableReading(PANEL.cut_at(40), (), {}))
    found = {each.id: (each.name, each.version, each.parent_id) for each in datasets_of(session, project)}
    assert found[dataset] == ("d", 1, None)
    assert found[second.id] == ("d", 2, dataset)
    assert found[other.id] == ("e", 3, second.id), "made after the last, whatever it is called"
    assert same.id == second.id, "what is there already is not stored again"
    apart = projects.create_project(session, "versions apart").id
    assert save_dataset(session, apart, "d", TableReading(PANEL, (), {})).version == 1


def test_paths_of_an_outlook_are_read_series_by_series_and_go_into_copies(
    session: Session, project: int, experiment: int
) -> None:
    record = outlooks.add_outlook(session, experiments.get_experiment(session, experiment), {"contender": "last"})
    record.state = "done"
    paths = np.arange(24.0).reshape(4, 2, 3)
    for given in (paths + 1, paths):  # the later in the place of the earlier
        outlooks.keep_paths(session, record.id, given)
    assert np.array_equal(outlooks.paths_of(session, record.id, 3), paths)
    assert np.array_equal(outlooks.paths_of(session, record.id, 3, series=1), paths[:, [1]])
    assert not outlooks.paths_of(session, 0, 3).size
    copied = copy_kept(session, "projects", project, "as it was")
    (theirs,) = outlooks.outlooks_of(session, copied.id)
    assert theirs.id != record.id and np.array_equal(outlooks.paths_of(session, theirs.id, 3), paths)


def test_an_outlook_is_finished_once_and_listed_newest_first(session: Session, project: int, experiment: int) -> None:
    judged = experiments.get_experiment(session, experiment)
    made = [outlooks.add_outlook(session, judged, {"contender": "last"}).id for _ in range(2)]
    assert outlooks.state_of(session, outlooks.add_outlook(session, judged, {}, of_id=made[0]).id) == (
        "queued",
        made[0],
    )
    outlooks.finish_outlook(session, made[0], "done", b"arrays")
    done = outlooks.get_outlook(session, made[0])
    assert (done.state, done.reason, done.arrays) == ("done", None, b"arrays")
    assert done.finished is not None
    outlooks.finish_outlook(session, made[1], "failed", reason="Too short.")
    failed = outlooks.get_outlook(session, made[1])
    assert (failed.state, failed.reason, failed.arrays) == ("failed", "Too short.", None)
    outlooks.finish_outlook(session, made[1], "queued")
    assert outlooks.get_outlook(session, made[1]).finished is None
    assert [each.id for each in outlooks.outlooks_of(session, project)] == made[::-1]
    for look in (outlooks.get_outlook, outlooks.state_of):
        with pytest.raises(NotFoundError, match="no outlook"):
            look(session, 99_999_999)
    assert not outlooks.tell_share(session, 99_999_999, 0.5)


def test_states_have_their_times_and_are_told_to_whoever_listens(database_url: str) -> None:
    """What changes is heard once it is committed, with project, experiment and state."""
    opened = Database(database_url)
    with opened.session() as session:
        projects.delete_project(session, "heard")
        project = projects.create_project(session, "heard").id
        dataset = save_dataset(session, project, "d", TableReading(PANEL, (), {})).id
        made = rules.create(session, PANEL, project, dataset, "judge", "x", JUDGING).id
    with psycopg.connect(database_url, autocommit=True) as ear:
        ear.execute("LISTEN proteron")
        for state in ("queued", "running", "stopped", "running", "failed", "done"):
            with opened.session() as session:
                experiment = experiments.set_state(session, made, state, "why" if state == "failed" else None)
                assert (experiment.finished is not None) == (state in ("done", "failed", "stopped"))
                assert experiment.reason == ("why" if state == "failed" else None)
                assert (experiment.started is not None) or state == "queued"
        with opened.session() as session:
            experiments.tell_cell(session, made)
        heard = [json.loads(each.payload) for each in ear.notifies(timeout=5, stop_after=7)]
    assert [each.get("state") for each in heard] == ["queued", "running", "stopped", "running", "failed", "done", None]
    assert {(each["project"], each["experiment"]) for each in heard} == {(project, made)}
    assert heard[-1]["cell"] is True
    opened.close()


def test_cells_are_counted_by_their_state(session: Session, project: int, dataset: int) -> None:
    made = rules.create(session, PANEL, project, dataset, "judge", "counted", JUDGING)
    other = rules.create(session, PANEL, project, dataset, "judge", "another", JUDGING)
    keys = [cell.key for cell in JUDGING.cells(PANEL)]
    assert experiments.tally(session, made.id) == {"cells": 2, "done": 0, "failed": 0}
    experiments.save_failure(session, keys[0], "It broke.")
    assert experiments.tallies(session, [made.id, other.id, 99_999_999]) == {
        made.id: {"cells": 2, "done": 0, "failed": 1}, other.id: {"cells": 2, "done": 0, "failed": 1},
        99_999_999: {"cells": 0, "done": 0, "failed": 0},
    }  # fmt: skip
    assert [row["reason"] for row in experiments.failures_of(session, made.id)] == ["It broke."]
    experiments.try_again(session, made.id)
    assert experiments.tally(session, made.id)["failed"] == 0, "what is tried again is neither done nor failed"
    assert {key for key, *_ in experiments.missing_cells(session, made.id)} == set(keys)
    experiments.set_state(session, other.id, "running")
    experiments.leave_as_failed(session, made.id)
    assert experiments.tally(session, made.id)["failed"] == 0, "another is at it"
    experiments.set_state(session, other.id, "stopped")
    experiments.leave_as_failed(session, made.id)
    assert experiments.tally(session, made.id)["failed"] == 1
    assert [key for key, *_ in experiments.missing_cells(session, made.id)] == [keys[1]]
