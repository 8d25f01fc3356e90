"""The features of a panel as a piece of work: cut into jobs of a few seconds."""

from typing import Any

from sqlalchemy.orm import Session

from proteron.core.profile.features import VERSION, series_features
from proteron.records import chains as records
from proteron.records.database import Database
from proteron.records.datasets import get_dataset
from proteron.records.models import PanelProfile
from proteron.runner.queue import Queue

_POINTS_PER_JOB = 60_000
_MOST_PER_JOB = 60
_KEPT = 8


def start_features(database: Database, queue: Queue, dataset_id: int, until: int, series: int) -> None:
    """Compute, or continue to compute, the features of every series as of `until`."""
    with database.session() as session:
        records.forget_profiles(session, dataset_id, keep=_KEPT)
        number = records.begin_profile(session, dataset_id, until, VERSION, series).id
    # Only what is committed can be found by the worker that takes a job.
    with database.session() as session:
        profile = records.get_profile(session, number)
        if profile.state == "running":
            enqueue_features(session, queue, profile)


def enqueue_features(session: Session, queue: Queue, profile: PanelProfile) -> None:
    """Queue jobs for the series that have no features yet."""
    points = get_dataset(session, profile.dataset_id).layout["points"]
    size = max(1, min(_MOST_PER_JOB, int(_POINTS_PER_JOB * profile.series / max(points, 1))))
    missing = records.missing_series(session, profile)
    groups: dict[int, list[int]] = {}
    for series in missing:
        groups.setdefault(series // size, []).append(series)
    for of_job in groups.values():
        queue.defer_features(profile.id, of_job)


def compute_features(here: Any, profile_id: int, series: list[int]) -> None:
    """Features of `series`, stored in one transaction; stops between series when the profile is stopped."""
    rows = []
    with here.database.session() as session:
        profile = records.get_profile(session, profile_id)
        panel = here.panels.get(session, profile.dataset_id).cut_at(profile.until)
        left = set(records.missing_series(session, profile)) if profile.state == "running" else set()
    for at in series:
        if at not in left:
            continue
        rows.append((at, series_features(panel, at).document()))
        if len(rows) % 10 == 0:
            with here.database.session() as session:
                if records.get_profile(session, profile_id).state != "running":
                    break
    if rows:
        with here.database.session() as session:
            records.store_features(session, profile_id, rows)
