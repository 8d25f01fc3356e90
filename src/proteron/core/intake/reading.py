"""From raw columns and roles to a panel, with findings and an account of what was done."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from proteron.core.errors import InputError, SettingsError
from proteron.core.intake.columns import as_numbers, as_times, cleaned
from proteron.core.intake.delimited import Limits, RawTable, read_delimited
from proteron.core.intake.roles import ROLES, Role, guess_roles
from proteron.core.panel import Covariate, Floats, Panel
from proteron.core.timeline import Ints, Step, TimeAxis, grid_positions, infer_step, zone_info


@dataclass(frozen=True)
class Finding:
    """Something about the data its owner should know: code, severity, rows (from 0, at most 20), sentence."""

    code: str
    severity: str
    rows: tuple[int, ...]
    message: str


@dataclass(frozen=True)
class TableReading:
    """A full reading: the panel, what was found, and what was done, replayable."""

    panel: Panel
    findings: tuple[Finding, ...]
    account: dict[str, Any]


def load_bytes(source: str | Path | bytes) -> bytes:
    """The content of a file, or bytes as they are; raises `InputError` when it cannot be read."""
    if isinstance(source, bytes):
        return source
    try:
        return Path(source).read_bytes()
    except OSError as error:
        raise InputError(f"{source} cannot be read: {error.strerror}.", field="file") from error


def read_table(
    source: str | Path | bytes,
    roles: Mapping[str, Role] | None = None,
    step: str | None = None,
    zone: str = "UTC",
    unit: str = "",
    limits: Limits | None = None,
) -> TableReading:
    """Read delimited text into a panel; roles and step are guessed where they are not given.

    Raises `InputError` naming the column and rows when there is no time or target, when times
    repeat or lie off the grid, or when text stands where numbers should be.
    """
    zone_info(zone)
    raw = read_delimited(load_bytes(source), limits)
    chosen = settle_roles(raw, roles)
    return build_panel(raw, chosen, step, zone, unit)


def read_panel(
    source: str | Path | bytes,
    time: str | None = None,
    value: str | Sequence[str] | None = None,
    key: str | Sequence[str] | None = None,
    **rest: Any,
) -> Panel:
    """`read_table` with columns named directly; returns the panel alone."""
    named: dict[str, Role] = {}
    for columns, role in ((time, "time"), (key, "key"), (value, "target")):
        for column in [columns] if isinstance(columns, str) else columns or ():
            named[column] = role  # type: ignore[assignment]
    given = dict(rest.pop("roles", None) or {})
    return read_table(source, roles={**given, **named} or None, **rest).panel


def settle_roles(raw: RawTable, roles: Mapping[str, Role] | None) -> dict[str, Role]:
    """Given roles over guessed ones; a given time, key or target replaces the guess of that role."""
    settled = {guess.column: guess.role for guess in guess_roles(raw)}
    for column, role in (roles or {}).items():
        if column not in settled:
            raise InputError(f"There is no column “{column}”; there are: {', '.join(raw.names[:20])}.", field="roles")
        if role not in ROLES:
            raise SettingsError(f"“{role}” is not a role; there are: {', '.join(ROLES)}.", field="roles")
    given = dict(roles or {})
    for role, instead in (("time", "ignore"), ("target", "observed"), ("key", "ignore")):
        if role in given.values():
            settled = {c: instead if r == role and c not in given else r for c, r in settled.items()}  # type: ignore[misc]
    return settled | given


def build_panel(raw: RawTable, roles: Mapping[str, Role], step: str | None, zone: str, unit: str) -> TableReading:
    """Assemble the panel; see `read_table`."""
    by_role = {role: [name for name in raw.names if roles.get(name) == role] for role in ROLES}
    if len(by_role["time"]) != 1:
        count = len(by_role["time"])
        problem = "No column reads as a time" if not count else f"{count} columns are marked as the time"
        raise InputError(f"{problem}; mark exactly one of: {', '.join(raw.names[:20])}.", field="time")
    if not by_role["target"]:
        raise InputError("No column is marked as the target: mark the numbers to forecast.", field="target")
    times = _times(raw, by_role["time"][0], zone)
    numbers = {name: _numbers(raw, name) for role in ROLES[2:6] for name in by_role[role]}
    for name in by_role["target"]:
        if not np.isfinite(numbers[name]).any():
            raise InputError(f"Column “{name}” has no value in any row.", field=name)
    codes, keys = _keys(raw, by_role["key"])
    findings = [Finding("encoding", "warning", (), note) for note in raw.notes]
    axis, positions = _axis(times, codes, step, zone)
    order = np.lexsort((positions, codes))
    if (order != np.arange(len(order))).any():
        moved = np.flatnonzero(order != np.arange(len(order)))
        findings.append(Finding("unsorted", "note", _first(moved), "Rows were not in order of key and time: sorted."))
    _refuse_duplicates(positions, codes, order, axis, keys)
    shape = _Shape(positions, codes, len(keys))
    gaps = int(shape.lengths.sum() - len(positions))
    if gaps:
        findings.append(Finding("gaps", "warning", (), f"{gaps:,} steps have no row: kept as missing, not filled."))
    targets = by_role["target"]
    names = keys if len(targets) == 1 else [f"{key} · {t}" if key else t for t in targets for key in keys]
    values = np.concatenate([shape.spread(numbers[name]) for name in targets])
    missing = int(np.isnan(values).sum()) - gaps * len(targets)
    if missing:
        findings.append(Finding("missing", "warning", (), f"{missing:,} rows have no value: kept as missing."))
    copies = len(targets)
    offsets = np.concatenate([[0], np.cumsum(np.tile(shape.lengths, copies))]).astype(np.int64)
    columns = tuple(
        Covariate(name, role, np.tile(shape.spread(numbers[name]), copies), offsets)
        for role in ("observed", "known_ahead", "static")
        for name in by_role[role]
    )  # fmt: skip
    series = tuple(name or targets[0] for name in names)
    panel = Panel(axis, series, values, offsets, np.tile(shape.starts, copies), columns, unit=unit)
    account = {
        "reader": "delimited", "encoding": raw.encoding, "delimiter": raw.delimiter, "rows": raw.columns.num_rows,
        "roles": {name: roles[name] for name in raw.names}, "step": str(axis.step), "zone": zone, "unit": unit,
    }  # fmt: skip
    return TableReading(panel, tuple(findings), account)


class _Shape:
    """Where rows stand in the flat arrays of a panel with gaps opened."""

    def __init__(self, positions: Ints, codes: Ints, count: int) -> None:
        self.starts = np.full(count, np.iinfo(np.int64).max)
        stops = np.zeros(count, dtype=np.int64)
        np.minimum.at(self.starts, codes, positions)
        np.maximum.at(stops, codes, positions + 1)
        self.lengths = stops - self.starts
        begins = np.concatenate([[0], np.cumsum(self.lengths)[:-1]])
        self.places = begins[codes] + positions - self.starts[codes]

    def spread(self, column: Floats) -> Floats:
        out = np.full(int(self.lengths.sum()), np.nan)
        out[self.places] = column
        return out


def _first(rows: NDArray[Any]) -> tuple[int, ...]:
    return tuple(int(row) for row in rows[:20])


def _line(rows: NDArray[Any]) -> str:
    """Rows as people count them in the file: the header is line 1."""
    shown = ", ".join(f"{row + 2:,}" for row in rows[:5])
    return f"line{'s' if len(rows) > 1 else ''} {shown}" + (f" and {len(rows) - 5:,} more" if len(rows) > 5 else "")


def _times(raw: RawTable, name: str, zone: str) -> NDArray[np.datetime64]:
    times, left_over = as_times(raw.columns[name], zone)
    bad = np.flatnonzero(left_over | np.isnat(times))
    if len(bad):
        text = raw.columns[name][int(bad[0])].as_py()
        raise InputError(f"Column “{name}” is not a time in {_line(bad)}: “{text[:40]}”.", field=name)
    return times


def _numbers(raw: RawTable, name: str) -> Floats:
    numbers, left_over = as_numbers(raw.columns[name])
    bad = np.flatnonzero(left_over)
    if len(bad):
        text = raw.columns[name][int(bad[0])].as_py()
        raise InputError(f"Column “{name}” is not a number in {_line(bad)}: “{text[:40]}”.", field=name)
    return numbers


def _keys(raw: RawTable, names: list[str]) -> tuple[Ints, list[str]]:
    """Codes (n_rows,) and joined key texts in order of first appearance; one empty key where there is none."""
    if not names:
        return np.zeros(raw.columns.num_rows, dtype=np.int64), [""]
    parts = [pc.fill_null(cleaned(raw.columns[name]), "(none)") for name in names]
    joined = parts[0] if len(parts) == 1 else pc.binary_join_element_wise(*parts, " / ")
    encoded = pa.chunked_array(joined).combine_chunks().dictionary_encode()
    return np.asarray(encoded.indices, dtype=np.int64), encoded.dictionary.to_pylist()


def _axis(times: NDArray[np.datetime64], codes: Ints, step: str | None, zone: str) -> tuple[TimeAxis, Ints]:
    if step is None:
        largest = np.bincount(codes).argmax()
        distinct = np.unique(times[codes == largest])
        if len(distinct) < 2:
            raise InputError("One row is not a series: at least two different times are needed.", field="time")
        found = infer_step(distinct, zone)
    else:
        found = Step.parse(step)
    axis = TimeAxis(np.datetime64(times.min(), "s"), found, zone)
    positions, exact = grid_positions(times, axis)
    off = np.flatnonzero(~exact)
    if len(off):
        raise InputError(
            f"{len(off):,} times do not lie on a grid of {found} from {axis.start}: {_line(off)}. "
            "State the step, or mend the times.",
            field="step",
        )
    return axis, positions


def _refuse_duplicates(positions: Ints, codes: Ints, order: Ints, axis: TimeAxis, keys: list[str]) -> None:
    same = (np.diff(positions[order]) == 0) & (np.diff(codes[order]) == 0)
    if same.any():
        rows = np.sort(order[1:][same])
        row = int(rows[0])
        at = str(axis.times(positions[row : row + 1])[0]).replace("T", " ")
        whose = f" of “{keys[codes[row]]}”" if keys[codes[row]] else ""
        raise InputError(
            f"{len(rows):,} times occur twice, first {at}{whose} ({_line(rows)}). "
            "Is a key column missing, or are the rows events?",
            field="time",
        )
