"""Experiments and their cells: what is planned, what is done, what is left. Light: no result is read here."""

from collections.abc import Iterable, Sequence
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from sqlalchemy import func, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from proteron.records.database import NotFoundError, notify
from proteron.records.models import CellRecord, ContenderRecord, Dataset, Experiment, ExperimentCell

if TYPE_CHECKING:
    from proteron.core.judge import Cell

MISSING = ("waiting", "again")


def get_experiment(session: Session, experiment_id: int, lock: bool = False) -> Experiment:
    experiment = session.get(Experiment, experiment_id, with_for_update=lock or None)
    if experiment is None:
        raise NotFoundError(f"There is no experiment {experiment_id}.")
    return experiment


def experiments_of(session: Session, project_id: int) -> list[Experiment]:
    """The experiments of a project, the newest first, without deleted ones, and those of deleted data or scans."""
    present = Experiment.deleted.is_(None) & Dataset.deleted.is_(None) & (Experiment.purpose == "judge")
    query = select(Experiment).join(Dataset, Dataset.id == Experiment.dataset_id)
    query = query.where(Experiment.project_id == project_id, present)
    return list(session.scalars(query.order_by(Experiment.id.desc())))


def add_experiment(
    session: Session, project_id: int, dataset_id: int, purpose: str, name: str, document: dict[str, Any],
    cells: Sequence["Cell"],
) -> Experiment:  # fmt: skip
    """Store an experiment with all its cells, queued."""
    experiment = Experiment(
        project_id=project_id, dataset_id=dataset_id, purpose=purpose, name=name, document=document, state="queued"
    )
    session.add(experiment)
    session.flush()
    add_cells(session, experiment.id, cells)
    return experiment


def add_cells(session: Session, experiment_id: int, cells: Sequence["Cell"]) -> None:
    """Say what each cell is; cells that are known already are shared, with their results."""
    contenders = {id(cell.contender): cell.contender for cell in cells}
    hashes = {place: contender.hash for place, contender in contenders.items()}
    by_hash = {hashes[place]: contender.document() for place, contender in contenders.items()}
    documents = [{"hash": key, "document": by_hash[key]} for key in sorted(by_hash)]
    if documents:
        session.execute(insert(ContenderRecord).on_conflict_do_nothing(), documents)
    described = [
        {
            "key": cell.key, "fit_key": cell.fit_key, "contender": hashes[id(cell.contender)],
            "place": cell.place.document(), "series": list(cell.series), "levels": list(cell.levels),
            "needs": list(cell.needs), "origins": cell.place.origins.tolist(), "work": cell.work,
            "batch": cell.batch, "state": "waiting", "declined": {}, "seconds": 0.0,
        }
        for cell in sorted(cells, key=lambda each: each.key)
    ]  # fmt: skip
    listed = [
        {"experiment_id": experiment_id, "key": c.key, "contender": c.name, "fold": c.fold, "number": number}
        for number, c in enumerate(cells)
    ]
    if described:
        session.execute(insert(CellRecord).on_conflict_do_nothing(), described)
        session.execute(insert(ExperimentCell).on_conflict_do_nothing(), listed)


def set_state(session: Session, experiment_id: int, state: str, reason: str | None = None) -> Experiment:
    """Move an experiment to a state and tell listeners."""
    experiment = get_experiment(session, experiment_id, lock=True)
    now = datetime.now(UTC)
    experiment.state, experiment.reason = state, reason
    if state == "running":
        experiment.started = now
    experiment.finished = now if state in ("done", "failed", "stopped") else None
    notify(session, {"project": experiment.project_id, "experiment": experiment.id, "state": state})
    return experiment


def tell_cell(session: Session, experiment_id: int) -> None:
    """Tell listeners that a cell of an experiment has come in."""
    experiment = get_experiment(session, experiment_id)
    notify(session, {"project": experiment.project_id, "experiment": experiment_id, "cell": True})


def tallies(session: Session, experiment_ids: Iterable[int]) -> dict[int, dict[str, int]]:
    """Cells of experiments: all, done, failed. One whose failure is being tried again is neither."""
    wanted = list(experiment_ids)
    query = (
        select(
            ExperimentCell.experiment_id,
            func.count(),
            func.count().filter(CellRecord.state == "done"),
            func.count().filter(CellRecord.state == "failed"),
        )
        .join(CellRecord, CellRecord.key == ExperimentCell.key)
        .where(ExperimentCell.experiment_id.in_(wanted))
        .group_by(ExperimentCell.experiment_id)
    )
    found = {each: {"cells": 0, "done": 0, "failed": 0} for each in wanted}
    for experiment_id, count, done, failed in session.execute(query):
        found[experiment_id] = {"cells": count, "done": done, "failed": failed}
    return found


def results_stamp(session: Session, experiment_id: int) -> tuple[Any, ...]:
    """What changes whenever a cell's result comes in, or goes: how many are done, and when the last one was."""
    query = (
        select(func.count(), func.max(CellRecord.finished), func.min(CellRecord.finished))
        .join(ExperimentCell, CellRecord.key == ExperimentCell.key)
        .where(ExperimentCell.experiment_id == experiment_id, CellRecord.state == "done")
    )
    return tuple(session.execute(query).one())


def tally(session: Session, experiment_id: int) -> dict[str, int]:
    return tallies(session, [experiment_id])[experiment_id]


def _of(experiment_id: int) -> Any:
    return select(ExperimentCell.key).where(ExperimentCell.experiment_id == experiment_id)


def try_again(session: Session, experiment_id: int) -> None:
    """Failed cells are to be computed once more; until then they count as missing, and keep their reason."""
    failed = CellRecord.key.in_(_of(experiment_id)) & (CellRecord.state == "failed")
    session.execute(update(CellRecord).where(failed).values(state="again"))


def leave_as_failed(session: Session, experiment_id: int) -> None:
    """Cells that were to be tried again and were not, for the work was stopped, are failed as before.

    One that another experiment is at as well goes on waiting for its turn there.
    """
    others = (
        select(ExperimentCell.key)
        .join(Experiment, Experiment.id == ExperimentCell.experiment_id)
        .where(Experiment.id != experiment_id, Experiment.state.in_(("queued", "running")))
    )
    mine = CellRecord.key.in_(_of(experiment_id)) & CellRecord.key.not_in(others)
    waiting = mine & (CellRecord.state == "again")
    session.execute(update(CellRecord).where(waiting).values(state="failed"))


def missing_cells(
    session: Session, experiment_id: int, dependent_only: bool = False
) -> list[tuple[str, float, str, str]]:
    """Key, work, batch and entrant of cells without a result whose needs are met, in their order."""
    query = (
        select(CellRecord.key, CellRecord.work, CellRecord.batch, ExperimentCell.contender, CellRecord.needs)
        .join(ExperimentCell, CellRecord.key == ExperimentCell.key)
        .where(ExperimentCell.experiment_id == experiment_id, CellRecord.state.in_(MISSING))
        .order_by(ExperimentCell.number)
    )
    rows = session.execute(query).all()
    open_needs = {need for *_, needs in rows for need in needs}
    unmet: set[str] = set()
    if open_needs:
        unmet = set(
            session.scalars(select(CellRecord.key).where(CellRecord.key.in_(open_needs), CellRecord.state.in_(MISSING)))
        )
    ready = [row for row in rows if unmet.isdisjoint(row.needs) and (row.needs or not dependent_only)]
    return [(row.key, row.work, row.batch, row.contender) for row in ready]


def failures_of(session: Session, experiment_id: int) -> list[dict[str, Any]]:
    """Why forecasts are missing: cells that failed (series: none) and series declined in cells that are done."""
    query = (
        select(ExperimentCell.contender, ExperimentCell.fold, CellRecord.state, CellRecord.reason, CellRecord.declined)
        .join(CellRecord, CellRecord.key == ExperimentCell.key)
        .where(ExperimentCell.experiment_id == experiment_id)
        .where((CellRecord.state == "failed") | ((CellRecord.state == "done") & (CellRecord.declined != {})))
        .order_by(ExperimentCell.number)
    )
    found: list[dict[str, Any]] = []
    for name, fold, state, reason, declined in session.execute(query):
        place = {"contender": name, "fold": fold}
        if state == "failed":
            found.append({**place, "reason": reason, "series": None})
        else:
            found += [{**place, "reason": why, "series": key} for key, why in declined.items()]
    return found


def cell_keys(session: Session, experiment_id: int) -> set[str]:
    """Keys of an experiment's cells."""
    return set(session.scalars(_of(experiment_id)))


def cell_state(session: Session, key: str) -> str | None:
    return session.scalar(select(CellRecord.state).where(CellRecord.key == key))


def save_failure(session: Session, key: str, reason: str, seconds: float = 0.0) -> bool:
    """Record why a cell failed, in place of an earlier reason; a result that is there stays. Tells which it was."""
    values = {"state": "failed", "reason": reason, "seconds": seconds, "finished": datetime.now(UTC)}
    statement = update(CellRecord).where(CellRecord.key == key, CellRecord.state != "done").values(values)
    return session.execute(statement.returning(CellRecord.key)).first() is not None
