"""Anomalies of a panel: a detector's candidates above a threshold, looking back or as of every moment."""

import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor
from typing import Any

import numpy as np

from proteron.core.anomalies.budget import (
    JOINT,
    Limits,
    check_budget,
    flags_allowed,
    threshold_by_rank,
    threshold_by_tail,
)
from proteron.core.anomalies.detectors import DETECTORS, Detector
from proteron.core.anomalies.flags import Anomalies, Candidate, Flag, Mode, Scores, SeriesScores, flag_of
from proteron.core.anomalies.residuals import residual_anomalies
from proteron.core.errors import SettingsError, StoppedError
from proteron.core.flatten import Chain
from proteron.core.forecasters import Contender, forecaster
from proteron.core.judge import process_context, without_main
from proteron.core.panel import Panel, require_panel
from proteron.core.timeline import Moment

_USUAL_PER_WEEK = 2.0  # of what a contender did not expect


def find_anomalies(
    panel: Panel,
    mode: Mode = "looking_back",
    *,
    using: str | Contender | None = None,
    per_thousand: float | None = None,
    per_week: float | None = None,
    threshold: float | None = None,
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
    points or `per_week` a series, is kept over the whole panel looking back, and learned from the past of each series
    as of each moment; without one a threshold that suits most series is used. Scores and `threshold` are in spreads: a
    block or step scores as a single point that is as unlikely.

    `using` names another detector (“odd_windows”, “extreme_values”), or a contender, by its name or as it is (with a
    `chain`): then what it did not forecast one step ahead is flagged, out of sample, as of every moment by nature.
    Series are scored over so many `workers`; `progress` is told of those done and of all. Raises `SettingsError` for a
    budget that is not positive or beside a threshold, `StoppedError` when a stop was asked for.
    """
    require_panel(panel)
    if mode not in ("looking_back", "as_of"):
        raise SettingsError(f"There is no mode “{mode}”; there are: looking_back, as_of.", field="mode")
    check_budget(per_thousand, per_week, threshold, delay)
    panel = panel.cut_at(until)
    seconds = panel.axis.step.nominal_seconds
    if using is not None and using not in DETECTORS:
        contender = forecaster(using, chain=chain) if isinstance(using, str) else using
        weekly = flags_allowed(round(604800 / seconds), seconds, per_thousand, per_week)
        return residual_anomalies(
            panel, contender, _USUAL_PER_WEEK if weekly is None else weekly, seed, workers, threshold
        )
    detector: Detector = DETECTORS[str(using or "joint")]()
    found = _scored(panel, detector, mode, delay, workers, progress, stop_asked)

    def allowed(points: int) -> float | None:
        return flags_allowed(points, seconds, per_thousand, per_week)

    if threshold is None and mode == "looking_back":
        scored = sum(int(np.isfinite(each.score).sum()) for each in found)
        threshold = threshold_by_rank(
            [each.score for one in found for each in one.candidates], allowed(scored), detector.limits
        )
    thresholds, flags = {}, list[Flag]()
    for index, (key, one) in enumerate(zip(panel.keys, found, strict=True)):
        raised, thresholds[key] = raised_of(one.candidates, one.moments, threshold, allowed, detector.limits)
        flags += _flags(panel, index, one, raised)
    series = Scores(panel, *(np.concatenate([getattr(each, name) for each in found]) for name in ("expected", "score")))
    return Anomalies(series, thresholds, tuple(sorted(flags, key=lambda flag: (flag.time, flag.key))), mode)


def _flags(panel: Panel, index: int, found: SeriesScores, raised: Mapping[int, tuple[int, float]]) -> Iterator[Flag]:
    first, key, values = int(panel.starts[index]), panel.keys[index], panel.series(index)
    for place, moment in raised.items():
        yield flag_of(panel.axis, first, key, values, found.candidates[place], found.expected, moment)


def _scored(
    panel: Panel, detector: Detector, mode: Mode, delay: int, workers: int, progress: Callable[[int, int], Any] | None,
    stop_asked: Callable[[], bool],
) -> list[SeriesScores]:  # fmt: skip
    """Every series by itself, over some processes; the numbers do not depend on how many."""
    alone = (panel.select([index]) for index in range(len(panel)))
    if workers <= 1 or len(panel) < 2:
        scores: Iterator[SeriesScores] = (_score(detector, each, mode, delay) for each in alone)
        return _gathered(scores, len(panel), progress, stop_asked)
    with ProcessPoolExecutor(min(workers, os.cpu_count() or 1, len(panel)), process_context()) as pool:
        with without_main():
            futures = [pool.submit(_score, detector, each, mode, delay) for each in alone]
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


def _score(detector: Detector, alone: Panel, mode: Mode, delay: int) -> SeriesScores:
    return detector.look_back(alone, 0) if mode == "looking_back" else detector.as_of(alone, 0, delay)


def raised_of(
    candidates: Sequence[Candidate],
    moments: Sequence[int],
    fixed: float | None,
    allowed: Callable[[int], float | None],
    limits: Limits = JOINT,
) -> tuple[dict[int, tuple[int, float]], float]:
    """By place among the candidates where each rose above the threshold of the moment, and with what score; and the
    last threshold, which is learned at `moments` from the past unless it is `fixed`."""
    courses = [(at, score, place) for place, each in enumerate(candidates) for at, score in each.course]
    courses.sort()
    threshold = fixed or threshold_by_tail([], allowed(1), limits)
    raised, past, next_up = dict[int, tuple[int, float]](), dict[int, float](), 0
    for moment in [*moments, None]:
        while next_up < len(courses) and (moment is None or courses[next_up][0] < moment):
            at, score, place = courses[next_up]
            past[place] = score
            if score > threshold:
                raised.setdefault(place, (at, score))
            next_up += 1
        if moment is not None and fixed is None:
            threshold = threshold_by_tail(list(past.values()), allowed(moment), limits)
    return raised, threshold
