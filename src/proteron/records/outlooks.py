"""Outlooks: final forecasts, queued, made, read."""

from datetime import UTC, datetime

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import delete, insert, select
from sqlalchemy.orm import Session, defer

from proteron.records.database import NotFoundError, notify
from proteron.records.experiments import experiments_of
from proteron.records.models import Document, Experiment, OutlookLearned, OutlookPaths, OutlookRecord


def add_outlook(
    session: Session, experiment: Experiment, document: Document, dataset_id: int | None = None,
    of_id: int | None = None,
) -> OutlookRecord:  # fmt: skip
    """An outlook by a contender of an experiment, on its data or on a later version; or a scenario of another one."""
    record = OutlookRecord(
        project_id=experiment.project_id, experiment_id=experiment.id, dataset_id=dataset_id or experiment.dataset_id,
        of_id=of_id, document=document, state="queued",
    )  # fmt: skip
    session.add(record)
    session.flush()
    return record


def get_outlook(session: Session, outlook_id: int, lock: bool = False) -> OutlookRecord:
    record = session.get(OutlookRecord, outlook_id, with_for_update=lock or None)
    if record is None:
        raise NotFoundError(f"There is no outlook {outlook_id}.")
    return record


def state_of(session: Session, outlook_id: int) -> tuple[str, int]:
    """The state of an outlook, and the one that learned for it: itself, or that which it is a scenario of."""
    query = select(OutlookRecord.state, OutlookRecord.of_id).where(OutlookRecord.id == outlook_id)
    found = session.execute(query).first()
    if found is None:
        raise NotFoundError(f"There is no outlook {outlook_id}.")
    return found[0], found[1] or outlook_id


def tell_share(session: Session, outlook_id: int, share: float) -> bool:
    """Note how far an outlook is that is being made; whether it is still wanted."""
    record = session.get(OutlookRecord, outlook_id, with_for_update=True)
    if record is None or record.state != "queued":
        return False
    record.share = share
    notify(session, {"project": record.project_id, "outlook": record.id, "state": record.state})
    return True


def finish_outlook(
    session: Session, outlook_id: int, state: str, arrays: bytes | None = None, reason: str | None = None
) -> None:
    record = get_outlook(session, outlook_id, lock=True)
    record.state, record.reason, record.arrays = state, reason, arrays
    record.finished = datetime.now(UTC) if state != "queued" else None
    notify(session, {"project": record.project_id, "outlook": record.id, "state": state})


def draw_anew(session: Session, outlook_id: int, seed: int, arrays: bytes) -> None:
    """Other draws of an outlook that is made; it stays issued when it was."""
    record = get_outlook(session, outlook_id, lock=True)
    record.document, record.arrays = {**record.document, "seed": seed}, arrays
    notify(session, {"project": record.project_id, "outlook": record.id, "state": record.state})


def keep_paths(session: Session, outlook_id: int, paths: NDArray[np.floating]) -> None:
    """Paths (n_paths, n_series, horizon) in the place of those that were kept."""
    session.execute(delete(OutlookPaths).where(OutlookPaths.outlook_id == outlook_id))
    single = np.ascontiguousarray(paths.transpose(1, 0, 2), dtype=np.float32)
    rows = [{"outlook_id": outlook_id, "series": n, "paths": each.tobytes()} for n, each in enumerate(single)]
    session.execute(insert(OutlookPaths), rows)


def paths_of(session: Session, outlook_id: int, horizon: int, series: int | None = None) -> NDArray[np.float64]:
    """Paths (n_paths, n_series, horizon), of one series only where it is named; empty where none were kept."""
    query = select(OutlookPaths.paths).where(OutlookPaths.outlook_id == outlook_id).order_by(OutlookPaths.series)
    if series is not None:
        query = query.where(OutlookPaths.series == series)
    found = [np.frombuffer(each, dtype=np.float32).reshape(-1, horizon) for each in session.scalars(query)]
    return np.stack(found, axis=1).astype(np.float64) if found else np.empty((0, 0, horizon))


def keep_learned(session: Session, outlook_id: int, learned: bytes) -> None:
    """What an outlook learned, in the place of what was kept."""
    session.execute(delete(OutlookLearned).where(OutlookLearned.outlook_id == outlook_id))
    session.execute(insert(OutlookLearned), [{"outlook_id": outlook_id, "learned": learned}])


def learned_of(session: Session, outlook_id: int) -> bytes | None:
    """The file of what an outlook learned; None for one that was made before that was kept."""
    return session.scalar(select(OutlookLearned.learned).where(OutlookLearned.outlook_id == outlook_id))


def outlooks_of(session: Session, project_id: int) -> list[OutlookRecord]:
    """The outlooks of a project's present experiments, the newest first, without their arrays and without scenarios."""
    shown = [each.id for each in experiments_of(session, project_id)]
    query = select(OutlookRecord).where(OutlookRecord.experiment_id.in_(shown), OutlookRecord.of_id.is_(None))
    return list(session.scalars(query.order_by(OutlookRecord.id.desc()).options(defer(OutlookRecord.arrays))))


def scenarios_of(session: Session, outlook_id: int) -> list[OutlookRecord]:
    """The scenarios of an outlook, the oldest first, without their arrays."""
    query = select(OutlookRecord).where(OutlookRecord.of_id == outlook_id).order_by(OutlookRecord.id)
    return list(session.scalars(query.options(defer(OutlookRecord.arrays))))
