"""Charts' data: as many points as the screen can show, no spike lost."""

import numpy as np
from numpy.typing import NDArray

from proteron.api.shapes import Line
from proteron.core.compiled import kernel
from proteron.core.panel import FILLED, Floats
from proteron.core.timeline import Ints, TimeAxis

EXACT_UP_TO = 4000


@kernel
def extremes(values: Floats, start: int, stop: int, width: int) -> Ints:
    """Indices of the lowest and the highest value of each of `width` equal columns, in order; -1 where empty."""
    out = np.full(2 * width, -1)
    span = stop - start
    for column in range(width):
        low, high = -1, -1
        for i in range(start + span * column // width, start + span * (column + 1) // width):
            if np.isnan(values[i]):
                continue
            if low < 0 or values[i] < values[low]:
                low = i
            if high < 0 or values[i] > values[high]:
                high = i
        out[2 * column] = min(low, high)
        out[2 * column + 1] = max(low, high)
    return out


def line(
    axis: TimeAxis,
    first: int,
    values: Floats,
    start: int | None,
    stop: int | None,
    width: int,
    marks: NDArray[np.uint8] | None = None,
) -> Line:
    """The points at grid positions `start` ≤ p < `stop` of values that begin at grid position `first`."""
    begin = min(max((first if start is None else start) - first, 0), len(values))
    end = max(begin, min((first + len(values) if stop is None else stop) - first, len(values)))
    if end - begin <= max(EXACT_UP_TO, 2 * width):
        chosen = np.arange(begin, end)
        shown = values[begin:end]
    else:
        picked = extremes(np.ascontiguousarray(values), begin, end, width)
        columns = begin + (end - begin) * np.arange(width) // width
        chosen = np.where(picked < 0, np.repeat(columns, 2), picked)
        shown = np.where(picked < 0, np.nan, values[chosen])
    exact = len(chosen) == end - begin
    filled = np.flatnonzero(marks[begin:end] & FILLED).tolist() if exact and marks is not None else []
    return Line(times=epochs(axis, first + chosen), values=shown.tolist(), exact=exact, filled=filled)


def epochs(axis: TimeAxis, positions: Ints) -> list[float]:
    """Grid positions as epoch seconds."""
    return axis.times(positions).astype(np.int64).astype(np.float64).tolist()


def finite(value: float) -> float | None:
    """A number, or null where it is none."""
    return value if np.isfinite(value) else None


def spark(values: Floats, width: int = 40) -> list[float | None]:
    """A few means that show the shape of a series."""
    pieces = np.array_split(values, min(width, max(len(values), 1)))
    return [float(piece[np.isfinite(piece)].mean()) if np.isfinite(piece).any() else None for piece in pieces]
