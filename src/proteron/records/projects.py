"""Projects and what their rooms stand on."""

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from proteron.records.database import ConflictError, NotFoundError
from proteron.records.models import Document, Project


def all_projects(session: Session) -> list[Project]:
    return list(session.scalars(select(Project).order_by(Project.id)))


def get_project(session: Session, project_id: int, lock: bool = False) -> Project:
    project = session.get(Project, project_id, with_for_update=lock or None)
    if project is None:
        raise NotFoundError(f"There is no project {project_id}.")
    return project


def create_project(session: Session, name: str) -> Project:
    """Raises `ConflictError` when the name is taken."""
    if session.scalar(select(Project.id).where(Project.name == name)):
        raise ConflictError(f"There is a project “{name}” already.", field="name")
    project = Project(name=name, choices={})
    session.add(project)
    session.flush()
    return project


def delete_project(session: Session, name: str) -> None:
    session.execute(delete(Project).where(Project.name == name))


def choose(session: Session, project_id: int, changes: Document) -> Document:
    """Merge changes into the project's choices; None removes one."""
    project = get_project(session, project_id, lock=True)
    merged = {**project.choices, **changes}
    project.choices = {name: value for name, value in merged.items() if value is not None}
    return project.choices
