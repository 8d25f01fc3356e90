"""Columns of text to numbers: decimal comma, thousands, brackets, currency and percent signs, missing marks."""

import re
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from proteron.core.intake.raw import ReaderSettings, plain_text
from proteron.core.panel import Floats

_CURRENCY = r"[$€£¥]|\b(?:EUR|USD|GBP|CHF|JPY)\b"
_PLAIN = r"^[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?$"
_INFINITE = r"(?i)^[+-]?inf(inity)?$"
_SAMPLE = 4000


@dataclass(frozen=True)
class NumberReading:
    """Numbers (n,), NaN where missing; `bad` marks text that is no number, `infinite` what was infinite."""

    values: Floats
    bad: NDArray[np.bool_]
    infinite: NDArray[np.bool_]
    style: str = "plain"
    percent: bool = False
    ambiguous: bool = False


def read_numbers(column: Any, reader: ReaderSettings) -> NumberReading:
    """Read a column as numbers; a percent sign divides by 100, brackets negate."""
    kind = column.type
    if pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_boolean(kind):
        if pa.types.is_boolean(kind):
            column = column.cast(pa.int8())
        values = np.asarray(column.cast(pa.float64(), safe=False).to_numpy(zero_copy_only=False))
        infinite = np.isinf(values)
        if infinite.any():
            values = np.where(infinite, np.nan, values)
        return NumberReading(values, np.zeros(len(values), bool), infinite)
    if not (pa.types.is_string(kind) or pa.types.is_dictionary(kind)):
        none = np.zeros(len(column), bool)
        return NumberReading(np.full(len(column), np.nan), ~none, none)
    text = pc.utf8_trim_whitespace(column.cast(pa.string()))
    text = pc.if_else(pc.is_in(text, value_set=pa.array(reader.marks)), pa.scalar(None, pa.string()), text)
    decimal, ambiguous = _decimal(text, reader)
    percent = bool(pc.any(pc.match_substring(pc.fill_null(text, ""), "%")).as_py())
    bare = pc.replace_substring_regex(text, _CURRENCY, "")
    negative = pc.match_substring_regex(bare, r"^\s*\(.*\)\s*%?\s*$|-\s*$")
    bare = pc.replace_substring_regex(bare, r"[()%\s'\x{00a0}\x{202f}]|-\s*$", "")
    bare = pc.replace_substring_regex(bare, r"^\x{2212}", "-")
    if decimal == ",":
        grouped = pc.match_substring_regex(bare, r"^[+-]?\d{1,3}(\.\d{3})+(,\d*)?$")
        bare = pc.if_else(grouped, pc.replace_substring(bare, ".", ""), bare)
        bare = pc.replace_substring(bare, ",", ".")
    else:
        grouped = pc.match_substring_regex(bare, r"^[+-]?\d{1,3}(,\d{2,3})*,\d{3}(\.\d*)?$")
        bare = pc.if_else(grouped, pc.replace_substring(bare, ",", ""), bare)
    numeric = pc.match_substring_regex(bare, _PLAIN)
    values = pc.cast(pc.if_else(numeric, bare, pa.scalar(None, pa.string())), pa.float64())
    out = np.array(values.to_numpy(zero_copy_only=False), dtype=np.float64)
    out = np.where(_bools(negative), -np.abs(out), out)
    if percent:
        out = np.where(_bools(pc.match_substring(text, "%")), out / 100, out)
    overflow = np.isinf(out)
    infinite = _bools(pc.match_substring_regex(text, _INFINITE)) | overflow
    out[overflow] = np.nan
    bad = _bools(pc.is_valid(text)) & ~_bools(numeric) & ~infinite
    style = "decimal comma" if decimal == "," else "plain"
    return NumberReading(out, bad, infinite, style, percent, ambiguous)


def _bools(array: Any) -> NDArray[np.bool_]:
    return np.asarray(pc.fill_null(array, False).to_numpy(zero_copy_only=False), dtype=bool)


def _decimal(text: Any, reader: ReaderSettings) -> tuple[str, bool]:
    """The decimal mark of a column, and whether every cell with a comma could be read either way."""
    if reader.decimal:
        return reader.decimal, False
    cells = [cell for cell in text.slice(0, _SAMPLE).to_pylist() if cell and ("," in cell or "." in cell)]
    comma = [re.sub(r"[^\d.,]", "", cell) for cell in cells if "," in cell]
    if not comma:
        dotted = [re.sub(r"[^\d.,]", "", cell) for cell in cells]
        return (",", False) if any(cell.count(".") > 1 for cell in dotted) else (".", False)
    if any(re.search(r",\d+\.|,\d{3},", cell) for cell in comma):
        return ".", False
    if any(re.search(r"\.\d+,|^\d*,(\d{1,2}|\d{4,})$|^\d{4,},|^0,", cell) for cell in comma):
        return ",", False
    return ("," if reader.delimiter == ";" else "."), True


def categories_of(column: Any, kind: str, most: int = 200) -> tuple[Floats, tuple[str, ...]] | None:
    """Codes (n,) and their sorted labels for a column of few distinct texts or whole numbers; None otherwise."""
    if pa.types.is_floating(column.type) or pa.types.is_timestamp(column.type):
        return None
    text = column.cast(pa.string())
    merged = text.combine_chunks() if isinstance(text, pa.ChunkedArray) else text
    encoded = merged.dictionary_encode()
    if isinstance(encoded, pa.ChunkedArray):
        encoded = encoded.combine_chunks() if encoded.num_chunks else pa.array([], pa.string()).dictionary_encode()
    labels = [plain_text(label, kind) for label in encoded.dictionary.to_pylist()]
    if len(labels) > most:
        return None
    kept = sorted(label for label in labels if label != "")
    code_of = {label: float(code) for code, label in enumerate(kept)}
    codes = np.array([code_of.get(label, np.nan) for label in labels] + [np.nan])
    indices = np.asarray(pc.fill_null(encoded.indices, len(labels)))
    return codes[indices], tuple(kept)
