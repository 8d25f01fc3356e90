"""Rolling statistics over a flat panel, one pass each, windows never crossing from one series to the next.

All take `values` (n_points,), `offsets` (n_series + 1,) and the window, and answer per point, (n_points,). Missing
points are left out; a window with fewer than `least` known points gives NaN. What they answer is allocated by
NumPy, whose large pages cost a tenth of what compiled code's own would.

What stands at a point is a function of the points up to it, to the last bit: no choice of how to compute may hang on
what comes later. Zeros come out positive, since which of two equal ones a block meets first may hang on the future.
"""

from collections.abc import Callable
from functools import wraps
from itertools import pairwise
from typing import Any

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.panel import Floats
from proteron.core.timeline import Ints

_SHORT = 10  # points of a window that is summed anew for every point
_INSERTED = 32  # points of a window that is kept sorted as a whole
_LEFT_OVER = 0.03  # of the squares about an anchor; with less, digits are lost


def per_point(count: int, blank: bool = True) -> Callable[[Callable[..., None]], Callable[..., Any]]:
    """Give a kernel `count` arrays (n_points,) of doubles to fill, and return them; `blank`: NaN to begin with."""

    def decorate(fill: Callable[..., None]) -> Callable[..., Any]:
        @wraps(fill)
        def answer(values: Floats, offsets: Ints, *settings: Any) -> Any:
            out = np.empty((count, len(values)))  # in one piece, which an allocator can use again
            if blank:
                out.fill(np.nan)
            fill(values, offsets, *settings, *out)
            return tuple(out) if count > 1 else out[0]

        return answer

    return decorate


@kernel
def first_known(values: Floats, start: int, stop: int) -> float:
    for i in range(start, stop):
        if not np.isnan(values[i]):
            return float(values[i])
    return np.nan


@per_point(2, blank=False)
@kernel
def rolling_moments(  # noqa: C901
    values: Floats, offsets: Ints, window: int, means: Floats, squares: Floats
) -> None:  # fmt: skip
    """Mean and sum of squared deviations of each window's points, per series; NaN if one is missing.

    A window is the tail of one block of `window` points and the head of the next. Sums of deviations and of
    their squares run through each block from both ends, as deviations from the mean of the block before,
    which are exact at any offset; both ends are merged (Chan, Golub & LeVeque 1979). Where little is left of
    the squares of a window, that window is done again by updates that never subtract (Welford 1962); which way a
    window is done depends on its own points alone, so its bits never depend on what follows. Short windows are
    summed twice over, many at a time. Nothing after a window's end is read.
    """
    if window <= _SHORT:
        _short_moments(values, offsets, window, means, squares)
        return
    head, head2, least_left = np.empty(window), np.empty(window), np.empty(window)
    again, again2 = np.empty(window), np.empty(window)
    tail, tail2 = np.empty(2 * window), np.empty(2 * window)  # of this block and of the one before, in turns
    of_head = 1.0 / np.arange(1, window + 1)
    of_tail = 1.0 / np.arange(window - 1, 0, -1)
    whole = of_head[window - 1]
    of_both = np.arange(1, window) * np.arange(window - 1, 0, -1) / window
    for s in range(len(offsets) - 1):
        start, stop = offsets[s], offsets[s + 1]
        for i in range(start, min(start + window - 1, stop)):
            means[i], squares[i] = np.nan, np.nan
        anchor, old_anchor, now, old = np.nan, 0.0, 0, window
        for block in range(start, stop, window):
            length = min(window, stop - block)
            if not np.isfinite(anchor):
                anchor = first_known(values, block, block + length)
            # Places are unsigned: that none is counted from an array's end need not be checked then.
            first, last, at = np.uint64(block), np.uint64(block + length - 1), np.uint64(now + length - 1)
            total, square, back_total, back_square = 0.0, 0.0, 0.0, 0.0
            for i in range(length):
                j = np.uint64(i)
                deviation, back = values[first + j] - anchor, values[last - j] - anchor
                total += deviation
                square += deviation * deviation
                back_total += back
                back_square += back * back
                head[j], head2[j] = total, square
                tail[at - j], tail2[at - j] = back_total, back_square
            if block > start:
                some = min(length, window - 1)
                shift, base, lost = anchor - old_anchor, np.uint64(old + 1), 0
                for i in range(some):
                    j = np.uint64(i)
                    head_mean, tail_mean = head[j] * of_head[j], tail[base + j] * of_tail[j]
                    apart = shift + head_mean - tail_mean
                    between = apart * apart * of_both[j]
                    left = (head2[j] - head[j] * head_mean) + (tail2[base + j] - tail[base + j] * tail_mean) + between
                    means[first + j] = old_anchor + (tail[base + j] + head[j] + (i + 1) * shift) * whole
                    squares[first + j] = left
                    least_left[j] = _LEFT_OVER * (head2[j] + tail2[base + j] + between)
                    lost += left < least_left[j]
                if lost:
                    _again(values[block - window : block + some], of_head, again[:some], again2[:some])
                    for i in range(some):
                        if squares[block + i] < least_left[i]:
                            means[block + i], squares[block + i] = again[i], again2[i]
            old_anchor = anchor
            if length == window:
                apart = square - total * total * whole
                if apart < _LEFT_OVER * square:
                    mean, apart = _welford(values[block : block + window], of_head)
                    total = (mean - anchor) * window
                anchor += total * whole
                means[block + window - 1], squares[block + window - 1] = anchor, apart
            now, old = old, now


@kernel
def _short_moments(values: Floats, offsets: Ints, window: int, means: Floats, squares: Floats) -> None:
    """As `rolling_moments`, every window in two passes over its deviations from its last point."""
    width = 512
    total, square = np.empty(width), np.empty(width)
    for s in range(len(offsets) - 1):
        start, stop = offsets[s], offsets[s + 1]
        for i in range(start, min(start + window - 1, stop)):
            means[i], squares[i] = np.nan, np.nan
        for begin in range(start + window - 1, stop, width):
            count = np.uint64(min(width, stop - begin))
            ends = values[begin : begin + width]
            total[:] = 0.0
            for back in range(1, window):
                points = values[begin - back : begin - back + width]
                for i in range(count):
                    total[i] += points[i] - ends[i]
            for i in range(count):
                total[i] /= window
                square[i] = total[i] * total[i]
            for back in range(1, window):
                points = values[begin - back : begin - back + width]
                for i in range(count):
                    apart = (points[i] - ends[i]) - total[i]
                    square[i] += apart * apart
            for i in range(count):
                means[begin + i], squares[begin + i] = ends[i] + total[i], square[i]


@kernel
def _welford(points: Floats, share: Floats) -> tuple[float, float]:
    """Mean and sum of squared deviations (Welford 1962)."""
    anchor, mean, square = points[0], 0.0, 0.0
    for j in range(len(points)):
        deviation = points[j] - anchor
        gap = deviation - mean
        mean += gap * share[j]
        square += gap * (deviation - mean)
    return anchor + mean, square


@kernel
def _again(points: Floats, share: Floats, means: Floats, squares: Floats) -> None:
    """The windows that end in the last `len(means)` points, without subtracting; the first block is whole."""
    window = len(points) - len(means)
    anchor = points[window - 1]
    tail_mean, tail_square = np.empty(window), np.empty(window)
    mean, square = 0.0, 0.0
    for j in range(window):
        deviation = points[window - 1 - j] - anchor
        gap = deviation - mean
        mean += gap * share[j]
        square += gap * (deviation - mean)
        tail_mean[j], tail_square[j] = mean, square
    next_anchor = points[window]
    shift = next_anchor - anchor
    mean, square = 0.0, 0.0
    for j in range(len(means)):
        deviation = points[window + j] - next_anchor
        gap = deviation - mean
        mean += gap * share[j]
        square += gap * (deviation - mean)
        before = window - 1 - j
        apart = shift + mean - tail_mean[before - 1]
        weight = (j + 1) / window
        means[j] = anchor + tail_mean[before - 1] + apart * weight
        squares[j] = tail_square[before - 1] + square + apart * apart * before * weight


@per_point(3)
@kernel
def known_moments(
    values: Floats, offsets: Ints, window: int, least: int, means: Floats, squares: Floats, counts: Floats
) -> None:
    """Mean, sum of squared deviations and number of the known points of each window.

    As `rolling_moments`, with counts; windows that begin before the series count the points it has.
    """
    tail_mean, tail_square = np.empty(window), np.empty(window)
    tail_count = np.zeros(window, dtype=np.int64)
    for s in range(len(offsets) - 1):
        start, stop = offsets[s], offsets[s + 1]
        for block in range(start - window, stop, window):
            # Tails of this block (all of it lies before the series for the first one).
            last = block + window - 1
            anchor = first_known(values, max(block, start), min(last + 1, stop))
            mean, square, count = 0.0, 0.0, 0
            for j in range(window):
                i = last - j
                if start <= i < stop and not np.isnan(values[i]):
                    count += 1
                    deviation = values[i] - anchor
                    gap = deviation - mean
                    mean += gap / count
                    square += gap * (deviation - mean)
                tail_mean[j], tail_square[j], tail_count[j] = mean, square, count
            if start <= last < stop and count >= least:
                means[last], squares[last], counts[last] = anchor + mean, square, count
            heads = min(window - 1, stop - last - 1)
            next_anchor = first_known(values, last + 1, last + 1 + heads)
            mean, square, count = 0.0, 0.0, 0
            for j in range(heads):
                i = last + 1 + j
                if not np.isnan(values[i]):
                    count += 1
                    deviation = values[i] - next_anchor
                    gap = deviation - mean
                    mean += gap / count
                    square += gap * (deviation - mean)
                before = window - 2 - j
                other = tail_count[before] if before >= 0 else 0
                total = count + other
                if total < least or total == 0:
                    continue
                counts[i] = total
                if other == 0:
                    means[i], squares[i] = next_anchor + mean, square
                elif count == 0:
                    means[i], squares[i] = anchor + tail_mean[before], tail_square[before]
                else:
                    apart = (next_anchor - anchor) + mean - tail_mean[before]
                    means[i] = anchor + tail_mean[before] + apart * count / total
                    squares[i] = tail_square[before] + square + apart * apart * other * count / total


@per_point(2)
@kernel
def rolling_extremes(values: Floats, offsets: Ints, window: int, least: int, lows: Floats, highs: Floats) -> None:
    """Smallest and largest of each window, by running extremes of blocks (van Herk 1992; Gil & Werman 1993)."""
    tail_low, tail_high = np.empty(window + 1), np.empty(window + 1)
    tail_count = np.zeros(window + 1, dtype=np.int64)
    for s in range(len(offsets) - 1):
        start, stop = offsets[s], offsets[s + 1]
        for block in range(start - window, stop, window):
            tail_low[0], tail_high[0], tail_count[0] = np.inf, -np.inf, 0
            low, high, count = np.inf, -np.inf, 0
            for j in range(window):
                i = block + window - 1 - j
                if start <= i < stop:
                    value = values[i]
                    if value == value:
                        count += 1
                        low = min(low, value)
                        high = max(high, value)
                tail_low[j + 1], tail_high[j + 1], tail_count[j + 1] = low, high, count
            low, high, count = np.inf, -np.inf, 0
            for j in range(window):
                i = block + window + j
                if i >= stop:
                    break
                value = values[i]
                if value == value:
                    count += 1
                    low = min(low, value)
                    high = max(high, value)
                before = window - 1 - j
                if count + tail_count[before] >= least:
                    lows[i] = min(low, tail_low[before]) + 0.0
                    highs[i] = max(high, tail_high[before]) + 0.0


@per_point(2, blank=False)
@kernel
def gapless_extremes(values: Floats, offsets: Ints, window: int, lows: Floats, highs: Floats) -> None:
    """As `rolling_extremes` where nothing is missing and windows must be whole: no counting, half the time."""
    tail_low, tail_high = np.empty(window), np.empty(window)
    for s in range(len(offsets) - 1):
        start, stop = offsets[s], offsets[s + 1]
        for i in range(start, min(start + window - 1, stop)):
            lows[i], highs[i] = np.nan, np.nan
        for block in range(start, stop - window + 1, window):
            last = block + window - 1
            low, high = values[last], values[last]
            tail_low[0], tail_high[0] = low, high
            for j in range(1, window):
                value = values[last - j]
                low = value if value < low else low
                high = value if value > high else high
                tail_low[j], tail_high[j] = low, high
            lows[last], highs[last] = low + 0.0, high + 0.0
            heads = min(window - 1, stop - last - 1)
            low, high = np.inf, -np.inf
            for j in range(heads):
                value = values[last + 1 + j]
                low = value if value < low else low
                high = value if value > high else high
                other = tail_low[window - 2 - j]
                lows[last + 1 + j] = (other if other < low else low) + 0.0
                other = tail_high[window - 2 - j]
                highs[last + 1 + j] = (other if other > high else high) + 0.0


def rolling_quantile(values: Floats, offsets: Ints, window: int, level: float, least: int) -> Floats:
    """The `level` quantile of each window, linear between neighbours in rank, (n_points,).

    Short windows are kept sorted. For longer ones blocks of the window's length are sorted once: a window is what is
    left of one block and what has come of the next, two linked lists in order with a pointer into each (Suomela 2014).
    """
    if window < _INSERTED:
        return np.asarray(_quantile_by_insertion(values, offsets, window, level, least))
    out = np.full(len(values), np.nan)
    for start, stop in pairwise(offsets.tolist()):
        if stop > start:
            blocks = np.full((-(-(stop - start) // window), window), np.nan)
            blocks.ravel()[: stop - start] = values[start:stop]
            _quantile_by_lists(blocks, np.argsort(blocks, axis=1), stop - start, level, least, out[start:stop])
    return out


@kernel
def _quantile_by_lists(  # noqa: C901
    blocks: Floats, order: Ints, count: int, level: float, least: int, out: Floats
) -> None:  # fmt: skip
    """Quantiles of the windows that end at each of `count` points, given in `blocks` with their `order`.

    A list has places 0 … window - 1 for the points of a block, `window` for its end and `window + 1` for its head.
    `low` points of both lists together lie before the two pointers; none of them is above any that lies after.
    """
    window = blocks.shape[1]
    end, head = window, window + 1
    value, rank, after, before = (
        np.empty((2, window + 2)), np.empty((2, window + 2), dtype=np.int64),
        np.empty((2, window + 2), dtype=np.int64), np.empty((2, window + 2), dtype=np.int64),
    )  # fmt: skip
    for side in range(2):
        value[side, end], value[side, head], rank[side, end], rank[side, head] = np.inf, -np.inf, window, -1
        after[side, head], before[side, end] = end, head
    known = np.zeros((2, window), dtype=np.bool_)
    at_old, low, size, old = end, 0, 0, 0
    for block in range(len(blocks)):
        new = 1 - old
        last = head
        for place in range(window):
            i = order[block, place]
            value[new, i] = blocks[block, i]
            known[new, i] = blocks[block, i] == blocks[block, i]
            rank[new, i] = place
            if known[new, i]:
                after[new, last], before[new, i] = i, last
                last = i
        after[new, last], before[new, end] = end, last
        for i in range(window - 1, -1, -1):  # taken out backwards, to be put back in order of time
            if known[new, i]:
                after[new, before[new, i]], before[new, after[new, i]] = after[new, i], before[new, i]
        at_new = end
        for i in range(min(window, count - block * window)):
            if known[old, i]:
                size -= 1
                if rank[old, i] < rank[old, at_old]:
                    low -= 1
                elif i == at_old:
                    at_old = after[old, i]
                after[old, before[old, i]], before[old, after[old, i]] = after[old, i], before[old, i]
            if known[new, i]:
                size += 1
                after[new, before[new, i]], before[new, after[new, i]] = i, i
                if rank[new, i] < rank[new, at_new]:
                    if after[new, i] == at_new and value[new, i] > value[old, at_old]:
                        at_new = i
                    else:
                        low += 1
            rank_wanted = level * (size - 1)
            wanted = int(rank_wanted) if size > 0 else 0
            while low < wanted:
                if value[old, at_old] <= value[new, at_new]:
                    at_old = after[old, at_old]
                else:
                    at_new = after[new, at_new]
                low += 1
            while low > wanted:
                if value[old, before[old, at_old]] > value[new, before[new, at_new]]:
                    at_old = before[old, at_old]
                else:
                    at_new = before[new, at_new]
                low -= 1
            if size >= least:
                first, second = value[old, at_old], value[new, at_new]
                if first <= second:
                    follows = min(second, value[old, after[old, at_old]]) if at_old != end else second
                else:
                    first, second = second, first
                    follows = min(second, value[new, after[new, at_new]]) if at_new != end else second
                out[block * window + i] = first + 0.0
                if rank_wanted > wanted:
                    out[block * window + i] = first + (follows - first) * (rank_wanted - wanted) + 0.0
        for i in range(window):  # all of it is there again
            if known[old, i]:
                known[old, i] = False
        after[old, head], before[old, end] = end, head
        old, at_old = new, at_new


@per_point(1)
@kernel
def _quantile_by_insertion(values: Floats, offsets: Ints, window: int, level: float, least: int, out: Floats) -> None:
    """As `rolling_quantile`; the window is kept sorted, each step moves what lies between leaving and entering."""
    kept = np.empty(window + 1)
    for s in range(len(offsets) - 1):
        start, stop = offsets[s], offsets[s + 1]
        size = 0
        for i in range(start, stop):
            leaving = values[i - window] if i - window >= start else np.nan
            entering = values[i]
            if leaving == leaving and entering == entering:
                at = _place(kept, size, leaving)
                while at + 1 < size and kept[at + 1] < entering:
                    kept[at] = kept[at + 1]
                    at += 1
                while at > 0 and kept[at - 1] > entering:
                    kept[at] = kept[at - 1]
                    at -= 1
                kept[at] = entering
            elif leaving == leaving:
                at = _place(kept, size, leaving)
                size -= 1
                for k in range(at, size):
                    kept[k] = kept[k + 1]
            elif entering == entering:
                at = size
                size += 1
                while at > 0 and kept[at - 1] > entering:
                    kept[at] = kept[at - 1]
                    at -= 1
                kept[at] = entering
            if size >= least:
                place = level * (size - 1)
                low = int(place)
                high = min(low + 1, size - 1)
                out[i] = kept[low] + (kept[high] - kept[low]) * (place - low)


@kernel
def _place(kept: Floats, size: int, value: float) -> int:
    """Where `value` stands among the first `size` sorted ones."""
    low, high = 0, size
    while low < high:
        middle = (low + high) >> 1
        if kept[middle] < value:
            low = middle + 1
        else:
            high = middle
    return low


@per_point(1)
@kernel
def rolling_slope(values: Floats, offsets: Ints, window: int, out: Floats) -> None:
    """Least-squares slope per step of each window; NaN if one of its points is missing.

    Sums of deviations and of deviations times distance, from block ends outwards, so that nothing is
    subtracted from a running sum and an offset costs no digits.
    """
    tail_sum, tail_moment = np.empty(window + 1), np.empty(window + 1)
    spread = window * (window * window - 1) / 12.0
    for s in range(len(offsets) - 1):
        start, stop = offsets[s], offsets[s + 1]
        for block in range(start, stop - window + 1, window):
            # Distances are counted from the block's last point; a tail of j points reaches j - 1 back.
            last = block + window - 1
            anchor = values[last]
            tail_sum[0], tail_moment[0] = 0.0, 0.0
            for j in range(window):
                deviation = values[last - j] - anchor
                tail_sum[j + 1] = tail_sum[j] + deviation
                tail_moment[j + 1] = tail_moment[j] - j * deviation
            head_sum, head_moment = 0.0, 0.0
            for j in range(window):
                i = last + j
                if i >= stop:
                    break
                if j:
                    deviation = values[i] - anchor
                    head_sum += deviation
                    head_moment += j * deviation
                total = tail_sum[window - j] + head_sum
                moment = tail_moment[window - j] + head_moment
                centre = j - (window - 1) / 2.0
                out[i] = (moment - centre * total) / spread


@per_point(1)
@kernel
def rolling_share(
    values: Floats, offsets: Ints, window: int, level: float, above: bool, least: int, out: Floats
) -> None:
    """How many points of each window lie above (or below) `level`."""
    for s in range(len(offsets) - 1):
        start, stop = offsets[s], offsets[s + 1]
        found, known = 0, 0
        for i in range(start, stop):
            if values[i] == values[i]:
                known += 1
                found += values[i] > level if above else values[i] < level
            if i - window >= start and values[i - window] == values[i - window]:
                known -= 1
                found -= values[i - window] > level if above else values[i - window] < level
            if known >= least:
                out[i] = found


@per_point(1, blank=False)
@kernel
def weighted_means(values: Floats, offsets: Ints, keep: float, out: Floats) -> None:
    """Exponentially weighted mean of everything up to each point, as `weighted_moments`."""
    for s in range(len(offsets) - 1):
        mean, weight, settled = np.nan, 0.0, 1.0 / (1.0 - keep) if keep < 1.0 else np.inf
        for i in range(offsets[s], offsets[s + 1]):
            weight *= keep
            value = values[i]
            if value == value:
                weight += 1.0
                if weight == settled:
                    mean += (value - mean) * (1.0 - keep)
                elif mean == mean:
                    mean += (value - mean) / weight
                else:
                    mean = value
            out[i] = mean


@per_point(2)
@kernel
def weighted_moments(values: Floats, offsets: Ints, keep: float, means: Floats, variances: Floats) -> None:
    """Exponentially weighted mean and variance of everything up to each point (West 1979).

    A point k steps back weighs keep^k; weights are normalised over the known points, missing ones age
    the others.
    """
    for s in range(len(offsets) - 1):
        mean, weight, square = np.nan, 0.0, 0.0
        for i in range(offsets[s], offsets[s + 1]):
            weight *= keep
            square *= keep
            value = values[i]
            if value == value:
                if mean != mean:
                    mean = value
                weight += 1.0
                gap = value - mean
                mean += gap / weight
                square += gap * (value - mean)
            if weight > 0:
                means[i] = mean
                variances[i] = square / weight


@per_point(1, blank=False)
@kernel
def steps_since(values: Floats, offsets: Ints, low: float, high: float, most: int, out: Floats) -> None:
    """Steps since the last known value that lies outside `low` ≤ value ≤ `high`, at most `most`; 0 at it."""
    for s in range(len(offsets) - 1):
        since = most
        for i in range(offsets[s], offsets[s + 1]):
            since = min(since + 1, most)
            if values[i] == values[i] and not low <= values[i] <= high:
                since = 0
            out[i] = since
