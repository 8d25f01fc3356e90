"""Copies of what is named: inside the database, so that a large one costs no more than it must."""

from collections.abc import Mapping
from typing import Any

from sqlalchemy import func, insert, literal, select
from sqlalchemy.orm import Session

from proteron.records import searches
from proteron.records.kept import Kind, Record, free_name, get_kept, tell
from proteron.records.models import (
    Base,
    Dataset,
    Experiment,
    ExperimentCell,
    FittedChainRecord,
    OutlookLearned,
    OutlookPaths,
    OutlookRecord,
    PanelProfile,
    Project,
    Saved,
    Scan,
    ScanSeries,
    Series,
    SeriesBlock,
    SeriesFeature,
    Verdict,
    Watched,
)

_RUNNING = ("queued", "running")
_WHY_STOPPED = "Copied while it was running; run it to go on."


def copy_kept(session: Session, kind: Kind, record_id: int, name: str | None, into: int | None = None) -> Any:
    """A copy under a name of its own, in the same project or `into` another; raises as `get_kept` does.

    An experiment shares what its cells found with the copy; it goes only where its dataset is.
    """
    made = _copied(session, get_kept(session, kind, record_id), name, into)
    tell(session, made)
    return made


def _copied(session: Session, record: Record, name: str | None, into: int | None) -> Any:
    wanted = (name or f"{record.name[:190]} copy").strip()
    if isinstance(record, Project):
        return _copy_project(session, record, free_name(session, Project(id=0, name=wanted), wanted))
    target = into if into is not None and not isinstance(record, Experiment) else record.project_id
    if target != record.project_id:
        get_kept(session, "projects", target)
    if isinstance(record, Dataset):
        return _copy_dataset(session, record, target, wanted, record.id if target == record.project_id else None)
    if isinstance(record, Experiment):
        return _copy_experiment(session, record, target, record.dataset_id, wanted)
    like = Saved(id=0, project_id=target, kind=record.kind, name=wanted)
    return _added(session, Saved, record, project_id=target, name=free_name(session, like, wanted))


def _added(session: Session, table: Any, record: Any, **changes: Any) -> Any:
    """A row like another one, with changes; what it is kept by begins anew."""
    anew = {"id", "created", "revision", "changes", "deleted", "chosen"}
    values = {c.key: getattr(record, c.key) for c in table.__mapper__.column_attrs if c.key not in anew}
    made = table(**{**values, **changes})
    session.add(made)
    session.flush()
    return made


def _rows(session: Session, table: type[Base], column: str, old: int, new: int, **changes: Any) -> None:
    """The rows that belong to `old`, once more for `new`, numbers of their own left to the database."""
    names = [c.key for c in table.__mapper__.column_attrs if c.key != "id"]
    values = {**changes, column: new}
    chosen = [literal(values[name]) if name in values else getattr(table, name) for name in names]
    session.execute(insert(table).from_select(names, select(*chosen).where(getattr(table, column) == old)))


def _copy_dataset(session: Session, dataset: Dataset, project_id: int, name: str, parent_id: int | None) -> Dataset:
    number = select(func.max(Dataset.version)).where(Dataset.project_id == project_id)
    version = (session.scalar(number) or 0) + 1
    made: Dataset = _added(
        session, Dataset, dataset, project_id=project_id, parent_id=parent_id, name=name, version=version
    )
    for table in (Series, SeriesBlock, FittedChainRecord):
        _rows(session, table, "dataset_id", dataset.id, made.id)
    for profile in session.scalars(select(PanelProfile).where(PanelProfile.dataset_id == dataset.id)).all():
        if profile.state == "done":
            again = _added(session, PanelProfile, profile, dataset_id=made.id)
            _rows(session, SeriesFeature, "profile_id", profile.id, again.id)
    return made


def _copy_experiment(
    session: Session, experiment: Experiment, project_id: int, dataset_id: int, name: str
) -> Experiment:
    stopped = {"state": "stopped", "reason": _WHY_STOPPED} if experiment.state in _RUNNING else {}
    made: Experiment = _added(
        session, Experiment, experiment, project_id=project_id, dataset_id=dataset_id, name=name, **stopped
    )
    if searches.is_running(made):
        searches.end(made, "stopped")
    _rows(session, ExperimentCell, "experiment_id", experiment.id, made.id)
    return made


def _copy_scan(session: Session, scan: Scan, project_id: int, dataset_id: int) -> int:
    """What was found; a drill that has not come to its end begins anew when it is asked for."""
    drilled = scan.drill if (scan.drill or {}).get("state") == "done" else None
    changes = {"project_id": project_id, "dataset_id": dataset_id, "experiment_id": None, "drill": drilled}
    made: Scan = _added(session, Scan, scan, **changes)
    _rows(session, ScanSeries, "scan_id", scan.id, made.id)
    return made.id


def _copy_project(session: Session, project: Project, name: str) -> Project:
    """With everything present in it; its choices point to the copies."""
    made: Project = _added(session, Project, project, name=name)

    def present(table: Any) -> Any:
        query = select(table).where(table.project_id == project.id, table.deleted.is_(None)).order_by(table.id)
        return session.scalars(query).all()

    datasets: dict[int, int] = {}
    for dataset in present(Dataset):
        parent = datasets.get(dataset.parent_id or 0)
        copy = _copy_dataset(session, dataset, made.id, dataset.name, parent)
        copy.version = dataset.version
        datasets[dataset.id] = copy.id
    experiments = {
        each.id: _copy_experiment(session, each, made.id, datasets[each.dataset_id], each.name).id
        for each in present(Experiment)
        if each.dataset_id in datasets
    }
    outlooks: dict[int, int] = {}
    present_ones = OutlookRecord.experiment_id.in_(experiments) & OutlookRecord.dataset_id.in_(datasets)
    finished = present_ones & OutlookRecord.state.in_(("done", "failed"))
    for record in session.scalars(select(OutlookRecord).where(finished).order_by(OutlookRecord.id)).all():
        changes = {"project_id": made.id, "experiment_id": experiments[record.experiment_id],
                   "dataset_id": datasets[record.dataset_id], "of_id": outlooks.get(record.of_id or 0)}  # fmt: skip
        outlooks[record.id] = _added(session, OutlookRecord, record, **changes).id
        for table in (OutlookPaths, OutlookLearned):
            _rows(session, table, "outlook_id", record.id, outlooks[record.id])
    done = Scan.dataset_id.in_(datasets) & (Scan.state == "done")
    scans = {
        each.id: _copy_scan(session, each, made.id, datasets[each.dataset_id])
        for each in session.scalars(select(Scan).where(done).order_by(Scan.id)).all()
    }
    for verdict in session.scalars(select(Verdict).where(Verdict.project_id == project.id).order_by(Verdict.id)).all():
        _added(session, Verdict, verdict, project_id=made.id)
    for watched in session.scalars(select(Watched).where(Watched.project_id == project.id).order_by(Watched.id)).all():
        _added(session, Watched, watched, project_id=made.id)
    for saved in present(Saved):
        _added(session, Saved, saved, project_id=made.id)
    made.choices = _moved(
        project.choices,
        {"dataset_id": datasets, "experiment_id": experiments, "scan_id": scans, "outlook_id": outlooks},
    )
    session.flush()
    return made


def _moved(choices: Mapping[str, Any], numbers: Mapping[str, Mapping[int, int]]) -> dict[str, Any]:
    moved = {name: numbers[name].get(value) if name in numbers else value for name, value in choices.items()}
    return {name: value for name, value in moved.items() if value is not None}
