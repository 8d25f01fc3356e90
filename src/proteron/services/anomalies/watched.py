"""Watched panels: states that were learned elsewhere, moved on point by point without learning anew."""

import math
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime

from sqlalchemy import select
from sqlalchemy.orm import Session, defer

from proteron.core.anomalies import Flag
from proteron.core.anomalies.watching import Watching, load_watching
from proteron.core.errors import SettingsError
from proteron.core.panel import Panel
from proteron.records.database import NotFoundError
from proteron.records.models import Watched
from proteron.records.projects import get_project
from proteron.services.resources import Resources

MOST_POINTS = 10_000  # in one delivery, of all series together


def keep(reach: Resources, project_id: int, name: str, state: bytes) -> tuple[Watched, Watching]:
    """Keep a state as `Watching.save` writes it; raises `InputError` for anything else."""
    with reach.computing():
        found = load_watching(state)
    with reach.database.session() as session:
        get_project(session, project_id)
        made = Watched(project_id=project_id, name=name, state=state)
        session.add(made)
        session.flush()
        session.refresh(made)
        return made, found


def get_watched(session: Session, watched_id: int, lock: bool = False) -> Watched:
    found = session.get(Watched, watched_id, with_for_update=lock or None)
    if found is None:
        raise NotFoundError(f"There is no watched panel {watched_id}.")
    return found


def watched_of(session: Session, project_id: int) -> list[Watched]:
    """Of a project, the newest first; raises `NotFoundError` where it is not there."""
    get_project(session, project_id)
    query = (
        select(Watched)
        .where(Watched.project_id == project_id)
        .order_by(Watched.id.desc())
        .options(defer(Watched.state))
    )
    return list(session.scalars(query))


def move(
    reach: Resources, watched_id: int, points: Mapping[str, tuple[str, Sequence[float | None]]]
) -> tuple[Watched, Watching, list[Flag]]:
    """Take further points of series, each from a time (ISO 8601) on, None where missing, and keep what is known then;
    tells the flags that they raised. One delivery after the other; points that are there already are passed over.

    Raises `SettingsError` for too many points, `InputError` for points that differ from what was watched.
    """
    count = sum(len(values) for _, values in points.values())
    if not 0 < count <= MOST_POINTS:
        raise SettingsError(f"One delivery holds 1 to {MOST_POINTS:,} points.", field="points")
    values = {key: [math.nan if each is None else each for each in new] for key, (_, new) in points.items()}
    starts = {key: start for key, (start, _) in points.items()}
    with reach.database.session() as session, reach.computing():
        record = get_watched(session, watched_id, lock=True)
        found = load_watching(record.state)
        raised = found.add(Panel.from_arrays(values, starts, str(found.axis.step), found.axis.zone))
        record.state, record.moved = found.to_bytes(), datetime.now(UTC)
        session.flush()
        return record, found, raised


def forget(session: Session, watched_id: int) -> Watched:
    """Delete one for good; returns what it was."""
    record = get_watched(session, watched_id, lock=True)
    session.delete(record)
    return record
