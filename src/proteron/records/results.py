"""What cells found: written once, and read in parts: losses, forecasts, or what was learned."""

from collections.abc import Collection, Iterable, Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

import numpy as np
from sqlalchemy import func, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from proteron.core.forecasters import Contender
from proteron.core.judge import Cell, CellResult, EntrantFacts, Failure, Fit, Fold, Losses
from proteron.core.judge.deceptions import Outcome
from proteron.core.panel import Floats
from proteron.records.database import binary_cursor, pack_arrays, unpack_arrays
from proteron.records.experiments import failures_of
from proteron.records.models import CellRecord, ContenderRecord, ExperimentCell, FitRecord


def doubles(array: Floats) -> bytes:
    """Doubles in network order, as they are stored."""
    return np.ascontiguousarray(array, dtype=">f8").tobytes()


def from_doubles(content: bytes, *shape: int) -> Floats:
    return np.frombuffer(content, dtype=">f8").astype(np.float64).reshape(shape)


# writing


def save_result(session: Session, result: CellResult) -> bool:
    """Store what a cell found in this transaction; a second result changes nothing. Tells whether it was the first."""
    cell = result.cell
    values = {
        "state": "done", "reason": None, "declined": dict(result.declined), "seconds": result.seconds,
        "cpu_seconds": result.cpu_seconds, "memory": result.memory, "finished": datetime.now(UTC),
    }  # fmt: skip
    first = update(CellRecord).where(CellRecord.key == cell.key, CellRecord.state != "done").values(values)
    if session.execute(first.returning(CellRecord.key)).first() is None:
        return False
    if result.fit is not None:
        _save_fit(session, result.fit)
    horizon, gap = cell.place.horizon, cell.place.gap
    blocks = [
        (
            cell.key, series, horizon, gap, doubles(result.mean[row]), doubles(result.flat_mean[row]),
            doubles(result.flat_truth[row]), doubles(result.ranges[:, :, row]),
            None if result.paths is None else doubles(result.paths[:, row]),
        )
        for row, series in enumerate(cell.series)
    ]  # fmt: skip
    with binary_cursor(session) as cursor:
        with cursor.copy(
            "COPY forecast_block (key, series, horizon, gap, mean, flat_mean, flat_truth, ranges, paths) "
            "FROM STDIN (FORMAT BINARY)"
        ) as copy:
            copy.set_types(["text", "int8", "int8", "int8", "bytea", "bytea", "bytea", "bytea", "bytea"])
            for block in blocks:
                copy.write_row(block)
        cursor.executemany(
            "INSERT INTO cell_loss (key, metric, losses) VALUES (%s, %s, %s)",
            [(cell.key, metric, doubles(losses)) for metric, losses in result.losses.items()],
        )
    return True


def _save_fit(session: Session, fit: Fit) -> None:
    facts = {"chain": _plain(fit.chain), "forecaster": _plain(fit.facts)}
    row = {
        "key": fit.key, "facts": facts, "arrays": pack_arrays(dict(fit.arrays)), "spread": doubles(fit.spread),
        "seconds": fit.seconds, "cpu_seconds": fit.cpu_seconds,
    }  # fmt: skip
    session.execute(insert(FitRecord).values(row).on_conflict_do_nothing())


def _plain(facts: Any) -> Any:
    """JSON has no NaN: missing numbers become the text "NaN", undone by `_numbers`."""
    if isinstance(facts, Mapping):
        return {name: _plain(value) for name, value in facts.items()}
    if isinstance(facts, list | tuple):
        return [_plain(value) for value in facts]
    if isinstance(facts, np.generic):
        return _plain(facts.item())
    if isinstance(facts, float) and not np.isfinite(facts):
        return str(facts)
    return facts


def _numbers(facts: Any) -> Any:
    if isinstance(facts, dict):
        return {name: _numbers(value) for name, value in facts.items()}
    if isinstance(facts, list):
        return [_numbers(value) for value in facts]
    return float(facts) if facts in ("nan", "inf", "-inf") else facts


# reading


def load_cell(session: Session, experiment_id: int, key: str) -> Cell:
    """What a cell of an experiment is."""
    row = session.execute(_cells(experiment_id).where(CellRecord.key == key)).one()
    return _cell(row, {})


def _cells(experiment_id: int) -> Any:
    return (
        select(ExperimentCell.contender, ExperimentCell.fold, CellRecord, ContenderRecord.document)
        .join(CellRecord, CellRecord.key == ExperimentCell.key)
        .join(ContenderRecord, ContenderRecord.hash == CellRecord.contender)
        .where(ExperimentCell.experiment_id == experiment_id)
        .order_by(ExperimentCell.number)
    )


def _cell(row: Any, contenders: dict[str, Contender]) -> Cell:
    name, fold, record, document = row
    if record.contender not in contenders:
        contenders[record.contender] = Contender.from_document(document)
    return Cell(
        name, contenders[record.contender], fold, Fold.from_document(record.place), tuple(record.series), record.key,
        record.fit_key, tuple(record.needs), tuple(record.levels),
    )  # fmt: skip


def load_fit(session: Session, key: str) -> Fit | None:
    """What was learned, None where it is not there."""
    record = session.get(FitRecord, key)
    if record is None:
        return None
    facts = _numbers(record.facts)
    spread = from_doubles(record.spread, -1)
    arrays, taken = unpack_arrays(record.arrays), (record.seconds, record.cpu_seconds)
    return Fit(record.key, facts["chain"], facts["forecaster"], arrays, spread, *taken)


def load_results(
    session: Session,
    experiment_id: int,
    names: Sequence[str] | None = None,
    fold: int | None = None,
    series: int | None = None,
    learned: bool = False,
    keys: Collection[str] | None = None,
) -> list[CellResult]:
    """Forecasts of an experiment's finished cells; of some contenders, a fold, a series, or some keys where asked.

    What was learned comes with them only when it is asked for; losses are read by `load_losses`.
    """
    query = _cells(experiment_id).where(CellRecord.state == "done")
    if names is not None:
        query = query.where(ExperimentCell.contender.in_(names))
    if fold is not None:
        query = query.where(ExperimentCell.fold == fold)
    if series is not None:
        query = query.where(CellRecord.series.contains([series]))
    if keys is not None:
        query = query.where(CellRecord.key.in_(keys))
    rows = session.execute(query).all()
    blocks = _blocks(session, [row[2].key for row in rows])
    wanted = select(FitRecord.key, FitRecord.spread).where(FitRecord.key.in_([row[2].fit_key for row in rows]))
    spreads = {row.key: row.spread for row in session.execute(wanted)}
    contenders: dict[str, Contender] = {}
    found = []
    for row in rows:
        cell, record = _cell(row, contenders), row[2]
        fit = load_fit(session, cell.fit_key) if learned else None
        found.append(_result(cell, record, blocks[cell.key], from_doubles(spreads[cell.fit_key], -1), fit))
    return found


def _blocks(session: Session, keys: Sequence[str]) -> dict[str, dict[int, tuple[bytes | None, ...]]]:
    blocks: dict[str, dict[int, tuple[bytes | None, ...]]] = {}
    with binary_cursor(session) as cursor:
        cursor.execute(
            "SELECT key, series, mean, flat_mean, flat_truth, ranges, paths FROM forecast_block WHERE key = ANY(%s)",
            (list(keys),),
        )
        for key, series, *parts in cursor:
            blocks.setdefault(key, {})[series] = tuple(parts)
    return blocks


def _result(
    cell: Cell, record: CellRecord, blocks: Mapping[int, tuple[bytes | None, ...]], spread: Floats, fit: Fit | None
) -> CellResult:
    origins = np.array(record.origins, dtype=np.int64)
    shape = (len(origins), cell.place.horizon)

    def stacked(part: int, *lead: int) -> Floats:
        """One row per series, before the arrays of each."""
        return np.stack([from_doubles(blocks[s][part] or b"", *lead, *shape) for s in cell.series], axis=len(lead))

    paths = None if blocks[cell.series[0]][4] is None else stacked(4, -1)
    return CellResult(
        cell=cell, origins=origins, mean=stacked(0), flat_mean=stacked(1), flat_truth=stacked(2),
        ranges=stacked(3, len(cell.levels), 2), losses={}, spread=spread, fit=fit, paths=paths,
        declined=record.declined, seconds=record.seconds, cpu_seconds=record.cpu_seconds,
        memory=record.memory,
    )  # fmt: skip


def load_losses(
    session: Session, experiment_id: int, metrics: Iterable[str], names: Sequence[str], folds: Sequence[Fold],
    series: int, first: int = 0,
) -> dict[str, Losses]:  # fmt: skip
    """The losses of finished cells by metric; a query over losses alone. `first` is the number of the first fold."""
    wanted = list(dict.fromkeys(metrics))
    found = {metric: Losses.empty(metric, names, folds, series) for metric in wanted}
    with binary_cursor(session) as cursor:
        cursor.execute(
            "SELECT e.contender, e.fold, c.series, cardinality(c.origins), l.metric, l.losses "
            "FROM experiment_cell e JOIN cell c ON c.key = e.key JOIN cell_loss l ON l.key = e.key "
            "WHERE e.experiment_id = %s AND c.state = 'done' AND l.metric = ANY(%s) AND e.fold >= %s AND e.fold < %s",
            (experiment_id, wanted, first, first + len(folds)),
        )
        for name, fold, of_cell, origins, metric, losses in cursor:
            if name not in found[metric].names:
                continue
            array = from_doubles(losses, len(of_cell), origins, folds[fold - first].horizon)
            found[metric].put(name, fold - first, of_cell, array)
    return found


def load_outcomes(
    session: Session, experiment_id: int, folds: Sequence[Fold], series: int
) -> dict[str, Outcome]:  # fmt: skip
    """What every entrant forecast in its finished cells, by name; without ranges and paths."""
    found: dict[str, Outcome] = {}
    with binary_cursor(session) as cursor:
        cursor.execute(
            "SELECT e.contender, e.fold, c.series, cardinality(c.origins), f.spread, b.mean, b.flat_mean, b.flat_truth "
            "FROM experiment_cell e JOIN cell c ON c.key = e.key JOIN fit f ON f.key = c.fit_key "
            "JOIN (SELECT key, string_agg(mean, ''::bytea ORDER BY series) mean, "
            "string_agg(flat_mean, ''::bytea ORDER BY series) flat_mean, "
            "string_agg(flat_truth, ''::bytea ORDER BY series) flat_truth FROM forecast_block WHERE key IN "
            "(SELECT key FROM experiment_cell WHERE experiment_id = %(id)s) GROUP BY key) b ON b.key = e.key "
            "WHERE e.experiment_id = %(id)s AND c.state = 'done' AND e.fold < %(folds)s",
            {"id": experiment_id, "folds": len(folds)},
        )
        for name, fold, of_cell, origins, spread, *parts in cursor:
            mean, flat, truth = (from_doubles(part, len(of_cell), origins, folds[fold].horizon) for part in parts)
            if name not in found:
                found[name] = Outcome.empty(folds, series)
            own = from_doubles(spread, -1)[np.argsort(of_cell)]
            found[name].put(fold, sorted(of_cell), Outcome(mean, flat, truth, own))
    return found


def entrant_facts(
    session: Session, experiment_id: int, families: Mapping[str, str], folds: range
) -> list[EntrantFacts]:  # fmt: skip
    """Cells, time and failures of every entrant in some folds, in the order of `families` (family by name)."""
    state, times = CellRecord.state, (CellRecord.seconds, CellRecord.cpu_seconds)
    query = (
        select(
            ExperimentCell.contender,
            func.count().filter(state == "done"),
            func.count().filter(state == "failed"),
            *(func.coalesce(func.sum(taken).filter(state == "done"), 0.0) for taken in times),
        )
        .join(CellRecord, CellRecord.key == ExperimentCell.key)
        .where(ExperimentCell.experiment_id == experiment_id, ExperimentCell.fold.between(folds[0], folds[-1]))
        .group_by(ExperimentCell.contender)
    )
    told = ("cells", "failed", "seconds", "cpu_seconds")
    counts: dict[str, dict[str, Any]] = {
        found[0]: dict(zip(told, found[1:], strict=True)) for found in session.execute(query)
    }
    failures: dict[str, list[Failure]] = {}
    for each in failures_of(session, experiment_id):
        if each["fold"] in folds:
            mine = {**each, "fold": each["fold"] - folds[0]}
            failures.setdefault(each["contender"], []).append(Failure(**mine))
    return [
        EntrantFacts(name, family, **counts.get(name, {}), failures=tuple(failures.get(name, ())))
        for name, family in families.items()
    ]
