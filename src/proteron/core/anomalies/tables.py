"""Tables of flags as files."""

import io
import json
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from proteron.core.csv_tables import csv_bytes
from proteron.core.intake import EXPORTS

FORMATS = {name: EXPORTS[name].media_type for name in ("csv", "parquet", "arrow")} | {"json": "application/json"}


def written(table: pa.Table, format: str) -> bytes:
    """A table as a file of one of `FORMATS`; in JSON what is no number is null, in CSV nothing is a formula."""
    if format == "csv":
        return csv_bytes(table)
    if format == "json":
        return _json(table.to_pylist())
    out = io.BytesIO()
    if format == "parquet":
        pq.write_table(table, out)
    else:
        with pa.ipc.new_file(out, table.schema) as writer:
            writer.write_table(table)
    return out.getvalue()


def _json(rows: Sequence[Mapping[str, Any]]) -> bytes:
    plain = [
        {name: None if isinstance(value, float) and not np.isfinite(value) else value for name, value in row.items()}
        for row in rows
    ]
    return json.dumps(plain, ensure_ascii=False, indent=1, default=str).encode() + b"\n"
