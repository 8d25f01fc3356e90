"""Taking a window table away: files written piece by piece, chronological parts, a card that says what it is."""

import io
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any, Literal

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pa_parquet
from numpy.typing import NDArray

from proteron.core.csv_tables import csv_head, csv_rows
from proteron.core.errors import SettingsError
from proteron.core.flatten import Chain
from proteron.core.panel import Panel
from proteron.core.windows.plan import WindowPlan
from proteron.core.windows.plan_text import write_plan
from proteron.core.windows.table import Table

Format = Literal["parquet", "arrow", "csv", "npz"]
PARTS = ("train", "validation", "test", "gap")


def split_positions(plan: WindowPlan, panel: Panel, shares: Sequence[float]) -> tuple[int, int]:
    """Grid positions where validation and test begin, by the shares of train, validation and test of the time line."""
    if len(shares) != 3 or min(shares) < 0 or not sum(shares) > 0:
        raise SettingsError("Three shares are needed, of train, validation and test: 0.7, 0.15, 0.15.", field="shares")
    first = int(panel.starts.min()) + plan.look_back - 1
    length = max(panel.end - first, 0)
    total = sum(shares)
    return first + round(length * shares[0] / total), first + round(length * (shares[0] + shares[1]) / total)


def parts_of(table: Table, borders: tuple[int, int]) -> NDArray[np.int8]:
    """Part of each row, (n_rows,), as a place in `PARTS`.

    A row belongs to a part if its origin and all its targets do; one whose targets reach into the next
    part is a gap, so that no part learns from what another is judged on.
    """
    last = table.positions + max(table.plan.horizon)
    first_target = table.positions + 1
    out = np.full(len(table), PARTS.index("gap"), dtype=np.int8)
    out[last < borders[0]] = 0
    out[(first_target >= borders[0]) & (last < borders[1])] = 1
    out[first_target >= borders[1]] = 2
    return out


def data_card(plan: WindowPlan, panel: Panel, chain: Chain, dataset: str, rows: int) -> dict[str, Any]:
    """What a table is, as JSON data: where it came from, how it was cut, its columns and their units."""
    return {
        "schema_version": 1, "dataset": dataset, "panel": panel.hash, "step": panel.step, "zone": panel.zone,
        "plan": plan.document(), "plan_text": write_plan(plan), "chain": chain.document(),
        "shape": {"rows": rows, "features": len(plan.names), "targets": len(plan.horizon)},
        "features": [
            {"name": name, "kind": owner.kind, "reads_from": first, "reads_to": last, "whole_past": owner.whole_past}
            for (name, first, last), owner in zip(
                plan.sources(), [feature for feature in plan.features for _ in feature.names], strict=True
            )
        ],
        "targets": [{"name": name, "unit": "flat" if chain.active else panel.unit} for name in plan.target_names],
        "series": list(panel.keys),
    }  # fmt: skip


def arrow_pieces(
    plan: WindowPlan, panel: Panel, shares: Sequence[float] | None = None, rows: int = 100_000
) -> Iterator[pa.Table]:
    """The table as Arrow tables of about `rows` rows, with a column “part” where shares are given."""
    borders = split_positions(plan, panel, shares) if shares is not None else None
    weighed = plan.half_life is not None or plan.by_scale
    for piece in plan.batches(panel, rows):
        table = piece.to_arrow()
        if weighed:
            table = table.append_column("weight", pa.array(piece.weights))
        if borders is not None:
            parts = pa.DictionaryArray.from_arrays(pa.array(parts_of(piece, borders)), pa.array(PARTS))
            table = table.append_column("part", parts)
        yield table


def table_bytes(
    plan: WindowPlan, panel: Panel, kind: Format = "parquet", shares: Sequence[float] | None = None, rows: int = 100_000
) -> Iterator[bytes]:  # fmt: skip
    """The table as the bytes of a file, a piece at a time as it is cut; NPZ in one piece."""
    return (piece for piece, _ in _file_pieces(plan, panel, kind, shares, rows))


def _file_pieces(
    plan: WindowPlan, panel: Panel, kind: Format, shares: Sequence[float] | None, rows: int
) -> Iterator[tuple[bytes, int]]:  # fmt: skip
    """Bytes of the file, with how many rows they hold."""
    out = _Pieces()
    if kind == "npz":
        table = plan.cut(panel)
        arrays: dict[str, Any] = {
            "features": table.features, "targets": table.targets, "weights": table.weights, "series": table.series,
            "origins": table.origins.astype(np.int64), "names": np.array(table.names), "keys": np.array(panel.keys),
            "target_names": np.array(table.target_names),
        }  # fmt: skip
        if shares is not None:
            arrays["part"] = parts_of(table, split_positions(plan, panel, shares))
        whole = io.BytesIO()
        np.savez(whole, allow_pickle=False, **arrays)
        yield whole.getvalue(), len(table)
        return
    writer = None
    for piece in arrow_pieces(plan, panel, shares, rows):
        if writer is None:
            writer = _WRITERS[kind](out, piece.schema)
        writer.write_table(piece)
        yield out.taken(), piece.num_rows
    if writer is not None:
        writer.close()
    yield out.taken(), 0


def write_table(
    plan: WindowPlan, panel: Panel, path: Path | str, kind: Format = "parquet",
    shares: Sequence[float] | None = None, rows: int = 100_000,
) -> int:  # fmt: skip
    """Write the table to a file and return its number of rows; all but NPZ are written piece by piece."""
    count = 0
    with Path(path).open("wb") as file:
        for piece, held in _file_pieces(plan, panel, kind, shares, rows):
            file.write(piece)
            count += held
    return count


class _Pieces(io.RawIOBase):
    """A file that hands on what was written since it was last asked."""

    def __init__(self) -> None:
        super().__init__()
        self._written: list[bytes] = []

    def writable(self) -> bool:
        return True

    def write(self, piece: Any) -> int:
        """Fill `out` (n_rows, n_columns) for the given rows; missing cells become NaN."""
        self._written.append(bytes(piece))
        return len(self._written[-1])

    def taken(self) -> bytes:
        pieces, self._written = self._written, []
        return b"".join(pieces)


class _CsvWriter:
    def __init__(self, out: Any, schema: pa.Schema) -> None:
        self._out = out
        out.write(csv_head(schema.names))

    def write_table(self, table: pa.Table) -> None:
        self._out.write(csv_rows(table))

    def close(self) -> None:
        """Whoever opened the file closes it."""


_UNIFIED = pa.ipc.IpcWriteOptions(unify_dictionaries=True)
_WRITERS: dict[str, Any] = {
    "parquet": pa_parquet.ParquetWriter,
    "arrow": lambda out, schema: pa.ipc.new_stream(out, schema, options=_UNIFIED),
    "csv": _CsvWriter,
}
