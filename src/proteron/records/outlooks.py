"""Outlooks: final forecasts, queued, made, read."""

from datetime import UTC, datetime

from sqlalchemy import select
from sqlalchemy.orm import Session, defer

from proteron.records.database import NotFoundError, notify
from proteron.records.experiments import experiments_of
from proteron.records.models import OutlookRecord


def get_outlook(session: Session, outlook_id: int, lock: bool = False) -> OutlookRecord:
    record = session.get(OutlookRecord, outlook_id, with_for_update=lock or None)
    if record is None:
        raise NotFoundError(f"There is no outlook {outlook_id}.")
    return record


def finish_outlook(
    session: Session, outlook_id: int, state: str, arrays: bytes | None = None, reason: str | None = None
) -> None:
    record = get_outlook(session, outlook_id, lock=True)
    record.state, record.reason, record.arrays = state, reason, arrays
    record.finished = datetime.now(UTC) if state in ("done", "failed") else None
    notify(session, {"project": record.project_id, "outlook": record.id, "state": state})


def outlooks_of(session: Session, project_id: int) -> list[OutlookRecord]:
    """The outlooks of a project's present experiments, the newest first, without their arrays."""
    shown = [each.id for each in experiments_of(session, project_id)]
    query = select(OutlookRecord).where(OutlookRecord.experiment_id.in_(shown)).order_by(OutlookRecord.id.desc())
    return list(session.scalars(query.options(defer(OutlookRecord.arrays))))
