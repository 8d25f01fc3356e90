"""The features of a panel, cut into jobs of a few seconds."""

from typing import TYPE_CHECKING, Any, ClassVar

from sqlalchemy import select
from sqlalchemy.orm import Session

from proteron.records import profiles as records
from proteron.records.models import Dataset, PanelProfile
from proteron.runner.queue import Queue, jobs_of
from proteron.runner.work.kind import Job, LongWork, Running

if TYPE_CHECKING:
    from proteron.runner.child import Here

_POINTS_PER_JOB = 60_000
_MOST_PER_JOB = 60
_AT_ONCE = 10


class FeatureWork(LongWork):
    """A job is a profile and some of its series; they are computed ten at a time."""

    task: ClassVar[str] = "profile_series"

    def steps(self, job: Job) -> list[Any]:
        series = job["series"]
        return [series[at : at + _AT_ONCE] for at in range(0, len(series), _AT_ONCE)]

    def parts(self, step: list[int]) -> list[Any]:
        return [[each] for each in step]

    def run(self, here: "type[Here]", step: list[int], job: Job) -> str:
        """Features of some series, stored in one transaction; a problem is the reason the whole is not complete."""
        from proteron.core.profile.features import series_features

        with here.database.session() as session:
            profile = records.get_profile(session, job["profile_id"])
            if profile.state != "running":
                return "stopped"
            panel = here.panels.get(session, profile.dataset_id).cut_at(profile.until)
            left = set(records.missing_series(session, profile))
        rows = [(at, series_features(panel, at).document()) for at in step if at in left]
        with here.database.session() as session:
            records.store_features(session, job["profile_id"], rows)
        return "done"

    def give_up(self, here: "type[Here]", step: Any, reason: str, job: Job) -> None:
        with here.database.session() as session:
            records.end_profile(session, job["profile_id"], "failed", reason)

    def wanted(self, session: Session, job: Job) -> bool:
        query = select(PanelProfile.state).where(PanelProfile.id == job["profile_id"])
        return session.scalar(query) == "running"

    def lost(self, session: Session, queue: Queue) -> None:
        """Features that no job stands for any more are queued again."""
        busy = jobs_of(session, self.task, "profile_id")
        for profile in session.scalars(select(PanelProfile).where(PanelProfile.state == "running")):
            if profile.id not in busy:
                enqueue_features(session, queue, profile)

    def running(self, session: Session, project_id: int) -> list[Running]:
        query = (
            select(PanelProfile)
            .join(Dataset, Dataset.id == PanelProfile.dataset_id)
            .where(Dataset.project_id == project_id, PanelProfile.state == "running")
        )
        return [
            Running("features", each.dataset_id, "features of all series",
                    each.series - len(records.missing_series(session, each)), each.series)
            for each in session.scalars(query)
        ]  # fmt: skip


def enqueue_features(session: Session, queue: Queue, profile: PanelProfile) -> None:
    """Queue jobs for the series that have no features yet."""
    from proteron.records.datasets import get_dataset

    points = get_dataset(session, profile.dataset_id).layout["points"]
    size = max(1, min(_MOST_PER_JOB, int(_POINTS_PER_JOB * profile.series / max(points, 1))))
    groups: dict[int, list[int]] = {}
    for series in records.missing_series(session, profile):
        groups.setdefault(series // size, []).append(series)
    for of_job in groups.values():
        queue.defer_features(profile.id, of_job)
