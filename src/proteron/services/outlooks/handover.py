"""Outlooks handed over: tables long and wide, with what they are about, as files and to databases."""

import hashlib
from datetime import UTC, datetime
from typing import Any, Literal

import numpy as np
import pyarrow as pa

from proteron.core.forecasters.forecast import table_of
from proteron.core.panel import Floats
from proteron.core.table_files import written
from proteron.records.connections import load_connections
from proteron.records.written_tables import Issued, Target, write_table
from proteron.services.outlooks.shown import Made
from proteron.services.resources import Resources

Form = Literal["long", "wide"]


def about(found: Made) -> dict[str, Any]:
    """What an outlook is and rests on, as a JSON document."""
    panel, record, asked = found.panel, found.record, found.record.document
    known = panel.axis.times(np.array([found.origin - 1]))[0]
    return {
        "outlook": record.id, "contender": asked["contender"], "experiment": record.experiment_id,
        "issued": _issued(found).isoformat(), "dataset": panel.hash, "known_until": f"{known}Z",
        "zone": panel.zone, "step": panel.step, "unit": panel.unit, "horizon": found.horizon,
        "levels": found.levels, "ranges": found.how,
        "held": {f"{level:g}": found.held(level)[0] for level in found.levels},
        "seed": found.seed, "paths": found.paths, "joint": asked.get("joint", True),
        "scenario": (asked.get("scenario") or {}).get("name"), "notes": found.notes,
    }  # fmt: skip


def _issued(found: Made) -> datetime:
    made: datetime = found.record.finished or found.record.created
    return made.astimezone(UTC)


def tabled(found: Made, form: Form) -> pa.Table:
    """`long`: a row per series and time, with mean and both ends of every range. `wide`: a row per time, and for each
    series its mean and ends, named after key and quantity."""
    times = found.panel.axis.times(found.origin + np.arange(found.horizon))
    if form == "long":
        return table_of(times, found.panel.keys, found.arrays["mean"], found.ranges())
    columns: dict[str, Any] = {"time": pa.array(times, pa.timestamp("s", tz="UTC"))}
    for place, key in enumerate(found.panel.keys):
        for name, values in _quantities(found).items():
            mine = values[place]
            columns[f"{key}, {name}" if name else key] = pa.array(mine, mask=np.isnan(mine))
    return pa.table(columns)


def _quantities(found: Made) -> dict[str, Floats]:
    out: dict[str, Floats] = {"": found.arrays["mean"]}
    for level, (low, high) in found.ranges().items():
        out |= {f"lower {level:g}": low, f"upper {level:g}": high}
    return out


def as_file(found: Made, format: str, form: Form) -> bytes:
    """A table as a file, with what it is about where the format has a place."""
    return written(tabled(found, form), format, about(found))


def tag_of(found: Made, format: str, form: Form) -> str:
    """What stands for the content of a file: another one where the outlook was made, or drawn, anew."""
    told = f"{found.record.id} {_issued(found).isoformat()} {found.seed} {format} {form}"
    return hashlib.sha256(told.encode()).hexdigest()[:32]


def write(reach: Resources, found: Made, target: Target) -> int:
    """Write an outlook to a table of a configured database; tells how many rows."""
    axis, asked = found.panel.axis, found.record.document
    seconds = axis.times(found.origin - 1 + np.arange(found.horizon + 1)).astype(np.int64)
    known, *times = [datetime.fromtimestamp(each, UTC) for each in seconds.tolist()]
    issued = Issued(
        found.record.id, _issued(found), known, asked["contender"], (asked.get("scenario") or {}).get("name", ""),
        found.panel.unit, found.panel.keys, times, found.arrays["mean"], found.ranges(),
    )  # fmt: skip
    return write_table(load_connections(reach.settings.connections), target, issued)
