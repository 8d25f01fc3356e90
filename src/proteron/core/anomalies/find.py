"""Anomalies of a panel: a detector's candidates above a threshold, looking back or as of every moment."""

import os
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from typing import Any

import numpy as np

from proteron.core.anomalies.budget import flags_allowed, threshold_by_rank, threshold_by_tail
from proteron.core.anomalies.detectors import DETECTORS, Detector
from proteron.core.anomalies.flags import Anomalies, Flag, Mode, Scores, SeriesScores, flag_of
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

    `using` a contender, by its name or as it is (with a `chain`), flags what it did not forecast one step ahead, out of
    sample; that is as of every moment by nature. Series are scored over so many `workers`; `progress` is told of
    those done and of all. Raises `SettingsError`
    for a budget that is not positive or beside a threshold, `StoppedError` when a stop was asked for.
    """
    require_panel(panel)
    _check(mode, per_thousand, per_week, threshold, delay)
    panel = panel.cut_at(until)
    seconds = panel.axis.step.nominal_seconds
    if using is not None:
        contender = forecaster(using, chain=chain) if isinstance(using, str) else using
        weekly = flags_allowed(round(604800 / seconds), seconds, per_thousand, per_week)
        return residual_anomalies(
            panel, contender, _USUAL_PER_WEEK if weekly is None else weekly, seed, workers, threshold
        )
    found = _scored(panel, DETECTORS["joint"](), mode, delay, workers, progress, stop_asked)
    if threshold is None and mode == "looking_back":
        scored = sum(int(np.isfinite(each.score).sum()) for each in found)
        allowed = flags_allowed(scored, seconds, per_thousand, per_week)
        threshold = threshold_by_rank([each.score for one in found for each in one.candidates], allowed)
    thresholds, flags = {}, list[Flag]()
    for index, (key, one) in enumerate(zip(panel.keys, found, strict=True)):
        raised, thresholds[key] = _raised(
            one, threshold, lambda points: flags_allowed(points, seconds, per_thousand, per_week)
        )
        flags += [flag_of(panel, index, one.candidates[place], one.expected, each) for place, each in raised.items()]
    scores = Scores(panel, *(np.concatenate([getattr(each, name) for each in found]) for name in ("expected", "score")))
    return Anomalies(scores, thresholds, tuple(sorted(flags, key=lambda flag: (flag.time, flag.key))))


def _check(mode: str, per_thousand: float | None, per_week: float | None, threshold: float | None, delay: int) -> None:
    if mode not in ("looking_back", "as_of"):
        raise SettingsError(f"There is no mode “{mode}”; there are: looking_back, as_of.", field="mode")
    if not 0 <= delay <= 8:
        raise SettingsError("The delay is a number of points from 0 to 8.", field="delay")
    if threshold is not None and (per_thousand is not None or per_week is not None):
        raise SettingsError("Give a budget or a threshold, not both.", field="threshold")
    if threshold is not None and not threshold > 0:
        raise SettingsError("The threshold is a positive number of spreads.", field="threshold")
    flags_allowed(1, 1.0, per_thousand, per_week)


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


def _raised(
    found: SeriesScores, fixed: float | None, allowed: Callable[[int], float | None]
) -> tuple[dict[int, tuple[int, float]], float]:
    """By place among the candidates where each rose above the threshold of the moment, and with what score; and the
    last threshold, which is learned from the past unless it is `fixed`."""
    courses = [(at, score, place) for place, each in enumerate(found.candidates) for at, score in each.course]
    courses.sort()
    threshold = fixed or threshold_by_tail([], allowed(1))
    raised, past, next_up = dict[int, tuple[int, float]](), dict[int, float](), 0
    for moment in [*found.moments, None]:
        while next_up < len(courses) and (moment is None or courses[next_up][0] < moment):
            at, score, place = courses[next_up]
            past[place] = score
            if score > threshold:
                raised.setdefault(place, (at, score))
            next_up += 1
        if moment is not None and fixed is None:
            threshold = threshold_by_tail(list(past.values()), allowed(moment))
    return raised, threshold
