"""Deleting what is named: whatever still runs on it is stopped first."""

from sqlalchemy import select

from proteron.records import kept
from proteron.records.models import Experiment
from proteron.services import experiments
from proteron.services.resources import Resources

_BY = {
    "experiments": Experiment.id, "datasets": Experiment.dataset_id, "projects": Experiment.project_id,
}  # fmt: skip


def delete(reach: Resources, kind: kept.Kind, record_id: int, known: int | None) -> kept.Record:
    """Hide a record and stop the experiments that run on it; what they found stays, and is there when it is restored.

    Raises `NotFoundError`, and `ChangedError` where its revision is not the `known` one.
    """
    with reach.database.session() as session:
        kept.get_kept(session, kind, record_id, known=known)
        if kind in _BY:
            active = Experiment.state.in_(("queued", "running"))
            for number in session.scalars(select(Experiment.id).where(_BY[kind] == record_id, active)).all():
                experiments.stop(session, reach.queue, number)
        return kept.delete_kept(session, kind, record_id, known)
