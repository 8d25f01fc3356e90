"""Lags of the target: lag 1 is the value at the origin."""

from concurrent.futures import ThreadPoolExecutor
from typing import Literal

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from pydantic import Field

from proteron.core.compiled import kernel
from proteron.core.panel import Floats
from proteron.core.timeline import Ints
from proteron.core.windows.feature import VALUE, Feature, Rows, Unit


@kernel
def _copy_runs(backwards: Floats, points: Ints, first: int, length: int, out: Floats, column: int) -> None:
    """Copy lags first … first+length-1 per row; in a reversed source each run lies in one piece."""
    last = len(backwards) - 1
    for row in range(len(points)):
        start = last - points[row] + first - 1
        for j in range(length):
            out[row, column + j] = backwards[start + j]


def consecutive(lags: tuple[int, ...]) -> list[tuple[int, int, int]]:
    """Runs of consecutive numbers as (place, first number, length)."""
    runs: list[tuple[int, int, int]] = []
    for column, lag in enumerate(lags):
        if runs and lag == runs[-1][1] + runs[-1][2]:
            runs[-1] = (runs[-1][0], runs[-1][1], runs[-1][2] + 1)
        else:
            runs.append((column, lag, 1))
    return runs


class Lags(Feature):
    """Values k - 1 steps before the origin, for each lag k ≥ 1."""

    kind: Literal["lags"] = "lags"
    lags: tuple[int, ...] = Field(title="Lags", description="Steps before the first target; 1 is the origin itself.")

    @property
    def names(self) -> tuple[str, ...]:
        """Names of the columns this writes."""
        return tuple(f"lag {lag}" for lag in self.lags)

    @property
    def units(self) -> tuple[Unit, ...]:
        """How each column follows its series when values are centred and scaled."""
        return (VALUE,) * len(self.names)

    @property
    def look_back(self) -> int:
        """Points up to and including the origin that are read."""
        return max(self.lags, default=0)

    def source_of(self, column: int) -> tuple[int, int]:
        """First and last step relative to the origin that one column reads."""
        return (1 - self.lags[column], 1 - self.lags[column])

    def write(self, out: Floats, rows: Rows) -> None:
        """Fill `out` (n_rows, n_columns) for the given rows; missing cells become NaN."""
        backwards = rows.panel.values[::-1].astype(out.dtype)
        for column, first, length in consecutive(self.lags):
            if not rows.spans:
                _copy_runs(backwards, rows.points, first, length, out, column)
                continue
            # Evenly spaced rows are one strided copy per series: the source stays in the cache.
            pieces = sliding_window_view(backwards, length)

            def copy(spans: Spans, column: int = column, first: int = first, pieces: Floats = pieces) -> None:
                for row, count, point, stride in spans:
                    last = len(backwards) - 1 - point + first - 1
                    stop = last - (count - 1) * stride - 1
                    block = pieces[last : stop if stop >= 0 else None : -stride]
                    np.copyto(out[row : row + count, column : column + pieces.shape[1]], block)

            if out.nbytes < _LARGE:
                copy(rows.spans)
            else:  # most of the time goes into giving fresh memory its first touch, which two cores do faster
                with ThreadPoolExecutor(2) as pool:
                    list(pool.map(copy, _halves(rows.spans)))


Spans = tuple[tuple[int, int, int, int], ...]
_LARGE = 1 << 26


def _halves(spans: Spans) -> tuple[Spans, Spans]:
    """The spans cut in two where half of the rows are."""
    left = sum(count for _, count, _, _ in spans) // 2
    first: list[tuple[int, int, int, int]] = []
    second: list[tuple[int, int, int, int]] = []
    for row, count, point, stride in spans:
        here = min(max(left, 0), count)
        left -= count
        first += [(row, here, point, stride)] if here else []
        second += [(row + here, count - here, point + here * stride, stride)] if here < count else []
    return tuple(first), tuple(second)
