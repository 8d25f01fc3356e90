"""Experiments and their cells: what is planned, what is done, what is left."""

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from proteron.core.judge import Cell, CellResult
from proteron.records.database import NotFoundError, binary_cursor, notify, pack_arrays, unpack_arrays
from proteron.records.models import CellRecord, Experiment, ExperimentCell

_OWN = ("ranges", "scale", "spread")


def get_experiment(session: Session, experiment_id: int, lock: bool = False) -> Experiment:
    experiment = session.get(Experiment, experiment_id, with_for_update=lock or None)
    if experiment is None:
        raise NotFoundError(f"There is no experiment {experiment_id}.")
    return experiment


def experiments_of(session: Session, project_id: int) -> list[Experiment]:
    query = select(Experiment).where(Experiment.project_id == project_id).order_by(Experiment.id.desc())
    return list(session.scalars(query))


def add_experiment(
    session: Session, project_id: int, dataset_id: int, purpose: str, name: str, document: dict[str, Any],
    cells: Sequence[Cell],
) -> Experiment:  # fmt: skip
    """Store an experiment with all its cells, queued."""
    experiment = Experiment(
        project_id=project_id, dataset_id=dataset_id, purpose=purpose, name=name, document=document, state="queued"
    )
    session.add(experiment)
    session.flush()
    rows = [
        {"experiment_id": experiment.id, "key": c.key, "contender": c.name, "fold": c.fold, "number": number}
        for number, c in enumerate(cells)
    ]
    session.execute(insert(ExperimentCell).on_conflict_do_nothing(), rows)
    return experiment


def set_state(session: Session, experiment_id: int, state: str, reason: str | None = None) -> Experiment:
    """Move an experiment to a state and tell listeners."""
    experiment = get_experiment(session, experiment_id, lock=True)
    now = datetime.now(UTC)
    experiment.state, experiment.reason = state, reason
    if state == "running":
        experiment.started = experiment.started or now
    experiment.finished = now if state in ("done", "failed", "stopped") else None
    notify(session, {"project": experiment.project_id, "experiment": experiment.id, "state": state})
    return experiment


def tally(session: Session, experiment_id: int) -> dict[str, int]:
    """Cells of an experiment: all, done, failed."""
    query = (
        select(
            func.count(),
            func.count().filter(CellRecord.state == "done"),
            func.count().filter(CellRecord.state == "failed"),
        )
        .select_from(ExperimentCell)
        .outerjoin(CellRecord, CellRecord.key == ExperimentCell.key)
        .where(ExperimentCell.experiment_id == experiment_id)
    )
    count, done, failed = session.execute(query).one()
    return {"cells": count, "done": done, "failed": failed}


def missing_keys(session: Session, experiment_id: int, retry_failed: bool = False) -> list[str]:
    """Keys of cells without a result, in their order; failed ones too where asked."""
    query = (
        select(ExperimentCell.key)
        .outerjoin(CellRecord, CellRecord.key == ExperimentCell.key)
        .where(ExperimentCell.experiment_id == experiment_id)
        .where(
            CellRecord.key.is_(None) | ((CellRecord.state == "failed") if retry_failed else CellRecord.key.is_(None))
        )
        .order_by(ExperimentCell.number)
    )
    return list(session.scalars(query))


def failures_of(session: Session, experiment_id: int) -> list[dict[str, Any]]:
    query = (
        select(ExperimentCell.contender, ExperimentCell.fold, CellRecord.reason)
        .join(CellRecord, CellRecord.key == ExperimentCell.key)
        .where(ExperimentCell.experiment_id == experiment_id, CellRecord.state == "failed")
        .order_by(ExperimentCell.number)
    )
    return [{"contender": name, "fold": fold, "reason": reason} for name, fold, reason in session.execute(query)]


def has_result(session: Session, key: str) -> bool:
    return session.scalar(select(CellRecord.state).where(CellRecord.key == key)) == "done"


def save_result(session: Session, result: CellResult) -> None:
    """Store a cell's result in this transaction; a second one with the same key changes nothing."""
    arrays = {f"state.{name}": array for name, array in result.state_arrays.items()}
    arrays |= {name: getattr(result, name) for name in _OWN}
    record = {
        "key": result.cell.key, "state": "done", "reason": None, "seconds": result.seconds,
        "facts": _plain({**result.state_facts, "memory": result.memory}), "arrays": pack_arrays(arrays),
    }  # fmt: skip
    statement = insert(CellRecord).values(record)
    failed_before = statement.on_conflict_do_update(
        index_elements=[CellRecord.key], set_=record, where=CellRecord.state == "failed"
    ).returning(CellRecord.key)
    if session.execute(failed_before).first() is None:
        return
    horizon, gap = result.cell.place.horizon, result.cell.place.gap
    with binary_cursor(session) as cursor:
        cursor.executemany(
            "INSERT INTO forecast_block (key, series, horizon, gap, origins, mean, flat_mean, flat_truth) "
            "VALUES (%s, %s, %s, %s, %b, %b, %b, %b)",
            [
                (
                    result.cell.key, series, horizon, gap, result.origins.astype(np.float64),
                    result.mean[row].ravel(), result.flat_mean[row].ravel(), result.flat_truth[row].ravel(),
                )
                for row, series in enumerate(result.cell.series)
            ],
        )  # fmt: skip


def save_failure(session: Session, key: str, reason: str, seconds: float = 0.0) -> None:
    """Record why a cell failed; a result that is there already stays."""
    record = {"key": key, "state": "failed", "reason": reason, "seconds": seconds, "facts": {}, "arrays": None}
    session.execute(insert(CellRecord).values(record).on_conflict_do_nothing())


def _plain(facts: Any) -> Any:
    """JSON has no NaN: missing numbers become the text "NaN", undone by `_numbers`."""
    if isinstance(facts, dict):
        return {name: _plain(value) for name, value in facts.items()}
    if isinstance(facts, list | tuple):
        return [_plain(value) for value in facts]
    if isinstance(facts, float) and not np.isfinite(facts):
        return str(facts)
    return facts


def _numbers(facts: Any) -> Any:
    if isinstance(facts, dict):
        return {name: _numbers(value) for name, value in facts.items()}
    if isinstance(facts, list):
        return [_numbers(value) for value in facts]
    return float(facts) if facts in ("nan", "inf", "-inf") else facts


def load_results(session: Session, cells: Sequence[Cell]) -> list[CellResult]:
    """Results of those of `cells` that are done."""
    by_key = {cell.key: cell for cell in cells}
    query = select(CellRecord).where(CellRecord.key.in_(by_key), CellRecord.state == "done")
    records = list(session.scalars(query))
    with binary_cursor(session) as cursor:
        cursor.execute(
            "SELECT key, series, origins, mean, flat_mean, flat_truth FROM forecast_block WHERE key = ANY(%s)",
            ([record.key for record in records],),
        )
        blocks: dict[str, dict[int, tuple[Any, ...]]] = {}
        for key, series, *arrays in cursor.fetchall():
            blocks.setdefault(key, {})[series] = tuple(arrays)
    return [_result(by_key[record.key], record, blocks[record.key]) for record in records]


def _result(cell: Cell, record: CellRecord, blocks: dict[int, tuple[Any, ...]]) -> CellResult:
    arrays = unpack_arrays(record.arrays or b"")
    origins = blocks[cell.series[0]][0].astype(np.int64)
    shape = (len(cell.series), len(origins), cell.place.horizon)
    facts = _numbers(record.facts)
    stacked = [np.stack([blocks[s][column] for s in cell.series]).reshape(shape) for column in (1, 2, 3)]
    return CellResult(
        cell=cell,
        origins=origins,
        mean=stacked[0],
        flat_mean=stacked[1],
        flat_truth=stacked[2],
        state_arrays={name.removeprefix("state."): a for name, a in arrays.items() if name.startswith("state.")},
        state_facts={name: value for name, value in facts.items() if name != "memory"},
        seconds=record.seconds,
        memory=facts.get("memory"),
        **{name: arrays[name] for name in _OWN},
    )
