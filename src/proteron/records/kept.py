"""What people name, copy and delete: projects, datasets, experiments, chains and plans, deleted ones for a while.

Every one has a `revision`, which counts its changes; who changes it may say which one is known, and is told what has
changed since. What is deleted is hidden, with all that belongs to it, and can be restored for `KEPT_DAYS`.
"""

from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from functools import cache
from typing import Any, Literal, get_args

from sqlalchemy import bindparam, delete, exists, select, update
from sqlalchemy.orm import Session

from proteron.core.errors import ProteronError, SettingsError
from proteron.records.database import ConflictError, NotFoundError, notify
from proteron.records.models import (
    CellRecord,
    ContenderRecord,
    Dataset,
    Experiment,
    ExperimentCell,
    FitRecord,
    FittedChainRecord,
    Kept,
    OutlookRecord,
    Project,
    Saved,
    Scan,
    Watched,
)

Kind = Literal["projects", "datasets", "experiments", "chains", "plans"]
KINDS: tuple[Kind, ...] = get_args(Kind)
KEPT_DAYS = 7
_TABLES: dict[Kind, Any] = {
    "projects": Project, "datasets": Dataset, "experiments": Experiment, "chains": Saved, "plans": Saved,
}  # fmt: skip
_ONE: dict[Kind, str] = {
    "projects": "project", "datasets": "dataset", "experiments": "experiment", "chains": "saved chain",
    "plans": "saved plan",
}  # fmt: skip
_LONGEST = 200
_LARGEST = 2**53  # what has a greater number is refused by its form
Record = Project | Dataset | Experiment | Saved


class ChangedError(ProteronError):
    """It is not what the sender knew; `changed` has what it is now, by field."""

    code = "changed"

    def __init__(self, message: str, changed: Mapping[str, Any]) -> None:
        super().__init__(message)
        self.changed = dict(changed)


def project_of(record: Record) -> int:
    return record.id if isinstance(record, Project) else record.project_id


def get_kept(session: Session, kind: Kind, record_id: int, deleted: bool = False, known: int | None = None) -> Record:
    """A record to be changed, locked, `deleted` or not as asked.

    Raises `NotFoundError`, and `ChangedError` where its revision is not the `known` one.
    """
    record: Record | None = session.get(_TABLES[kind], record_id, with_for_update=True)
    if record is None or (isinstance(record, Saved) and record.kind != kind):
        raise NotFoundError(f"There is no {_ONE[kind]} {record_id}.")
    if deleted and record.deleted is None:
        raise ConflictError(f"The {_ONE[kind]} “{record.name}” is not deleted.", field="deleted")
    if not deleted:
        refuse_deleted(record)
    if known is not None and known != record.revision:
        changed = record.changed_since(known)
        said = ", ".join(sorted(changed)) or "nothing that is still there"
        raise ChangedError(f"The {_ONE[kind]} “{record.name}” was changed meanwhile: {said}.", changed)
    return record


def refuse_deleted(record: Kept) -> None:
    """Raise `NotFoundError` for what is deleted, saying until when it can be restored."""
    if record.deleted is not None:
        until = f"{restorable_until(record):%Y-%m-%d %H:%M} UTC"
        raise NotFoundError(f"“{record.name}” is deleted; it can be restored until {until}.")


def restorable_until(record: Kept) -> datetime:
    assert record.deleted is not None
    return record.deleted.astimezone(UTC) + timedelta(days=KEPT_DAYS)


def rename(session: Session, kind: Kind, record_id: int, name: str, known: int | None = None) -> Record:
    """Raises `ConflictError` where another one is called so, if names of its kind are to differ."""
    record = get_kept(session, kind, record_id, known=known)
    if record.name == _checked(name):
        return record
    if name.strip() in _taken(session, record):
        raise ConflictError(f"There is a {_ONE[kind]} “{name.strip()}” already.", field="name")
    record.name = name.strip()
    record.change("name")
    tell(session, record)
    return record


def _checked(name: str) -> str:
    """The name without blanks around it; raises `SettingsError` where nothing is left, or too much."""
    if not 0 < len(name.strip()) <= _LONGEST:
        raise SettingsError(f"A name has 1 to {_LONGEST} characters.", field="name")
    return name.strip()


def _taken(session: Session, record: Record) -> set[str]:
    """Names this one cannot have: those of its present like, where names of a kind are to differ."""
    if not isinstance(record, Project | Saved):
        return set()
    like = type(record)
    query = select(like.name).where(like.deleted.is_(None), like.id != record.id)
    if isinstance(record, Saved):
        query = query.where(Saved.project_id == record.project_id, Saved.kind == record.kind)
    return set(session.scalars(query))


def free_name(session: Session, record: Record, wanted: str) -> str:
    """The wanted name, numbered where it is taken."""
    taken = _taken(session, record)
    numbered = (f"{wanted[: _LONGEST - 8]} {number}" for number in range(2, len(taken) + 3))
    return wanted if wanted not in taken else next(name for name in numbered if name not in taken)


def delete_kept(session: Session, kind: Kind, record_id: int, known: int | None = None) -> Record:
    """Hide it, with all that belongs to it; a project that stood on it stands on the next one there is."""
    record = get_kept(session, kind, record_id, known=known)
    record.deleted = datetime.now(UTC)
    record.change("deleted")
    session.flush()
    if not isinstance(record, Project):
        project = session.get_one(Project, record.project_id, with_for_update=True)
        chosen = {name: project.choices[name] for name in _CHOICES if name in project.choices}
        record.chosen = {name: number for name, number in chosen.items() if not _is_present(session, name, number)}
        choose(project, dict.fromkeys(record.chosen))
        if "dataset_id" in record.chosen:
            last = select(Dataset.id).where(Dataset.project_id == project.id, Dataset.deleted.is_(None))
            choose(project, {"dataset_id": session.scalar(last.order_by(Dataset.version.desc()).limit(1))})
    tell(session, record)
    return record


_CHOICES = {
    "dataset_id": "dataset_id", "experiment_id": "experiment_id", "scan_id": "scan_id", "outlook_id": "outlook_id",
}  # fmt: skip


def _is_present(session: Session, choice: str, number: int) -> bool:
    """Whether what a choice stands on is not deleted, nor anything it belongs to."""
    try:
        require_present(session, {_CHOICES[choice]: number})
    except NotFoundError:
        return False
    return True


def restore(session: Session, kind: Kind, record_id: int) -> Record:
    """Take a deletion back; what was chosen is chosen again, where all it belongs to is there.

    A name that was given away meanwhile gets a number.
    """
    record = get_kept(session, kind, record_id, deleted=True)
    record.name = free_name(session, record, record.name)
    record.deleted = None
    record.change("deleted")
    session.flush()
    project = session.get_one(Project, project_of(record), with_for_update=True)
    choose(project, {name: number for name, number in record.chosen.items() if _is_present(session, name, number)})
    record.chosen = {}
    tell(session, record)
    return record


def choose(project: Project, changes: Mapping[str, Any]) -> None:
    """Merge changes into a project's choices; None removes one. What is changed has the project's next revision."""
    merged = {**project.choices, **changes}
    choices = {name: value for name, value in merged.items() if value is not None}
    different = [name for name in changes if choices.get(name) != project.choices.get(name)]
    if different:
        project.choices = choices
        project.change(*different)


def deleted_in(session: Session, project_id: int) -> list[tuple[Kind, Record]]:
    """What was deleted in a project and can be restored, the last first."""
    found: list[tuple[Kind, Record]] = []
    for kind in KINDS[1:]:
        table = _TABLES[kind]
        query = select(table).where(table.project_id == project_id, table.deleted.is_not(None))
        if table is Saved:
            query = query.where(Saved.kind == kind)
        found += [(kind, record) for record in session.scalars(query)]
    return sorted(found, key=lambda each: each[1].deleted or datetime.min, reverse=True)


def deleted_projects(session: Session) -> list[Project]:
    """Projects that can be restored, the last deleted first."""
    return list(session.scalars(select(Project).where(Project.deleted.is_not(None)).order_by(Project.deleted.desc())))


_BELONGS: dict[str, tuple[Any, str | None]] = {
    "project_id": (Project, None), "dataset_id": (Dataset, "project_id"), "other_id": (Dataset, "project_id"),
    "experiment_id": (Experiment, "dataset_id"), "outlook_id": (OutlookRecord, "experiment_id"),
    "fitted_id": (FittedChainRecord, "dataset_id"), "scan_id": (Scan, "dataset_id"),
    "watched_id": (Watched, "project_id"),
}  # fmt: skip


def require_present(session: Session, named: Mapping[str, Any]) -> None:
    """Raise `NotFoundError` where a record named by its number, or what it belongs to, is deleted."""
    for name, number in named.items():
        if name not in _BELONGS or number >= _LARGEST:
            continue
        tables, query = _upwards(name)
        row = session.execute(query, {"number": number}).first()
        for table, number_there, deleted in zip(tables, row[::2], row[1::2], strict=True) if row else ():
            if deleted is not None:
                refuse_deleted(session.get_one(table, number_there))


@cache
def _upwards(name: str) -> tuple[list[Any], Any]:
    """The tables of a record named by its number and of all it belongs to, and a query for number and deletion of
    each; only those of them that can be deleted."""
    first, above = _BELONGS[name]
    tables: list[Any] = [first]
    joined = first.__table__
    while above is not None:
        table, further = _BELONGS[above]
        joined = joined.outerjoin(table.__table__, getattr(tables[-1], above) == table.id)
        tables.append(table)
        above = further
    kept = [table for table in tables if hasattr(table, "deleted")]
    columns = [column for table in kept for column in (table.id, table.deleted)]
    return kept, select(*columns).select_from(joined).where(first.id == bindparam("number"))


def purge(session: Session, now: datetime | None = None) -> int:
    """Remove for good what was deleted too long ago, and results that no experiment holds any more; tells how much."""
    before = (now or datetime.now(UTC)) - timedelta(days=KEPT_DAYS)
    for dataset_id in session.scalars(select(Dataset.id).where(Dataset.deleted < before)).all():
        parent_id = session.scalar(select(Dataset.parent_id).where(Dataset.id == dataset_id))  # perhaps moved just now
        session.execute(update(Dataset).where(Dataset.parent_id == dataset_id).values(parent_id=parent_id))
    gone = 0
    for table in (Saved, Experiment, Dataset, Project):
        removed = session.execute(delete(table).where(table.deleted < before).returning(table.id))
        gone += len(removed.all())
    if gone:
        for held, of in ((CellRecord, ExperimentCell.key == CellRecord.key),
                          (FitRecord, CellRecord.fit_key == FitRecord.key),
                          (ContenderRecord, CellRecord.contender == ContenderRecord.hash)):  # fmt: skip
            session.execute(delete(held).where(~exists().where(of)))
    return gone


def tell(session: Session, record: Record) -> None:
    """Tell listeners of its project that what is kept there has changed."""
    session.flush()
    notify(session, {"project": project_of(record), "kept": True})
