"""The compiled loops of growing a tree: histograms, the best split of a node, its rows shared out."""

import numpy as np
from numpy.typing import NDArray

from proteron.core.compiled import kernel
from proteron.core.forecasters.trees.binning import MISSING, Binned
from proteron.core.panel import Floats
from proteron.core.timeline import Ints

Rows = NDArray[np.int32]
_BINS = MISSING + 1


@kernel
def add_up(bins: Binned, rows: Rows, slopes: Floats, curves: Floats, first: int, last: int, out: Floats) -> None:
    """Sums of slopes and curves (n,) of `rows` by bin of features first … last - 1, into out (n_features, 256, 2).

    Features do not meet, so that sharing them out over threads changes no bit.
    """
    count = len(rows)
    for feature in range(first, last):
        column, sums = bins[feature], out[feature]
        sums[:] = 0.0
        for i in range(count):
            at = column[rows[i]]
            sums[at, 0] += slopes[i]
            sums[at, 1] += curves[i]


@kernel
def _bounded(slope: float, curve: float, shrink: float, low: float, high: float) -> float:
    """The best that a node may say."""
    return min(max(-slope / (curve + shrink), low), high)


@kernel
def _gain(slope: float, curve: float, shrink: float, low: float, high: float) -> float:
    """By how much a node's loss falls when it says the best it may (Friedman 2001), to second order."""
    if low == -np.inf and high == np.inf:
        return 0.5 * slope * slope / (curve + shrink)
    value = _bounded(slope, curve, shrink, low, high)
    return -(slope * value + 0.5 * (curve + shrink) * value * value)


@kernel
def _order_of(here: Floats, used: int, categorical: bool, shrink: float) -> Ints:
    """In which order a feature's bins are parted: as they are, or categories by what they would say (Fisher 1958)."""
    if not categorical:
        return np.arange(used)
    return np.argsort(here[:used, 0] / (here[:used, 1] + shrink + 1e-12), kind="mergesort")


@kernel
def _best_border(
    here: Floats, order: Ints, sign: int, shrink: float, least: float, low: float, high: float, best: float
) -> tuple[float, int, bool]:
    """Between which bins of `order` one feature is split best, if by more than `best`, and whether missing go left."""
    border, missing_left = -1, False
    slope, curve = here[MISSING, 0], here[MISSING, 1]
    for at in order:
        slope += here[at, 0]
        curve += here[at, 1]
    before = _gain(slope, curve, shrink, low, high)
    has_missing = here[MISSING, 1] > 0
    for side in range(2 if has_missing else 1):
        left, held = here[MISSING, 0] * side, here[MISSING, 1] * side
        last = len(order) if has_missing and side == 0 else len(order) - 1
        for place in range(last):
            left += here[order[place], 0]
            held += here[order[place], 1]
            if held < least:
                continue
            right, rest = slope - left, curve - held
            if rest < least:
                break
            rises = _bounded(right, rest, shrink, low, high) - _bounded(left, held, shrink, low, high) if sign else 0.0
            gain = _gain(left, held, shrink, low, high) + _gain(right, rest, shrink, low, high) - before
            if rises * sign >= 0 and gain > best * (1 + 1e-12) + 1e-12:
                best, border, missing_left = gain, place, side == 1
    return best, border, missing_left


@kernel
def best_split(
    sums: Floats,
    counts: Ints,
    categorical: NDArray[np.bool_],
    monotone: Ints,
    allowed: NDArray[np.bool_],
    shrink: float,
    least: float,
    low: float,
    high: float,
) -> tuple[float, int, NDArray[np.bool_]]:
    """The split of a node that gains most: its gain, its feature, and which bins go left (256,).

    `sums` (n_features, 256, 2) are the node's; each side must hold `least` of curves. Missing values go to the better
    side. Of categories the best of all splits is one between neighbours in their order. Where a feature is `monotone`
    (1 or -1), sides that would say otherwise are no split; what a node may say lies between `low` and `high`. Feature
    -1 where there is none.
    """
    best, chosen = 0.0, np.int64(-1)
    left_bins = np.zeros(_BINS, dtype=np.bool_)
    for feature in np.flatnonzero(allowed):
        order = _order_of(sums[feature], counts[feature], categorical[feature], shrink)
        gain, border, missing_left = _best_border(
            sums[feature], order, monotone[feature], shrink, least, low, high, best
        )
        if border >= 0:
            best, chosen = gain, feature
            left_bins[:] = False
            left_bins[order[: border + 1]] = True
            left_bins[MISSING] = missing_left
    return best, int(chosen), left_bins


@kernel
def share_out(column: NDArray[np.uint8], rows: Rows, left_bins: NDArray[np.bool_]) -> int:
    """Put a node's rows in place: those that go left first, each side in its order; returns how many they are."""
    count, right = 0, np.empty(len(rows), dtype=np.int32)
    others = 0
    for i in range(len(rows)):
        if left_bins[column[rows[i]]]:
            rows[count] = rows[i]
            count += 1
        else:
            right[others] = rows[i]
            others += 1
    rows[count:] = right[:others]
    return count


@kernel
def walk(
    bins: Binned, features: Rows, lefts: Rows, rights: Rows, left_bins: NDArray[np.bool_], values: Floats, out: Floats
) -> None:
    """Add what a tree says of every row (n_rows,); a node whose feature is -1 is a leaf."""
    for row in range(len(out)):
        node = 0
        while features[node] >= 0:
            node = lefts[node] if left_bins[node, bins[features[node], row]] else rights[node]
        out[row] += values[node]
