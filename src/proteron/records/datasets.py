"""Datasets: panels in and out of the database."""

from collections import OrderedDict
from collections.abc import Callable, Iterator
from dataclasses import asdict
from typing import Any

import numpy as np
from psycopg import sql
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from proteron.core.intake import TableReading
from proteron.core.panel import Covariate, Floats, Mask, Occasion, Panel
from proteron.core.timeline import Step, TimeAxis
from proteron.records.database import NotFoundError, binary_cursor
from proteron.records.kept import restore
from proteron.records.models import Dataset, Series

BLOCK = 65_536
Progress = Callable[[str, float], None]


def get_dataset(session: Session, dataset_id: int) -> Dataset:
    dataset = session.get(Dataset, dataset_id)
    if dataset is None:
        raise NotFoundError(f"There is no dataset {dataset_id}.")
    return dataset


def datasets_of(session: Session, project_id: int) -> list[Dataset]:
    present = (Dataset.project_id == project_id) & Dataset.deleted.is_(None)
    return list(session.scalars(select(Dataset).where(present).order_by(Dataset.version)))


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
    """Store a panel as the project's next version; content that is there already is returned as it is, also if deleted.

    `parent_id` names the version it was made from; by default the last one.
    """
    panel = reading.panel
    same = select(Dataset).where(Dataset.project_id == project_id, Dataset.hash == panel.hash)
    found = session.scalar(same.order_by(Dataset.deleted.is_not(None), Dataset.version).limit(1))
    if found is not None:
        return restore(session, "datasets", found.id) if found.deleted else found  # type: ignore[return-value]
    number = select(func.max(Dataset.version)).where(Dataset.project_id == project_id)
    present = datasets_of(session, project_id)
    dataset = Dataset(
        project_id=project_id,
        parent_id=parent_id or (present[-1].id if present else None),
        version=(session.scalar(number) or 0) + 1,
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
    uneven = panel.axis.step.unit == "business_day"  # whose times only who knows the holidays can tell
    times = {"times": panel.axis.times(np.arange(panel.end)).astype(np.int64).tolist()} if uneven else {}
    return times | {
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
    where = sql.SQL('dataset_id = {} AND "column" = {} AND series = {}').format(dataset_id, column, index)
    out = np.empty(sum(length for _, _, length in _lengths(session, where)))
    at = 0
    for values, *_ in _blocks_of(session, where):
        at = _decode(values, out, at)
    return out


def _lengths(session: Session, where: sql.Composed) -> list[tuple[str, int, int]]:
    """Column, series and number of stored values, in the order of the blocks."""
    query = sql.SQL(
        'SELECT "column", series, sum(octet_length(values) / 8)::int8 FROM series_block WHERE {} '
        'GROUP BY "column", series ORDER BY "column", series'
    )
    with binary_cursor(session) as cursor:
        return cursor.execute(query.format(where)).fetchall()


def _blocks_of(session: Session, where: sql.Composed) -> Iterator[tuple[Any, ...]]:
    """Values, marks and column of every block in order, copied out: the quickest way across the wire."""
    query = sql.SQL(
        'COPY (SELECT values, marks, "column" FROM series_block WHERE {} ORDER BY "column", series, block) '
        "TO STDOUT (FORMAT BINARY)"
    )
    with binary_cursor(session) as cursor, cursor.copy(query.format(where)) as copy:
        copy.set_types(["bytea", "bytea", "text"])
        yield from copy.rows()


def _decode(block: bytes, out: Floats, at: int) -> int:
    """Doubles in network order into `out` from place `at`; returns the place after them."""
    stop = at + len(block) // 8
    out[at:stop] = np.frombuffer(block, dtype=">f8")
    return stop


def load_panel(session: Session, dataset_id: int) -> Panel:
    """The panel of a dataset; its hash equals the stored one."""
    dataset = get_dataset(session, dataset_id)
    series = keys_of(session, dataset_id)
    layout = dataset.layout
    where = sql.SQL("dataset_id = {}").format(dataset_id)
    lengths: dict[str, list[int]] = {}
    for column, _, length in _lengths(session, where):
        lengths.setdefault(column, []).append(length)
    arrays = {column: np.empty(sum(of_column)) for column, of_column in lengths.items()}
    marks = np.zeros(len(arrays[""]), dtype=np.uint8)
    places = dict.fromkeys(arrays, 0)
    for values, of_values, column in _blocks_of(session, where):
        at, places[column] = places[column], _decode(values, arrays[column], places[column])
        if of_values is not None:
            marks[at : places[column]] = np.frombuffer(of_values, dtype=np.uint8)

    def joined(column: str) -> tuple[Floats, Any]:
        return arrays[column], np.concatenate([[0], np.cumsum(lengths[column])]).astype(np.int64)

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
        marks=marks,
        unit=layout["unit"],
        masks=tuple(Mask(**mask) for mask in layout.get("masks", ())),
        occasions=tuple(Occasion(**each) for each in layout.get("occasions", ())),
    )


class PanelCache:
    """The panels used last, by dataset; datasets never change, so nothing goes stale."""

    def __init__(self, size: int = 4) -> None:
        self._size = size
        self._panels: OrderedDict[int, Panel] = OrderedDict()

    def get(self, session: Session, dataset_id: int) -> Panel:
        """The panel of a dataset, read when it is not there; raises `NotFoundError`."""
        panel = self._panels.pop(dataset_id, None) or load_panel(session, dataset_id)
        self._panels[dataset_id] = panel
        while len(self._panels) > self._size:
            self._panels.popitem(last=False)
        return panel
