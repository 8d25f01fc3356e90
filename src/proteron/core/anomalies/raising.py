"""Raising flags: which candidates of a panel's series rise above the threshold of the moment, within a budget."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from proteron.core.anomalies.budget import Budget, threshold_by_rank, threshold_by_tail
from proteron.core.anomalies.flags import Candidate, Flag, Mode, SeriesFound, flag_of
from proteron.core.detection.scores import JOINT, Limits
from proteron.core.panel import Panel

_MOST_MOMENTS = 256


@dataclass(frozen=True)
class Past:
    """Candidates by place with their courses, at positions of one clock, and the moments at which a threshold is
    learned, each with how many points of how many series are known then."""

    candidates: Mapping[tuple[int, int], Candidate]
    begins: Mapping[int, int]  # by series, the position of its first point
    moments: Sequence[tuple[int, int, int]]


def raised_of(
    past: Past, budget: Budget, seconds: float, limits: Limits = JOINT
) -> tuple[dict[tuple[int, int], tuple[int, float]], float]:
    """By place where each candidate rose above the threshold of the moment (the position in its series), and with what
    score; and the last threshold, which is learned from the past of each moment unless it is fixed.

    What an occasion explains is neither raised nor learned from.
    """
    courses = sorted(
        (past.begins[place[0]] + at, score, place)
        for place, each in past.candidates.items() if not each.occasion for at, score in each.course
    )  # fmt: skip
    fixed = budget.threshold
    threshold = fixed or threshold_by_tail([], budget.allowed(1, 1, seconds), limits)
    raised, known, next_up = dict[tuple[int, int], tuple[int, float]](), dict[tuple[int, int], float](), 0
    for moment in [*past.moments, None]:
        while next_up < len(courses) and (moment is None or courses[next_up][0] < moment[0]):
            at, score, place = courses[next_up]
            known[place] = score
            if score > threshold:
                raised.setdefault(place, (at - past.begins[place[0]], score))
            next_up += 1
        if moment is not None and fixed is None:
            threshold = threshold_by_tail(list(known.values()), budget.allowed(*moment[1:], seconds), limits)
    return raised, threshold


def past_of(panel: Panel, found: Sequence[SeriesFound], series: Sequence[int]) -> Past:
    """Candidates of some series together."""
    begins = {index: int(panel.starts[index]) for index in series}
    candidates = {(index, place): each for index in series for place, each in enumerate(found[index].candidates)}
    starts, lengths = panel.starts[list(series)], panel.lengths[list(series)]
    moments = []
    for position in _thinned({begins[index] + at for index in series for at in found[index].moments}):
        points = np.clip(position - starts, 0, lengths)
        moments.append((position, int(points.sum()), int((points > 0).sum())))
    return Past(candidates, begins, moments)


def _thinned(moments: set[int]) -> list[int]:
    """Moments in order, of very many only some; which ones depends on those before them alone."""
    ordered, kept = sorted(moments), list[int]()
    for each in ordered:
        apart = 0 if not kept else (kept[-1] - kept[0]) // _MOST_MOMENTS
        if not kept or each - kept[-1] > apart:
            kept.append(each)
    return kept


@dataclass(frozen=True)
class Raised:
    """Thresholds by series, the flags above them, and what would be flagged were it not for an occasion, in time
    order."""

    thresholds: Mapping[str, float]
    flags: tuple[Flag, ...]
    explained: tuple[Flag, ...]


def raise_flags(
    panel: Panel, found: Sequence[SeriesFound], mode: Mode, budget: Budget, limits: Limits = JOINT
) -> Raised:
    """Flags of a panel by what was found in its series, in the order of its keys."""
    seconds = panel.axis.step.nominal_seconds
    groups = [list(range(len(panel)))] if budget.over == "panel" else [[index] for index in range(len(panel))]
    thresholds, flags, quiet = dict[str, float](), list[Flag](), list[Flag]()

    def flag(index: int, each: Candidate, moment: tuple[int, float]) -> Flag:
        return flag_of(panel.axis, int(panel.starts[index]), panel.keys[index], each, moment)

    for group in groups:
        mine = budget
        if mode == "looking_back" and budget.threshold is None:
            mine = Budget(threshold=_ranked(found, group, budget, seconds, limits))
        raised, threshold = raised_of(past_of(panel, found, group), mine, seconds, limits)
        thresholds |= {panel.keys[index]: threshold for index in group}
        flags += [flag(index, found[index].candidates[place], moment) for (index, place), moment in raised.items()]
        quiet += [
            flag(index, each, each.course[-1])
            for index in group for each in found[index].candidates if each.occasion and each.score > threshold
        ]  # fmt: skip
    in_order = [tuple(sorted(each, key=lambda one: (one.time, one.key))) for each in (flags, quiet)]
    return Raised(thresholds, *in_order)


def _ranked(
    found: Sequence[SeriesFound], group: Sequence[int], budget: Budget, seconds: float, limits: Limits
) -> float:  # fmt: skip
    """The threshold of a budget where all is known."""
    scored = sum(found[index].scored for index in group)
    scores = [each.score for index in group for each in found[index].candidates if not each.occasion]
    return threshold_by_rank(scores, budget.allowed(scored, len(group), seconds), limits)
