"""Anomalies of a panel: a detector's candidates above a threshold, looking back or as of every moment."""

import os
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from typing import Any

import numpy as np

from proteron.core.anomalies.budget import Budget, Over, check_delay
from proteron.core.anomalies.detectors import DETECTORS, Detector
from proteron.core.anomalies.flags import Anomalies, Mode, Scores, SeriesScores
from proteron.core.anomalies.raising import raise_flags
from proteron.core.anomalies.residuals import RESIDUAL, residual_found
from proteron.core.detection.scores import Limits
from proteron.core.errors import SettingsError, StoppedError
from proteron.core.flatten import Chain
from proteron.core.forecasters import Contender, forecaster
from proteron.core.judge import process_context, without_main
from proteron.core.panel import Panel, require_panel
from proteron.core.timeline import Moment


def find_anomalies(
    panel: Panel,
    mode: Mode = "looking_back",
    *,
    using: str | Contender | None = None,
    per_thousand: float | None = None,
    per_week: float | None = None,
    threshold: float | None = None,
    over: Over = "panel",
    delay: int = 2,
    until: Moment | None = None,
    chain: Chain | None = None,
    seed: int = 0,
    workers: int = 1,
    progress: Callable[[int, int], Any] | None = None,
    stop_asked: Callable[[], bool] = bool,
) -> Anomalies:
    """Flag what was not to be expected.

    “looking_back” uses all points known at `until`, for cleaning before learning; “as_of” tells what would have been
    raised at each moment, `delay` points after a point came, and takes nothing back. A budget, in flags `per_thousand`
    points or `per_week`, is kept `over` the whole panel or every series; as of each moment it is learned from the past.
    Without one a threshold that suits most series is used. Scores and `threshold` are in spreads: a block or step
    scores as a single point that is as unlikely. What an occasion of the panel explains is told apart.

    `using` names another detector (“level_shifts”, “spread_shifts”, “odd_windows”, “extreme_values”, “beside_others”),
    or a contender, by its name or as it is (with a `chain`): then what it did not forecast one step ahead is flagged,
    out of sample, as of every moment by nature.
    Series are scored over so many `workers`; `progress` is told of those done and of all. Raises `SettingsError` for a
    budget that is not positive or beside a threshold, `StoppedError` when a stop was asked for.
    """
    require_panel(panel)
    if mode not in ("looking_back", "as_of"):
        raise SettingsError(f"There is no mode “{mode}”; there are: looking_back, as_of.", field="mode")
    check_delay(delay)
    budget = Budget(per_thousand, per_week, threshold, over)
    budget.check()
    panel = panel.cut_at(until)
    if using is not None and using not in DETECTORS:
        contender = forecaster(using, chain=chain) if isinstance(using, str) else using
        return _flagged(panel, residual_found(panel, contender, seed, workers), "as_of", budget, RESIDUAL)
    detector: Detector = DETECTORS[str(using or "joint")]()
    found = scored(panel, detector, mode, delay, workers, progress, stop_asked)
    return _flagged(panel, found, mode, budget, detector.limits)


def _flagged(panel: Panel, found: Sequence[SeriesScores], mode: Mode, budget: Budget, limits: Limits) -> Anomalies:
    told = [each.found(panel, index, mode) for index, each in enumerate(found)]
    raised = raise_flags(panel, told, mode, budget, limits)
    expected, score = (np.concatenate([getattr(each, name) for each in found]) for name in ("expected", "score"))
    return Anomalies(Scores(panel, expected, score), raised.thresholds, raised.flags, mode, raised.explained)


def limits_of(using: str | None) -> Limits:
    """Where the thresholds of a detector lie, or those of a contender's errors."""
    name = using or "joint"
    return DETECTORS[name].limits if name in DETECTORS else RESIDUAL


def scored(
    panel: Panel, detector: Detector, mode: Mode, delay: int, workers: int = 1,
    progress: Callable[[int, int], Any] | None = None, stop_asked: Callable[[], bool] = bool,
) -> list[SeriesScores]:  # fmt: skip
    """Every series, over some processes; the numbers do not depend on how many."""
    every = ((panel.select([index]), 0) if detector.alone else (panel, index) for index in range(len(panel)))
    if workers <= 1 or len(panel) < 2:
        scores: Iterator[SeriesScores] = (score_series(detector, *each, mode, delay) for each in every)
        return _gathered(scores, len(panel), progress, stop_asked)
    with ProcessPoolExecutor(min(workers, os.cpu_count() or 1, len(panel)), process_context()) as pool:
        with without_main():
            futures = [pool.submit(score_series, detector, *each, mode, delay) for each in every]
        try:
            return _gathered((each.result() for each in futures), len(panel), progress, stop_asked)
        finally:
            pool.shutdown(cancel_futures=True)


def _gathered(
    scores: Iterator[SeriesScores], count: int, progress: Callable[[int, int], Any] | None,
    stop_asked: Callable[[], bool],
) -> list[SeriesScores]:  # fmt: skip
    found = list[SeriesScores]()
    while len(found) < count:
        if stop_asked():
            raise StoppedError("Stopped before all series were scored.")
        found.append(next(scores))
        if progress is not None:
            progress(len(found), count)
    return found


def score_series(detector: Detector, panel: Panel, index: int, mode: Mode, delay: int) -> SeriesScores:
    return detector.look_back(panel, index) if mode == "looking_back" else detector.as_of(panel, index, delay)
