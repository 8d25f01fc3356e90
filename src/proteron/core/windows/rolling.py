"""Rolling statistics of the target over the last points up to and including the origin."""

from typing import Any, Literal

import numpy as np
from pydantic import Field, model_validator

from proteron.core.compiled import kernel
from proteron.core.panel import Floats
from proteron.core.timeline import Ints
from proteron.core.windows.feature import Feature, Rows

Statistic = Literal["mean", "std"]


@kernel
def _first_known(values: Floats, start: int, stop: int) -> float:
    for i in range(start, stop):
        if not np.isnan(values[i]):
            return float(values[i])
    return np.nan


@kernel
def rolling_moments(values: Floats, offsets: Ints, window: int) -> tuple[Floats, Floats]:
    """Mean and sum of squared deviations of each window's points, per series; NaN if one is missing.

    A window is the tail of one block of `window` points and the head of the next. Both ends are
    accumulated (Welford 1962) as deviations from the block's first known value, which are exact at
    any offset, and merged (Chan, Golub & LeVeque 1979); nothing is ever subtracted from a running
    sum, and nothing after the window's end is read.
    """
    means = np.full(len(values), np.nan)
    squares = np.full(len(values), np.nan)
    tail_mean = np.empty(window)
    tail_square = np.empty(window)
    share = 1.0 / np.arange(1, window + 1)
    for s in range(len(offsets) - 1):
        start, stop = offsets[s], offsets[s + 1]
        for block in range(start, stop - window + 1, window):
            # Tails of this block, from its last point backwards: tail_…[j] covers j + 1 points.
            last = block + window - 1
            anchor = _first_known(values, block, block + window)
            mean, square = 0.0, 0.0
            for j in range(window):
                deviation = values[last - j] - anchor
                gap = deviation - mean
                mean += gap * share[j]
                square += gap * (deviation - mean)
                tail_mean[j] = mean
                tail_square[j] = square
            means[last] = anchor + mean
            squares[last] = square
            # Heads of the next block, merged with the tail that completes the window.
            heads = min(window - 1, stop - last - 1)
            next_anchor = _first_known(values, last + 1, last + 1 + heads)
            shift = next_anchor - anchor
            mean, square = 0.0, 0.0
            for j in range(heads):
                deviation = values[last + 1 + j] - next_anchor
                gap = deviation - mean
                mean += gap * share[j]
                square += gap * (deviation - mean)
                before = window - 1 - j
                apart = shift + mean - tail_mean[before - 1]
                weight = (j + 1) / window
                means[last + 1 + j] = anchor + tail_mean[before - 1] + apart * weight
                squares[last + 1 + j] = tail_square[before - 1] + square + apart * apart * before * weight
    return means, squares


class Rolling(Feature):
    """Mean or sample standard deviation of the last `window` points, missing if one of them is."""

    statistic: Statistic = Field(title="Statistic")
    window: int = Field(ge=1, title="Window", description="Points up to and including the origin.")

    def __init__(self, statistic: Any = None, window: Any = None, **rest: Any) -> None:
        super().__init__(**{"statistic": statistic, "window": window, **rest})

    @model_validator(mode="after")
    def _spread_needs_two(self) -> "Rolling":
        if self.statistic == "std" and self.window < 2:
            raise ValueError("a standard deviation needs a window of at least 2")
        return self

    @property
    def names(self) -> tuple[str, ...]:
        return (f"{self.statistic} {self.window}",)

    @property
    def look_back(self) -> int:
        return self.window

    def source_of(self, column: int) -> tuple[int, int]:
        return (1 - self.window, 0)

    def write(self, out: Floats, rows: Rows) -> None:
        means, squares = rolling_moments(rows.panel.values, rows.panel.offsets, self.window)
        if self.statistic == "mean":
            out[:, 0] = means[rows.points]
        else:
            out[:, 0] = np.sqrt(squares[rows.points] / (self.window - 1))
