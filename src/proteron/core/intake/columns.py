"""Text columns to numbers and times."""

import re
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from proteron.core.panel import Floats
from proteron.core.timeline import Instants, to_utc

MISSING = ("", "NA", "N/A", "NaN", "nan", "null", "NULL", "None", "-", "?")
_FORMATS = (
    "%d.%m.%Y %H:%M:%S", "%d.%m.%Y %H:%M", "%d.%m.%Y", "%d/%m/%Y %H:%M:%S", "%d/%m/%Y %H:%M", "%d/%m/%Y",
    "%m/%d/%Y %H:%M:%S", "%m/%d/%Y %H:%M", "%m/%d/%Y", "%Y/%m/%d %H:%M", "%Y/%m/%d", "%Y%m%d",
)  # fmt: skip


def cleaned(column: Any) -> pa.ChunkedArray:
    """Trimmed text, missing marks as null."""
    text = pc.utf8_trim_whitespace(column)
    return pc.if_else(pc.is_in(text, value_set=pa.array(MISSING)), pa.scalar(None, pa.string()), text)


def as_numbers(column: Any) -> tuple[Floats, NDArray[np.bool_]]:
    """Numbers (NaN where missing or not a number; infinities count as missing) and where text was left over."""
    text = cleaned(column)
    numeric = pc.match_substring_regex(text, r"^[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?$")
    values = pc.cast(pc.if_else(numeric, text, pa.scalar(None, pa.string())), pa.float64())
    out = np.array(values.to_numpy(zero_copy_only=False), dtype=np.float64)
    left_over = np.asarray(pc.fill_null(pc.invert(numeric), False).to_numpy(zero_copy_only=False), dtype=bool)
    infinite = np.asarray(
        pc.fill_null(pc.match_substring_regex(text, r"(?i)^[+-]?inf(inity)?$"), False).to_numpy(zero_copy_only=False),
        dtype=bool,
    )
    out[~np.isfinite(out)] = np.nan
    return out, left_over & ~infinite


def as_times(column: Any, zone: str = "UTC") -> tuple[Instants, NDArray[np.bool_]]:
    """UTC instants (NaT where missing or not a time) and where text was left over.

    ISO 8601 with or without an offset, year-month, year, and day-first before month-first forms;
    times without an offset are local to `zone`.
    """
    text = cleaned(column)
    known = np.asarray(pc.is_valid(text).to_numpy(zero_copy_only=False), dtype=bool)
    first = next((value.as_py() for value in text if value.is_valid), None)
    out = np.full(len(known), np.datetime64("NaT"), dtype="datetime64[s]")
    if first is None:
        return out, known & False
    parsed = _iso_times(text, zone) if re.match(r"\d{4}-\d", first) or re.fullmatch(r"\d{4}", first) else None
    if parsed is None:
        parsed = _formatted_times(text, zone)
    if parsed is not None:
        out = parsed
    return out, known & np.isnat(out)


def _iso_times(text: Any, zone: str) -> Instants | None:
    month = pc.match_substring_regex(text, r"^\d{4}-\d{2}$")
    year = pc.match_substring_regex(text, r"^\d{4}$")
    full = pc.if_else(month, pc.binary_join_element_wise(text, "01", "-"), text)
    full = pc.if_else(year, pc.binary_join_element_wise(full, "01-01", "-"), full)
    shape = r"^\d{4}-\d{2}-\d{2}([T ]\d{2}:\d{2}(:\d{2}(\.\d+)?)?\s?(Z|[+-]\d{2}:?\d{2})?)?$"
    usable = pc.if_else(pc.match_substring_regex(full, shape), full, pa.scalar(None, pa.string()))
    zoned = pc.match_substring_regex(usable, r"\d{2}:\d{2}.*(Z|[+-]\d{2}:?\d{2})$")
    with_offset = _to_instants(pc.if_else(zoned, usable, pa.scalar(None, pa.string())), "UTC")
    naive = _to_instants(pc.if_else(zoned, pa.scalar(None, pa.string()), usable), None)
    if with_offset is None or naive is None:
        return None
    local = ~np.isnat(naive)
    with_offset[local] = to_utc(naive[local], zone)
    return with_offset


def _to_instants(text: Any, zone: str | None) -> Instants | None:
    """Cast ISO text; None where Arrow finds an impossible date such as 31 February."""
    try:
        stamps = pc.cast(text, pa.timestamp("ns", tz=zone))
    except pa.ArrowInvalid:
        return None
    return np.array(stamps.to_numpy(zero_copy_only=False)).astype("datetime64[s]")


def _formatted_times(text: Any, zone: str) -> Instants | None:
    """The first format that reads every value."""
    for form in _FORMATS:
        stamps = pc.strptime(text, format=form, unit="s", error_is_null=True)
        if stamps.null_count == text.null_count:
            naive = np.array(stamps.to_numpy(zero_copy_only=False)).astype("datetime64[s]")
            out = naive.copy()
            out[~np.isnat(naive)] = to_utc(naive[~np.isnat(naive)], zone)
            return out
    return None
