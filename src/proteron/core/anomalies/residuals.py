"""Anomaly scores from out-of-sample residuals, scaled by a spread known before them."""

from collections.abc import Sequence

import numpy as np

from proteron.core.anomalies.flags import Anomalies, Flag, Scores, mean_of
from proteron.core.forecasters import Contender
from proteron.core.judge import CellResult, Folds, walk_forward
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Moment

_SCAN_FOLDS = 12


def scan_folds(panel: Panel, count: int = _SCAN_FOLDS) -> Folds:
    """Folds that score every step of the last three quarters once, one step ahead."""
    known = panel.end - int(panel.starts.min())
    count = min(count, max(1, known // 16))
    span = max(1, (known - known // 4) // count)
    return Folds.expanding(count=count, horizon=1, span=span, every=1)


def residual_scores(panel: Panel, results: Sequence[CellResult]) -> Scores:
    """Absolute flat one-step residuals in robust spreads (MAD) learned before the cutoff of each fold."""
    expected = np.full(len(panel.values), np.nan)
    score = np.full(len(panel.values), np.nan)
    for result in results:
        for row, index in enumerate(result.cell.series):
            local = result.origins + result.cell.place.gap - panel.starts[index]
            inside = (local >= 0) & (local < panel.lengths[index])
            at = panel.offsets[index] + local[inside]
            expected[at] = result.mean[row, inside, 0]
            residual = np.abs(result.flat_mean - result.flat_truth)[row, inside, 0]
            score[at] = residual / result.spread[row]
    return Scores(panel, expected, score)


_LEAST = 3.0  # spreads


def budget_threshold(score: Floats, steps_per_week: float, budget_per_week: float) -> float:
    """The lowest threshold at which flagged runs of `score` (n_points,) stay within the budget, at least 3 spreads.

    It is learned state: hand over only what is known at the cutoff. NaN where nothing is scored.
    """
    present = np.isfinite(score)
    if not present.any():
        return float("nan")
    allowed = max(1, int(budget_per_week * present.sum() / steps_per_week))
    if len(_runs(score, _LEAST)) <= allowed:
        return _LEAST
    ranked = np.sort(score[present & (score >= _LEAST)])[::-1]  # lower ones join runs, so that there are fewer again
    low, high = 0, len(ranked) - 1
    while low < high:  # the number of points above grows with rank; runs follow it closely
        middle = (low + high + 1) // 2
        if len(_runs(score, ranked[middle])) <= allowed:
            low = middle
        else:
            high = middle - 1
    return float(ranked[low])


def _runs(score: Floats, threshold: float) -> list[tuple[int, int]]:
    """Spans of consecutive points above the threshold."""
    above = np.concatenate([[False], score > threshold, [False]])
    edges = np.flatnonzero(above[1:] != above[:-1])
    return list(zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True))


def threshold_as_of(scores: Scores, index: int, until: Moment | None, budget_per_week: float) -> float:
    """The threshold of one series within an alert budget, learned from the scores known at `until`."""
    known = int(scores.panel.known_lengths(until)[index])
    per_week = 604800 / scores.panel.axis.step.nominal_seconds
    return budget_threshold(scores.series(index)[1][:known], per_week, budget_per_week)


def flags_above(scores: Scores, index: int, threshold: float, until: Moment | None = None) -> list[Flag]:
    """Flags of one series raised by `until`: a run of three and more is a level shift, shorter ones are spikes."""
    panel = scores.panel
    score = scores.series(index)[1][: int(panel.known_lengths(until)[index])]
    runs = _runs(score, threshold)
    if not runs:
        return []
    begins = np.array([start for start, _ in runs], dtype=np.int64)
    times = panel.axis.times(panel.starts[index] + begins)
    return [
        Flag(
            key=panel.keys[index],
            start=start,
            stop=stop,
            score=float(np.nanmax(score[start:stop])),
            kind="spike" if stop - start < 3 else "level shift",
            time=str(time),
            raised_at=start,
            observed=mean_of(panel.series(index)[start:stop]),
            expected=mean_of(scores.series(index)[0][start:stop]),
        )
        for (start, stop), time in zip(runs, times, strict=True)
    ]


def residual_anomalies(
    panel: Panel, contender: Contender, per_week: float, seed: int, workers: int, threshold: float | None = None
) -> Anomalies:
    """Flag what a contender did not expect one step ahead, above a threshold or within a budget for every series.

    Every score is out of sample: contender and spread were learned before the point's fold began.
    """
    folds = scan_folds(panel)
    report = walk_forward(panel, {"scan": contender}, folds, ["mae"], "scan", seed, workers, levels=())
    scores = residual_scores(panel, report.results)
    thresholds, flags = {}, []
    for index, key in enumerate(panel.keys):
        thresholds[key] = threshold or threshold_as_of(scores, index, None, per_week)
        flags += flags_above(scores, index, thresholds[key])
    return Anomalies(scores, thresholds, tuple(sorted(flags, key=lambda flag: flag.time)))
