"""Features of panels in the records: begun once, gone on with, complete only when every series is there."""

import numpy as np
import pytest
from sqlalchemy import text
from sqlalchemy.orm import Session

from proteron.core.intake import TableReading
from proteron.core.panel import Panel
from proteron.records import profiles
from proteron.records.database import NotFoundError
from proteron.records.datasets import save_dataset
from proteron.records.models import PanelProfile
from proteron.records.projects import create_project, delete_project


@pytest.fixture
def dataset(session: Session) -> int:
    delete_project(session, "features kept")
    project = create_project(session, "features kept").id
    panel = Panel.from_arrays({key: np.arange(30.0) for key in "abc"}, "2024-01-01", "1 day")
    return save_dataset(session, project, "d", TableReading(panel, (), {})).id


def begun(session: Session, dataset: int, until: int = 20) -> PanelProfile:
    return profiles.begin_profile(session, dataset, until, 1, 3)


def test_features_are_begun_once_and_done_when_every_series_is_there(session: Session, dataset: int) -> None:
    first = begun(session, dataset)
    assert (first.state, profiles.missing_series(session, first)) == ("running", [0, 1, 2])
    assert begun(session, dataset).id == first.id
    profiles.store_features(session, first.id, [(1, {"trend": 0.5})])
    profiles.store_features(session, first.id, [(1, {"trend": 9.9}), (2, {"trend": 0.1})])  # told twice, kept once
    assert (first.state, profiles.missing_series(session, first)) == ("running", [0])
    profiles.store_features(session, first.id, [(0, {"trend": 0.2})])
    assert first.state == "done"
    assert [each.features["trend"] for each in profiles.features_of(session, first.id)] == [0.2, 0.5, 0.1]
    profiles.end_profile(session, first.id, "failed", "too late")
    assert (first.state, first.reason) == ("done", None)
    assert begun(session, dataset).state == "done"


@pytest.mark.parametrize(("state", "reason"), [("stopped", None), ("failed", "no memory")])
def test_what_was_stopped_or_failed_keeps_what_it_has_and_goes_on(
    session: Session, dataset: int, state: str, reason: str | None
) -> None:
    made = begun(session, dataset)
    profiles.store_features(session, made.id, [(0, {})])
    profiles.end_profile(session, made.id, state, reason)
    assert (made.state, made.reason) == (state, reason)
    profiles.store_features(session, made.id, [(1, {}), (2, {})])  # what was under way is kept, and completes nothing
    assert made.state == state
    again = begun(session, dataset)
    assert (again.id, again.state, again.reason) == (made.id, "running", None)


def test_features_are_found_by_cutoff_or_the_last_ones_and_old_ones_are_dropped(session: Session, dataset: int) -> None:
    made = [begun(session, dataset, until) for until in (10, 12, 14, 16)]
    for each in made[:3]:
        for series in range(3):
            profiles.store_features(session, each.id, [(series, {})])
    found = profiles.find_profile
    assert found(session, dataset, 12, 1) is made[1]
    assert found(session, dataset, None, 1) is made[3]
    assert found(session, dataset, 11, 1) is None and found(session, dataset, 12, 2) is None
    profiles.forget_profiles(session, dataset, keep=1)
    left = session.execute(text("SELECT until FROM panel_profile WHERE dataset_id = :d ORDER BY 1"), {"d": dataset})
    assert [until for (until,) in left] == [14, 16]  # one that is running is never dropped
    with pytest.raises(NotFoundError):
        profiles.get_profile(session, 10**9)
