"""Datasets: panels in and out of the database."""

from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from proteron.core.intake import TableReading
from proteron.core.panel import Covariate, Panel
from proteron.core.timeline import Step, TimeAxis
from proteron.records.database import NotFoundError, binary_cursor
from proteron.records.models import Dataset, Series

BLOCK = 65_536


@dataclass(frozen=True)
class _Block:
    column: str
    series: int
    number: int
    values: Any
    epochs: Any
    marks: bytes | None


def get_dataset(session: Session, dataset_id: int) -> Dataset:
    dataset = session.get(Dataset, dataset_id)
    if dataset is None:
        raise NotFoundError(f"There is no dataset {dataset_id}.")
    return dataset


def datasets_of(session: Session, project_id: int) -> list[Dataset]:
    return list(session.scalars(select(Dataset).where(Dataset.project_id == project_id).order_by(Dataset.version)))


def keys_of(session: Session, dataset_id: int) -> list[Series]:
    return list(session.scalars(select(Series).where(Series.dataset_id == dataset_id).order_by(Series.position)))


def save_dataset(session: Session, project_id: int, name: str, reading: TableReading) -> Dataset:
    """Store a panel as the project's next version; content that is there already is returned as it is."""
    panel = reading.panel
    same = select(Dataset).where(Dataset.project_id == project_id, Dataset.hash == panel.hash)
    found = session.scalar(same)
    if found is not None:
        return found
    last = session.scalar(
        select(Dataset).where(Dataset.project_id == project_id).order_by(Dataset.version.desc()).limit(1)
    )
    findings = [
        {"code": f.code, "severity": f.severity, "rows": list(f.rows), "message": f.message} for f in reading.findings
    ]
    dataset = Dataset(
        project_id=project_id,
        parent_id=last.id if last else None,
        version=last.version + 1 if last else 1,
        name=name,
        hash=panel.hash,
        layout=_layout(panel),
        account={**reading.account, "findings": findings},
    )
    session.add(dataset)
    session.flush()
    session.add_all(
        Series(dataset_id=dataset.id, position=i, key=key, start=int(panel.starts[i]), length=int(panel.lengths[i]))
        for i, key in enumerate(panel.keys)
    )
    session.flush()
    _write_blocks(session, dataset.id, panel)
    return dataset


def _layout(panel: Panel) -> dict[str, Any]:
    return {
        "start": str(panel.axis.start),
        "step": panel.step,
        "zone": panel.zone,
        "unit": panel.unit,
        "columns": [{"name": column.name, "role": column.role} for column in panel.covariates],
        "points": len(panel.values),
    }


def _blocks(panel: Panel) -> list[_Block]:
    blocks = []
    for index in range(len(panel)):
        values, marks = panel.series(index), panel.series_marks(index)
        epochs = panel.axis.times(panel.positions(index)).astype(np.int64).astype(np.float64)
        for number, at in enumerate(range(0, max(len(values), 1), BLOCK)):
            part = slice(at, at + BLOCK)
            blocks.append(_Block("", index, number, values[part], epochs[part], marks[part].tobytes()))
        for column in panel.covariates:
            cells = column.series(index)
            for number, at in enumerate(range(0, max(len(cells), 1), BLOCK)):
                blocks.append(_Block(column.name, index, number, cells[at : at + BLOCK], None, None))
    return blocks


def _write_blocks(session: Session, dataset_id: int, panel: Panel) -> None:
    with binary_cursor(session) as cursor:
        cursor.executemany(
            'INSERT INTO series_block (dataset_id, "column", series, block, values, epochs, marks) '
            "VALUES (%s, %s, %s, %s, %b, %b, %s)",
            [(dataset_id, b.column, b.series, b.number, b.values, b.epochs, b.marks) for b in _blocks(panel)],
        )


def load_panel(session: Session, dataset_id: int) -> Panel:
    """The panel of a dataset; its hash equals the stored one."""
    dataset = get_dataset(session, dataset_id)
    series = keys_of(session, dataset_id)
    layout = dataset.layout
    with binary_cursor(session) as cursor:
        cursor.execute(
            'SELECT "column", series, values, marks FROM series_block WHERE dataset_id = %s '
            'ORDER BY "column", series, block',
            (dataset_id,),
        )
        rows = cursor.fetchall()
    parts: dict[str, list[list[Any]]] = {}
    marks: list[bytes] = []
    for column, index, values, of_values in rows:
        per_series = parts.setdefault(column, [[] for _ in series])
        per_series[index].append(values)
        if column == "":
            marks.append(of_values or b"")

    def joined(column: str) -> tuple[Any, Any]:
        per_series = [np.concatenate(blocks) for blocks in parts[column]]
        offsets = np.concatenate([[0], np.cumsum([len(each) for each in per_series])]).astype(np.int64)
        return np.concatenate(per_series), offsets

    values, offsets = joined("")
    columns = tuple(Covariate(c["name"], c["role"], *joined(c["name"])) for c in layout["columns"])
    return Panel(
        axis=TimeAxis(np.datetime64(layout["start"], "s"), Step.parse(layout["step"]), layout["zone"]),
        keys=tuple(each.key for each in series),
        values=values,
        offsets=offsets,
        starts=np.array([each.start for each in series], dtype=np.int64),
        covariates=columns,
        marks=np.frombuffer(b"".join(marks), dtype=np.uint8).copy(),
        unit=layout["unit"],
    )
