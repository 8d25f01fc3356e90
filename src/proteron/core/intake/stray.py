"""A few rows dated far from all others: named before a grid is made that spans to them."""

import numpy as np

from proteron.core.intake.findings import LEAVE, Ledger, Remedy
from proteron.core.intake.raw import RawTable
from proteron.core.intake.rows import Rows, line_text
from proteron.core.words import counted

_FEWEST = 20  # rows that tell what is usual
_APART = 2.0  # times the extent of the usual rows
_SAMPLED = 100_000


def without_stray(rows: Rows, raw: RawTable, ledger: Ledger) -> Rows:
    """The rows without those that lie further from the usual ones than twice their extent, unless they are kept."""
    if len(rows) < _FEWEST:
        return rows
    low, high = _usual(rows.times.view(np.int64))
    reach = _APART * max(high - low, 86400)
    seconds = rows.times.view(np.int64)
    if seconds.min() >= low - reach and seconds.max() <= high + reach:
        return rows
    stray = (seconds < low - reach) | (seconds > high + reach)
    at = np.flatnonzero(stray)
    shown = ", ".join(str(day) for day in np.unique(rows.times[at].astype("datetime64[D]"))[:3])
    message = (
        f"{len(at):,} of {counted(len(rows), 'row')} {'is' if len(at) == 1 else 'are'} dated far from all others "
        f"({shown}; the rest lies between "
        f"{np.datetime64(low, 's').astype('datetime64[D]')} and {np.datetime64(high, 's').astype('datetime64[D]')}): "
        f"{line_text(raw, rows.row_numbers(at))}."
    )
    drop = Remedy("drop", "leave these rows out")
    chosen = ledger.add("stray times", "error", message, rows.row_numbers(at), remedies=(drop, LEAVE))
    return rows.keep(~stray) if chosen == "drop" else rows


def _usual(seconds: np.ndarray) -> tuple[int, int]:
    """First and last of the rows when one in two hundred, three at least, are taken off either end."""
    some = np.sort(seconds[:: max(1, len(seconds) // _SAMPLED)])
    off = max(3, len(some) // 200)
    return int(some[off]), int(some[-1 - off])
