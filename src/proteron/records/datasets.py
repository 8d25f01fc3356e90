"""Datasets: panels in and out of the database."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import asdict
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from proteron.core.intake import TableReading
from proteron.core.panel import Covariate, Floats, Mask, Occasion, Panel
from proteron.core.timeline import Step, TimeAxis
from proteron.records.database import NotFoundError, binary_cursor
from proteron.records.models import Dataset, Series

BLOCK = 65_536
Progress = Callable[[str, float], None]


def get_dataset(session: Session, dataset_id: int) -> Dataset:
    dataset = session.get(Dataset, dataset_id)
    if dataset is None:
        raise NotFoundError(f"There is no dataset {dataset_id}.")
    return dataset


def datasets_of(session: Session, project_id: int) -> list[Dataset]:
    return list(session.scalars(select(Dataset).where(Dataset.project_id == project_id).order_by(Dataset.version)))


def keys_of(session: Session, dataset_id: int) -> list[Series]:
    return list(session.scalars(select(Series).where(Series.dataset_id == dataset_id).order_by(Series.position)))


def save_dataset(
    session: Session,
    project_id: int,
    name: str,
    reading: TableReading,
    parent_id: int | None = None,
    progress: Progress | None = None,
) -> Dataset:
    """Store a panel as the project's next version; content that is there already is returned as it is.

    `parent_id` names the version it was made from; by default the last one.
    """
    panel = reading.panel
    same = select(Dataset).where(Dataset.project_id == project_id, Dataset.hash == panel.hash)
    found = session.scalar(same)
    if found is not None:
        return found
    last = session.scalar(
        select(Dataset).where(Dataset.project_id == project_id).order_by(Dataset.version.desc()).limit(1)
    )
    dataset = Dataset(
        project_id=project_id,
        parent_id=parent_id or (last.id if last else None),
        version=last.version + 1 if last else 1,
        name=name,
        hash=panel.hash,
        layout=_layout(panel),
        account=_account(reading),
    )
    session.add(dataset)
    session.flush()
    session.add_all(
        Series(dataset_id=dataset.id, position=i, key=key, start=int(panel.starts[i]), length=int(panel.lengths[i]))
        for i, key in enumerate(panel.keys)
    )
    session.flush()
    _write_blocks(session, dataset.id, panel, progress)
    return dataset


def _account(reading: TableReading) -> dict[str, Any]:
    """The account with its findings; a change to a dataset keeps those of the intake."""
    found = [finding.document() for finding in reading.findings]
    return {**reading.account, "findings": found or reading.account.get("findings", [])}


def _layout(panel: Panel) -> dict[str, Any]:
    columns = [{"name": c.name, "role": c.role, "labels": list(c.labels)} for c in panel.covariates]
    return {
        "start": str(panel.axis.start), "step": panel.step, "zone": panel.zone, "unit": panel.unit,
        "columns": columns, "points": len(panel.values),
        "masks": [asdict(mask) for mask in panel.masks], "occasions": [asdict(each) for each in panel.occasions],
    }  # fmt: skip


def _blocks(dataset_id: int, panel: Panel) -> Iterator[tuple[Any, ...]]:
    """Rows of the block table, in order; values as bytes in network order."""

    def pieces(column: str, index: int, values: Floats) -> Iterator[tuple[int, slice, tuple[Any, ...]]]:
        for number, at in enumerate(range(0, max(len(values), 1), BLOCK)):
            part = slice(at, at + BLOCK)
            yield number, part, (dataset_id, column, index, number, values[part].astype(">f8").tobytes())

    for index in range(len(panel)):
        marks = panel.series_marks(index)
        for _, part, row in pieces("", index, panel.series(index)):
            mine = marks[part]
            yield (*row, mine.tobytes() if mine.any() else None)
        for column in panel.covariates:
            for _, _, row in pieces(column.name, index, column.series(index)):
                yield (*row, None)


def _write_blocks(session: Session, dataset_id: int, panel: Panel, progress: Progress | None) -> None:
    columns = 'dataset_id, "column", series, block, values, marks'
    total = max(len(panel.values) * (1 + len(panel.covariates)), 1)
    written = 0
    with (
        binary_cursor(session) as cursor,
        cursor.copy(f"COPY series_block ({columns}) FROM STDIN (FORMAT BINARY)") as copy,
    ):
        copy.set_types(["int8", "text", "int8", "int8", "bytea", "bytea"])
        for row in _blocks(dataset_id, panel):
            copy.write_row(row)
            written += len(row[4]) // 8
            if progress:
                progress("storing", written / total)


def load_series(session: Session, dataset_id: int, index: int, column: str = "") -> Floats:
    """One stored column of one series, (n_points,)."""
    with binary_cursor(session) as cursor:
        cursor.execute(
            'SELECT values FROM series_block WHERE dataset_id = %s AND "column" = %s AND series = %s ORDER BY block',
            (dataset_id, column, index),
        )
        return _decoded([row[0] for row in cursor.fetchall()])


def _decoded(blocks: Sequence[bytes]) -> Floats:
    out = np.empty(sum(len(block) for block in blocks) // 8)
    at = 0
    for block in blocks:
        count = len(block) // 8
        out[at : at + count] = np.frombuffer(block, dtype=">f8")
        at += count
    return out


def load_panel(session: Session, dataset_id: int) -> Panel:
    """The panel of a dataset; its hash equals the stored one."""
    dataset = get_dataset(session, dataset_id)
    series = keys_of(session, dataset_id)
    layout = dataset.layout
    parts: dict[str, list[bytes]] = {}
    lengths: dict[str, list[int]] = {}
    marks: list[bytes] = []
    with binary_cursor(session) as cursor:
        query = (
            'SELECT "column", series, values, marks FROM series_block WHERE dataset_id = %s '
            'ORDER BY "column", series, block'
        )
        for column, index, values, of_values in cursor.stream(query, (dataset_id,)):
            parts.setdefault(column, []).append(values)
            lengths.setdefault(column, [0] * len(series))[index] += len(values) // 8
            if column == "":
                marks.append(of_values or bytes(len(values) // 8))

    def joined(column: str) -> tuple[Floats, Any]:
        offsets = np.concatenate([[0], np.cumsum(lengths[column])]).astype(np.int64)
        return _decoded(parts.pop(column)), offsets

    values, offsets = joined("")
    columns = tuple(
        Covariate(c["name"], c["role"], *joined(c["name"]), tuple(c.get("labels", ()))) for c in layout["columns"]
    )
    return Panel(
        axis=TimeAxis(np.datetime64(layout["start"], "s"), Step.parse(layout["step"]), layout["zone"]),
        keys=tuple(each.key for each in series),
        values=values,
        offsets=offsets,
        starts=np.array([each.start for each in series], dtype=np.int64),
        covariates=columns,
        marks=np.frombuffer(b"".join(marks), dtype=np.uint8),
        unit=layout["unit"],
        masks=tuple(Mask(**mask) for mask in layout.get("masks", ())),
        occasions=tuple(Occasion(**each) for each in layout.get("occasions", ())),
    )
