"""Rows with a start and an end: the minutes between them become a column of their own."""

from typing import Any

import numpy as np
import pyarrow as pa

from proteron.core.intake.raw import Note, RawTable, distinct_names, words_of
from proteron.core.intake.times import TimeReading, read_times

_STARTS = frozenset({"start", "started", "begin", "began", "from", "opened", "departure", "departed", "checkin"})
_ENDS = frozenset({"end", "ended", "stop", "stopped", "finish", "finished", "until", "to", "closed", "completed",
    "arrival", "arrived", "returned", "checkout"})  # fmt: skip


def is_end(name: str) -> bool:
    """Whether a column's name says that something ends there."""
    words = words_of(name)
    return bool(words & _ENDS) and not words & _STARTS


def with_durations(raw: RawTable) -> RawTable:
    """The table with a column of minutes, where one column of times says when something began and one when it ended.

    As the clocks of both show it; a row that lacks one of them has none.
    """
    starts = [name for name in raw.names if words_of(name) & _STARTS and not words_of(name) & _ENDS]
    ends = [name for name in raw.names if is_end(name)]
    if len(starts) != 1 or len(ends) != 1 or any("duration" in name.lower() for name in raw.names):
        return raw
    began, ended = _read(raw.columns[starts[0]]), _read(raw.columns[ends[0]])
    if began is None or ended is None:
        return raw
    minutes = (ended.instants - began.instants).astype("timedelta64[s]").astype(np.float64) / 60
    minutes[np.isnat(began.instants) | np.isnat(ended.instants)] = np.nan
    names = distinct_names([*raw.names, "duration (minutes)"])
    column = pa.chunked_array([pa.array(minutes, mask=np.isnan(minutes))])
    said = f"“{names[-1]}” is the time from “{starts[0]}” to “{ends[0]}”."
    turned = raw.with_columns(pa.table([*raw.columns.columns, column], names=names))
    return turned.noted(Note("durations", said, count=int(np.isfinite(minutes).sum()), severity="note"))


def _read(column: Any) -> TimeReading | None:
    """The column as whole times, where nearly every cell is one."""
    read = read_times(column, "UTC")
    if read is None or read.form in ("year", "month", "quarter", "year and month", "ISO week"):
        return None
    return read if read.bad.mean() <= 0.1 else None
