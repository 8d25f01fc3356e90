"""Forecasts made elsewhere, read from a table: times, values, perhaps series, origins and bounds."""

import re
from dataclasses import dataclass

import numpy as np
import pyarrow as pa

from proteron.core.errors import InputError, LimitError
from proteron.core.forecasters import Contender
from proteron.core.forecasters.made_elsewhere import MadeElsewhere, SeriesForecasts
from proteron.core.intake.limits import Limits
from proteron.core.intake.numbers import read_numbers
from proteron.core.intake.raw import RawTable, ReaderSettings
from proteron.core.intake.sources import Given, read_raw
from proteron.core.intake.times import read_times
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Instants, Ints, grid_positions
from proteron.core.words import counted, listed

_MOST = 200_000
_NAMES = {
    "time": ("time", "when", "timestamp", "datetime", "date", "target_time", "month", "day", "hour"),
    "key": ("key", "series", "id", "item", "name"),
    "origin": ("origin", "cutoff", "made", "made_at", "as_of", "issued"),
    "value": ("mean", "value", "forecast", "prediction", "predicted"),
}
_BOUND = re.compile(r"(lower|upper|low|high)(?:[ _-]?(\d{1,2}(?:\.\d+)?))?", re.IGNORECASE)
_USUAL = 95.0
_Bounds = list[tuple[float, Floats, Floats]]


@dataclass(frozen=True)
class Brought:
    """A contender of forecasts made elsewhere, and what became of the rows: how many there were and are used, notes."""

    contender: Contender
    rows: int
    used: int
    notes: tuple[str, ...]


def read_forecasts(source: Given, panel: Panel, name: str = "", limits: Limits | None = None) -> Brought:
    """Read a table of forecasts of a panel's series, in original units.

    Columns are found by their names: time, value (or mean, forecast), and where there are such, key, origin (the last
    moment known when it was made) and bounds as `lower_80`, `upper_80`. Raises `InputError` where one is missing, no
    row fits the panel or a forecast stands twice, `LimitError` beyond 200,000 rows.
    """
    raw = read_raw(source, limits=limits)
    if raw.columns.num_rows > _MOST:
        raise LimitError(f"{raw.columns.num_rows:,} forecasts are too many; the limit is {_MOST:,}.", field="file")
    columns = _columns(raw, len(panel) > 1)
    positions, on_grid = _places(raw, columns["time"], panel)
    made, notes = np.zeros(len(positions), dtype=np.int64), list[str]()
    if "origin" in columns:
        origins, known = _places(raw, columns["origin"], panel, at_most=True)
        made, on_grid = np.maximum(origins + 1, 0), on_grid & known & (origins >= 0)
    else:
        notes.append("No column says when they were made: every origin is given the same ones.")
    values = _numbers(raw, columns["value"])
    keys = _keys(raw, columns, panel)
    strangers = sorted(set(keys[~np.isin(keys, panel.keys)].tolist()))
    if strangers:
        notes.append(f"There is no series {listed(strangers, 3)} here.")
    late = on_grid & (made > positions)
    if late.any():
        notes.append(f"{counted(int(late.sum()), 'row tells', 'rows tell')} of what was known already; not used.")
    there = on_grid & np.isfinite(values) & np.isin(keys, panel.keys) & ~late
    if not there.any():
        raise InputError(f"No row is a forecast of this data. {' '.join(notes)}".strip(), field="file")
    if (off := int((~on_grid).sum())) > 0:
        notes.append(f"{counted(off, 'row has', 'rows have')} no time on the grid of {panel.step}; not used.")
    bounds = _whole(_bounds(raw), there, notes)
    lower, upper = [low for _, low, _ in bounds], [high for *_, high in bounds]
    found: dict[str, SeriesForecasts] = {}
    for key in dict.fromkeys(keys[there].tolist()):
        mine = there & (keys == key)
        pairs = np.stack([positions[mine], made[mine]])
        if pairs.shape[1] != np.unique(pairs, axis=1).shape[1]:
            raise InputError(f"Two rows forecast the same point of {key} from the same origin.", field="file")
        found[key] = SeriesForecasts(
            positions=tuple(positions[mine].tolist()), made=tuple(made[mine].tolist()),
            values=tuple(values[mine].tolist()), lower=_told(lower, mine), upper=_told(upper, mine),
        )  # fmt: skip
    forecaster = MadeElsewhere(source=name, levels=tuple(level for level, *_ in bounds), forecasts=found)
    return Brought(Contender(forecaster=forecaster), len(positions), int(there.sum()), tuple(notes))


def _columns(raw: RawTable, several: bool) -> dict[str, str]:
    """Which column is what, by name."""
    found = dict[str, str]()
    for what, names in _NAMES.items():
        plain = {re.sub(r"[^a-z0-9]+", "_", name.lower()).strip("_"): name for name in reversed(raw.names)}
        given = next((plain[name] for name in names if name in plain and plain[name] not in found.values()), None)
        if given is not None:
            found[what] = given
    wanted = ["time", "value", *(["key"] if several else [])]
    missing = next((what for what in wanted if what not in found), None)
    if missing is not None:
        called = ", ".join(_NAMES[missing][:4])
        raise InputError(
            f"There is no column of the {missing}, such as {called}; there are: {listed(raw.names, 8)}.", field="file"
        )
    return found


def _column(raw: RawTable, name: str) -> pa.Array:
    column = raw.columns[name]
    return column.combine_chunks() if isinstance(column, pa.ChunkedArray) else column


def _places(raw: RawTable, name: str, panel: Panel, at_most: bool = False) -> tuple[Ints, np.ndarray]:
    """Grid positions of a column's times, and which lie on the grid; with `at_most` the last at or before each."""
    read = read_times(_column(raw, name), panel.zone)
    if read is None:
        raise InputError(f"“{name}” cannot be read as times.", field="file")
    known = ~np.isnat(read.instants)
    instants: Instants = np.where(known, read.instants, panel.axis.start)
    positions, exact = grid_positions(instants, panel.axis)
    if at_most:
        later = panel.axis.times(positions) > instants
        return positions - later, known
    return positions, known & exact & (positions >= 0)


def _numbers(raw: RawTable, name: str) -> Floats:
    return read_numbers(_column(raw, name), ReaderSettings()).values


def _bounds(raw: RawTable) -> _Bounds:
    """Levels that have both ends, lowest first, with their ends."""
    ends: dict[float, dict[str, str]] = {}
    for name in raw.names:
        match = _BOUND.fullmatch(name.strip())
        if match:
            level = float(match[2] or _USUAL) / 100
            ends.setdefault(level, {})["lower" if match[1].lower().startswith("lo") else "upper"] = name
    levels = sorted(level for level, found in ends.items() if len(found) == 2 and 0 < level < 1)
    return [(level, _numbers(raw, ends[level]["lower"]), _numbers(raw, ends[level]["upper"])) for level in levels]


def _keys(raw: RawTable, columns: dict[str, str], panel: Panel) -> np.ndarray:
    if "key" not in columns or len(panel) == 1:
        return np.full(raw.columns.num_rows, panel.keys[0], dtype=object)
    return np.array([str(each) for each in _column(raw, columns["key"]).to_pylist()], dtype=object)


def _told(ends: list[Floats], mine: np.ndarray) -> tuple[tuple[float, ...], ...]:
    return tuple(tuple(end[mine].tolist()) for end in ends)


def _whole(bounds: _Bounds, there: np.ndarray, notes: list[str]) -> _Bounds:
    """Only levels whose ends are known wherever there is a forecast; of the others it is noted."""
    kept: _Bounds = []
    for level, low, high in bounds:
        lacking = int((~(np.isfinite(low) & np.isfinite(high)) & there).sum())
        if lacking:
            notes.append(f"The {100 * level:g} % range is missing in {counted(lacking, 'row')}; not used.")
        else:
            kept.append((level, low, high))
    return kept
