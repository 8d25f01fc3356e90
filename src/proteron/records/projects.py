"""Projects and what their rooms stand on."""

from typing import Any

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from proteron.records import kept
from proteron.records.database import ConflictError, NotFoundError
from proteron.records.kept import get_kept, refuse_deleted
from proteron.records.models import Dataset, Document, Experiment, Kept, OutlookRecord, Project, Scan

_CHOSEN: dict[str, Any] = {
    "dataset_id": Dataset, "experiment_id": Experiment, "scan_id": Scan, "outlook_id": OutlookRecord,
}  # fmt: skip


def all_projects(session: Session) -> list[Project]:
    return list(session.scalars(select(Project).where(Project.deleted.is_(None)).order_by(Project.id)))


def get_project(session: Session, project_id: int, lock: bool = False) -> Project:
    project = session.get(Project, project_id, with_for_update=lock or None)
    if project is None:
        raise NotFoundError(f"There is no project {project_id}.")
    return project


def create_project(session: Session, name: str) -> Project:
    """Raises `ConflictError` when the name is taken."""
    if session.scalar(select(Project.id).where(Project.name == name, Project.deleted.is_(None))):
        raise ConflictError(f"There is a project “{name}” already.", field="name")
    project = Project(name=name, choices={})
    session.add(project)
    session.flush()
    return project


def delete_project(session: Session, name: str) -> None:
    session.execute(delete(Project).where(Project.name == name))


def choose(session: Session, project_id: int, changes: Document, known: int | None = None) -> Document:
    """Merge changes into the project's choices; None removes one.

    Raises `ChangedError` where the project's revision is not the `known` one, and `NotFoundError` where what is chosen
    is not there.
    """
    project = get_kept(session, "projects", project_id, known=known)
    assert isinstance(project, Project)
    for name, table in _CHOSEN.items():
        number = changes.get(name)
        chosen = None if number is None else session.get(table, number)
        if number is not None and (chosen is None or chosen.project_id != project_id):
            raise NotFoundError(f"There is no {table.__tablename__} {number} in this project.", field=name)
        if isinstance(chosen, Kept):
            refuse_deleted(chosen)
    kept.choose(project, changes)
    return project.choices
