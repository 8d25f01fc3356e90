"""A panel as a table again: CSV, JSON lines, Parquet, Arrow, XLSX; reading it back gives the same panel."""

import json
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.feather as pa_feather
import pyarrow.parquet as pa_parquet

from proteron.core import csv_tables
from proteron.core.errors import SettingsError
from proteron.core.intake.raw import MARK, MARKS
from proteron.core.intake.recipe import MaskedSpan, OccasionSpan, Recipe
from proteron.core.intake.roles import Role
from proteron.core.panel import FILLED, FROM_BOTH_SIDES, Covariate, Panel
from proteron.core.table_files import FORMATS, write_xlsx

_NAMES = ("time", "key", "value")


def panel_table(panel: Panel) -> pa.Table:
    """Long rows of every point, missing ones too: time (UTC), key, value, covariates; known-ahead ones to their end.

    Categories are dictionaries of text.
    """
    lengths = [_reach(panel, i) for i in range(len(panel))]
    times = np.concatenate([panel.axis.times(panel.starts[i] + np.arange(n)) for i, n in enumerate(lengths)])
    codes = np.repeat(np.arange(len(panel), dtype=np.int32), lengths)
    keys = pa.array(panel.keys, pa.string())
    columns: dict[str, Any] = {
        "time": pa.array(times, type=pa.timestamp("s", tz="UTC")),
        "key": pa.DictionaryArray.from_arrays(pa.array(codes), keys),
        "value": _numbers(_stretched(panel.values, panel.offsets, lengths)),
    }
    if panel.marks.any() or any(column.role == "known_ahead" for column in panel.covariates):
        columns[MARK] = _marks(panel, lengths)
    for column in panel.covariates:
        name = column.name if column.name not in columns else f"{column.name} column"
        columns[name] = _cells(column, lengths)
    return pa.table(columns)


def recipe_of(panel: Panel) -> Recipe:
    """The recipe that reads a written panel back as it was: roles, grid, masks, occasions; nothing is mended."""
    roles: dict[str, Role] = {"time": "time", "key": "key", "value": "target"}
    roles |= {column.name: column.role for column in panel.covariates}
    day = np.timedelta64(1, "D")

    def date(position: int, back: int = 0) -> str:
        return str(panel.axis.local(np.array([position]))[0].astype("datetime64[D]") - back * day)

    def stamp(position: int) -> str:
        return str(panel.axis.times(np.array([position]))[0]) + "+00:00"

    return Recipe(
        roles=roles,
        categories={column.name: bool(column.labels) for column in panel.covariates},
        zone=panel.zone, unit=panel.unit, step=panel.step, checked=True,
        masks=tuple(
            MaskedSpan(start=stamp(m.start), end=stamp(m.stop - 1), reason=m.reason, learning=m.learning,
                       scoring=m.scoring, series=m.key)
            for m in panel.masks
        ),
        occasions=tuple(OccasionSpan(name=o.name, first=date(o.start), last=date(o.stop, 1)) for o in panel.occasions),
    )  # fmt: skip


def _marks(panel: Panel, lengths: list[int]) -> Any:
    known = MARKS.index("known")
    codes = [np.full(n, MARKS.index("ahead"), dtype=np.int32) for n in lengths]
    for index, part in enumerate(codes):
        marks = panel.series_marks(index)
        filled = np.where(marks & FROM_BOTH_SIDES, MARKS.index("filled across"), MARKS.index("filled"))
        part[: len(marks)] = np.where(marks & FILLED, filled, known)
    return pa.DictionaryArray.from_arrays(pa.array(np.concatenate(codes)), pa.array(MARKS))


def _reach(panel: Panel, index: int) -> int:
    ahead = [len(c.series(index)) for c in panel.covariates if c.role == "known_ahead"]
    return max([int(panel.lengths[index]), *ahead])


def _stretched(values: Any, offsets: Any, lengths: list[int]) -> Any:
    out = [np.full(n, np.nan) for n in lengths]
    for index, part in enumerate(out):
        cells = values[offsets[index] : offsets[index + 1]]
        part[: len(cells)] = cells
    return np.concatenate(out)


def _numbers(values: Any) -> pa.Array:
    return pa.array(values, mask=np.isnan(values))


def _cells(column: Covariate, lengths: list[int]) -> Any:
    values = _stretched(column.values, column.offsets, lengths)
    if column.role == "static":
        for index, n in enumerate(lengths):
            begin = sum(lengths[:index])
            values[begin : begin + n] = column.series(index)[0] if len(column.series(index)) else np.nan
    if not column.labels:
        return _numbers(values)
    missing = np.isnan(values)
    codes = pa.array(np.where(missing, 0, values).astype(np.int32), mask=missing)
    return pa.DictionaryArray.from_arrays(codes, pa.array(column.labels, pa.string()))


def csv_pieces(panel: Panel) -> Iterator[bytes]:
    """The table as CSV, piece by piece, numbers in full; texts are quoted and safe to open in a spreadsheet."""
    return csv_tables.csv_pieces(panel_table(panel))


def _write_csv(panel: Panel, path: Path) -> None:
    with path.open("wb") as file:
        for piece in csv_pieces(panel):
            file.write(piece)


def _write_json(panel: Panel, path: Path) -> None:
    table = panel_table(panel)
    stamps = np.char.add(np.datetime_as_string(np.asarray(table["time"].to_numpy())), "Z").tolist()
    columns = [stamps, *(column.to_pylist() for column in table.columns[1:])]
    with path.open("w", encoding="utf-8") as file:
        for row in zip(*columns, strict=True):
            file.write(json.dumps(dict(zip(table.column_names, row, strict=True)), ensure_ascii=False) + "\n")


def _write_xlsx(panel: Panel, path: Path) -> None:
    write_xlsx(panel_table(panel), path, "panel")


def _write_parquet(panel: Panel, path: Path) -> None:
    pa_parquet.write_table(panel_table(panel), path)


def _write_arrow(panel: Panel, path: Path) -> None:
    pa_feather.write_feather(panel_table(panel), str(path), compression="zstd")


@dataclass(frozen=True)
class Export:
    """A format a panel is written in, and what it is called where media have types."""

    write: Callable[[Panel, Path], None]
    media_type: str


EXPORTS: dict[str, Export] = {
    "csv": Export(_write_csv, FORMATS["csv"]),
    "jsonl": Export(_write_json, "application/jsonl; charset=utf-8"),
    "parquet": Export(_write_parquet, FORMATS["parquet"]),
    "arrow": Export(_write_arrow, FORMATS["arrow"]),
    "xlsx": Export(_write_xlsx, FORMATS["xlsx"]),
}  # one line each


def write_panel(panel: Panel, path: str | Path, format: str | None = None) -> Path:
    """Write a panel to a file, its format by name or by the file's ending, one of `EXPORTS`."""
    target = Path(path)
    kind = format or target.suffix.removeprefix(".").lower()
    if kind not in EXPORTS:
        raise SettingsError(f"“{kind}” is no format to write; there are: {', '.join(EXPORTS)}.", field="format")
    EXPORTS[kind].write(panel, target)
    return target
