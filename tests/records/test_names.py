"""What has a name: renamed, copied, deleted, restored, and removed for good; by whom of two that act at once."""

from datetime import UTC, datetime, timedelta

import pytest
from sqlalchemy import func, select
from sqlalchemy.orm import Session
from test_kept import JUDGING, PANEL

from proteron.core.intake import TableReading
from proteron.core.panel import Panel
from proteron.records import chains, experiments, kept, outlooks, projects
from proteron.records.copies import copy_kept
from proteron.records.database import ConflictError, NotFoundError
from proteron.records.datasets import datasets_of, load_panel, save_dataset
from proteron.records.models import (
    CellRecord,
    ContenderRecord,
    Dataset,
    Experiment,
    PanelProfile,
    Project,
    Saved,
    SeriesFeature,
)
from proteron.records.outlooks import add_outlook
from proteron.services import experiments as rules


@pytest.fixture
def project(session: Session) -> int:
    return projects.create_project(session, "names").id


def reading(panel: Panel = PANEL) -> TableReading:
    return TableReading(panel, (), {})


def judged(session: Session, project: int, dataset: int, purpose: str = "judge") -> Experiment:
    return rules.create(session, PANEL, project, dataset, purpose, "e", JUDGING)


def test_a_name_is_changed_once_it_is_free(session: Session, project: int) -> None:
    other = projects.create_project(session, "taken").id
    with pytest.raises(ConflictError, match="“taken” already"):
        kept.rename(session, "projects", project, " taken ")
    assert kept.rename(session, "projects", project, " new ").name == "new"
    kept.delete_kept(session, "projects", other)
    assert kept.rename(session, "projects", project, "taken").revision == 3
    assert kept.rename(session, "projects", project, "taken").revision == 3  # no change
    for bad in (" ", "x" * 201):
        with pytest.raises(Exception, match="1 to 200"):
            kept.rename(session, "projects", project, bad)
    chain = chains.save(session, project, "chains", "c", {})
    chains.save(session, project, "plans", "p", {})
    assert kept.rename(session, "chains", chain.id, "p").name == "p"  # a plan is called so, but no chain
    with pytest.raises(NotFoundError, match="no saved plan"):
        kept.rename(session, "plans", chain.id, "q")


def test_who_knows_an_older_revision_is_told_what_changed_since(session: Session, project: int) -> None:
    dataset = save_dataset(session, project, "d", reading())
    seen = projects.get_project(session, project).revision
    projects.choose(session, project, {"dataset_id": dataset.id, "plan": {"lags": [1]}}, known=seen)
    projects.choose(session, project, {"dataset_id": dataset.id})  # no change: nobody's knowledge is old
    with pytest.raises(kept.ChangedError, match="dataset_id, plan") as caught:
        projects.choose(session, project, {"plan": {"lags": [2]}}, known=seen)
    assert caught.value.changed == {"dataset_id": dataset.id, "plan": {"lags": [1]}}
    known = projects.get_project(session, project).revision
    kept.rename(session, "projects", project, "other")
    with pytest.raises(kept.ChangedError) as caught:
        kept.delete_kept(session, "projects", project, known=known)
    assert caught.value.changed == {"name": "other"}
    kept.rename(session, "datasets", dataset.id, "mine", known=1)
    with pytest.raises(kept.ChangedError, match="“mine” was changed meanwhile: name"):
        kept.rename(session, "datasets", dataset.id, "yours", known=1)


def test_what_is_deleted_is_hidden_with_what_belongs_to_it_and_comes_back(session: Session, project: int) -> None:
    first = save_dataset(session, project, "d", reading())
    second = save_dataset(session, project, "d", reading(PANEL.cut_at(50)))
    experiment = judged(session, project, second.id)
    outlook = add_outlook(session, experiment, {})
    chosen = {"dataset_id": second.id, "experiment_id": experiment.id, "outlook_id": outlook.id}
    projects.choose(session, project, chosen)

    kept.delete_kept(session, "datasets", second.id)
    assert [each.id for each in datasets_of(session, project)] == [first.id]
    assert experiments.experiments_of(session, project) == outlooks.outlooks_of(session, project) == []
    assert projects.get_project(session, project).choices == {"dataset_id": first.id}  # the last that is there
    for named in ({"dataset_id": second.id}, {"experiment_id": experiment.id}, {"outlook_id": outlook.id}):
        with pytest.raises(NotFoundError, match="“d” is deleted; it can be restored until 20"):
            kept.require_present(session, named)
    with pytest.raises(NotFoundError, match="is deleted"):
        projects.choose(session, project, {"dataset_id": second.id})
    with pytest.raises(NotFoundError, match="is deleted"):
        judged(session, project, second.id)
    assert [(kind, record.id) for kind, record in kept.deleted_in(session, project)] == [("datasets", second.id)]

    kept.restore(session, "datasets", second.id)
    kept.require_present(session, {"outlook_id": outlook.id, "experiment_id": experiment.id, "series": 0})
    assert projects.get_project(session, project).choices == chosen
    with pytest.raises(ConflictError, match="is not deleted"):
        kept.restore(session, "datasets", second.id)

    kept.delete_kept(session, "experiments", experiment.id)
    assert projects.get_project(session, project).choices == {"dataset_id": second.id}
    kept.delete_kept(session, "datasets", first.id)
    assert [record.id for _, record in kept.deleted_in(session, project)] == [first.id, experiment.id]  # the last first
    kept.delete_kept(session, "datasets", second.id)
    kept.restore(session, "experiments", experiment.id)
    assert projects.get_project(session, project).choices == {}  # it is not to be seen without its data
    kept.restore(session, "datasets", second.id)
    assert projects.get_project(session, project).choices == {"dataset_id": second.id}


def test_a_name_given_away_meanwhile_is_numbered(session: Session, project: int) -> None:
    first = chains.save(session, project, "chains", "c", {"stages": [1]})
    kept.delete_kept(session, "chains", first.id)
    assert chains.save(session, project, "chains", "c", {"stages": [2]}).id != first.id
    assert kept.restore(session, "chains", first.id).name == "c 2"
    assert [copy_kept(session, "chains", first.id, None).name for _ in range(2)] == ["c 2 copy", "c 2 copy 2"]


def test_the_same_content_again_takes_a_deletion_back(session: Session, project: int) -> None:
    first = save_dataset(session, project, "d", reading())
    kept.delete_kept(session, "datasets", first.id)
    later = save_dataset(session, project, "d", reading(PANEL.cut_at(50)))
    assert (later.version, later.parent_id) == (2, None)  # a number is never used twice
    assert save_dataset(session, project, "d", reading()).id == first.id
    assert [each.version for each in datasets_of(session, project)] == [1, 2]


def test_a_copy_of_a_dataset_is_a_version_of_its_own(session: Session, project: int) -> None:
    first = save_dataset(session, project, "d", reading())
    copy = copy_kept(session, "datasets", first.id, "mine")
    assert (copy.version, copy.parent_id, copy.name, copy.hash) == (2, first.id, "mine", first.hash)
    assert load_panel(session, copy.id).hash == PANEL.hash
    profiles = [PanelProfile(dataset_id=first.id, until=until, version=1, series=2, state=state)
                for until, state in ((60, "done"), (50, "running"))]  # fmt: skip
    session.add_all(profiles)
    session.flush()
    session.add(SeriesFeature(profile_id=profiles[0].id, series=1, features={"mean": 79.5}))
    chains.store_fitted_chain(session, first.id, "kept", {"fitted": {"until": 5}, "dataset": first.hash})
    again = copy_kept(session, "datasets", first.id, None)
    (its,) = session.scalars(select(PanelProfile).where(PanelProfile.dataset_id == again.id)).all()
    assert (its.until, its.state) == (60, "done")  # one that is being made is not there yet
    features = session.scalars(select(SeriesFeature).where(SeriesFeature.profile_id == its.id)).all()
    assert [(each.series, each.features) for each in features] == [(1, {"mean": 79.5})]
    assert [each.name for each in chains.fitted_chains(session, again.id)] == ["kept"]
    assert session.get_one(PanelProfile, profiles[0].id).dataset_id == first.id  # and the first has its own
    other = projects.create_project(session, "elsewhere").id
    moved = copy_kept(session, "datasets", first.id, None, into=other)
    assert (moved.project_id, moved.version, moved.parent_id, moved.name) == (other, 1, None, "d copy")
    kept.delete_kept(session, "projects", other)
    with pytest.raises(NotFoundError, match="is deleted"):
        copy_kept(session, "datasets", first.id, None, into=other)


def test_a_copy_of_an_experiment_shares_what_its_cells_found(session: Session, project: int) -> None:
    dataset = save_dataset(session, project, "d", reading())
    experiment = judged(session, project, dataset.id)
    session.query(CellRecord).update({"state": "done"})
    experiments.set_state(session, experiment.id, "running")
    copy = copy_kept(session, "experiments", experiment.id, None)
    assert (copy.name, copy.state, copy.project_id) == ("e copy", "stopped", project)
    assert experiments.tally(session, copy.id) == experiments.tally(session, experiment.id)
    assert experiments.tally(session, copy.id)["done"] == 2
    experiments.set_state(session, experiment.id, "done")
    assert copy_kept(session, "experiments", experiment.id, "again").state == "done"


def test_a_copy_of_a_project_stands_on_its_own(session: Session, project: int) -> None:
    gone = save_dataset(session, project, "gone", reading(PANEL.cut_at(40)))
    dataset = save_dataset(session, project, "d", reading())
    later = save_dataset(session, project, "d", reading(PANEL.cut_at(50)), parent_id=dataset.id)
    mine = judged(session, project, dataset.id)
    judged(session, project, gone.id)
    outlook = add_outlook(session, mine, {"contender": "last"})
    outlook.state = "done"
    chains.save(session, project, "plans", "p", {"lags": [1]})
    projects.choose(session, project, {"dataset_id": later.id, "experiment_id": mine.id})
    kept.delete_kept(session, "datasets", gone.id)

    copy = copy_kept(session, "projects", project, None)
    assert copy.name == "names copy"
    versions = datasets_of(session, copy.id)
    assert [(each.version, each.name) for each in versions] == [(2, "d"), (3, "d")]
    assert versions[1].parent_id == versions[0].id
    (its,) = experiments.experiments_of(session, copy.id)
    assert its.dataset_id == versions[0].id
    assert [each.experiment_id for each in outlooks.outlooks_of(session, copy.id)] == [its.id]
    assert copy.choices == {"dataset_id": versions[1].id, "experiment_id": its.id}
    assert [each.name for each in chains.saved_of(session, copy.id, "plans")] == ["p"]
    kept.delete_kept(session, "projects", project)
    kept.require_present(session, {"dataset_id": versions[0].id, "experiment_id": its.id})


def test_what_was_deleted_long_ago_is_removed_with_what_nothing_holds_any_more(session: Session, project: int) -> None:
    first = save_dataset(session, project, "d", reading())
    middle = save_dataset(session, project, "d", reading(PANEL.cut_at(50)))
    other = save_dataset(session, project, "d", reading(PANEL.cut_at(45)))  # deleted as well, one after the other
    last = save_dataset(session, project, "d", reading(PANEL.cut_at(40)))
    shared, alone = judged(session, project, first.id), judged(session, project, middle.id)
    saved = chains.save(session, project, "chains", "c", {})
    cells = {each: set(session.scalars(select(experiments.ExperimentCell.key).where(
        experiments.ExperimentCell.experiment_id == each.id))) for each in (shared, alone)}  # fmt: skip
    kept.delete_kept(session, "datasets", middle.id)
    kept.delete_kept(session, "datasets", other.id)
    kept.delete_kept(session, "chains", saved.id)
    soon = datetime.now(UTC) + timedelta(days=kept.KEPT_DAYS)
    kept.purge(session, soon - timedelta(minutes=1))  # other tests may have deleted something before
    assert session.get(Dataset, middle.id) is not None
    numbers = alone.id, saved.id
    assert kept.purge(session, soon + timedelta(minutes=1)) >= 3
    session.expire_all()
    assert session.get(Dataset, middle.id) is None
    assert session.get(Experiment, numbers[0]) is None
    assert session.get(Saved, numbers[1]) is None
    assert session.get_one(Dataset, last.id).parent_id == first.id  # its own parent takes the place
    assert set(session.scalars(select(CellRecord.key))) >= cells[shared]
    assert not cells[alone] & set(session.scalars(select(CellRecord.key)))
    assert session.scalar(select(func.count()).select_from(ContenderRecord)) >= 1
    kept.delete_kept(session, "projects", project)
    kept.purge(session, soon + timedelta(days=1))
    assert session.scalar(select(func.count()).where(Project.id == project)) == 0
