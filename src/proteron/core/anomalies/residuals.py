"""Anomaly scores from out-of-sample residuals, scaled by a spread known before them."""

from collections.abc import Sequence

import numpy as np

from proteron.core.anomalies.flags import Candidate, Scores, SeriesScores
from proteron.core.detection.scores import Limits
from proteron.core.forecasters import Contender
from proteron.core.judge import CellResult, Folds, walk_forward
from proteron.core.panel import Panel

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


RESIDUAL = Limits(6.0, 3.0)
_STEP = 3  # points in a row above the least threshold that are called a level shift


def residual_candidates(scores: Scores, index: int) -> SeriesScores:
    """Runs of scores of one series above the least threshold: three and more are a level shift, fewer a spike; each is
    known with its point."""
    expected, score = scores.series(index)
    above = np.concatenate([[False], score > RESIDUAL.least, [False]])
    edges = np.flatnonzero(above[1:] != above[:-1]).tolist()
    found = []
    for start, stop in zip(edges[::2], edges[1::2], strict=True):
        course: list[tuple[int, float]] = []
        for at in range(start, stop):
            if not course or score[at] > course[-1][1]:
                course.append((at, min(float(score[at]), _MOST)))
        found.append(Candidate(start, stop, "spike" if stop - start < _STEP else "level shift", tuple(course)))
    every = max(len(score) // _MOMENTS, 1)
    return SeriesScores(expected, np.minimum(score, _MOST), tuple(found), tuple(range(every, len(score), every)))


_MOST, _MOMENTS = 1e6, 64


def residual_found(panel: Panel, contender: Contender, seed: int, workers: int) -> list[SeriesScores]:
    """What a contender did not expect one step ahead, per series.

    Every score is out of sample: contender and spread were learned before the point's fold began.
    """
    report = walk_forward(panel, {"scan": contender}, scan_folds(panel), ["mae"], "scan", seed, workers, levels=())
    scores = residual_scores(panel, report.results)
    return [residual_candidates(scores, index) for index in range(len(panel))]
