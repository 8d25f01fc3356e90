"""Raising flags: which candidates of a panel's series rise above the threshold of the moment, within a budget."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from proteron.core.anomalies.budget import Budget, threshold_by_rank, threshold_by_tail
from proteron.core.anomalies.flags import Candidate, Flag, Mode, SeriesFound, flag_of
from proteron.core.detection.scores import JOINT, Limits
from proteron.core.panel import Panel

_MOST_MOMENTS = 256


Place = tuple[int, int]  # of a candidate: its series and its number, or where it begins and whether exactly
Moment = tuple[int, int, int]  # at which is learned: its position, points known by then, of how many series


class Raising:
    """Raises flags in the course of time: scores at positions of one clock against the threshold of the moment, which
    is learned from those before it unless it is fixed. Points may come in any portions."""

    def __init__(self, budget: Budget, seconds: float, limits: Limits = JOINT) -> None:
        self._budget, self._seconds, self._limits = budget, seconds, limits
        self._known: dict[Place, float] = {}
        self.raised: dict[Place, tuple[int, float]] = {}
        self.threshold = budget.threshold or threshold_by_tail([], budget.allowed(1, 1, seconds), limits)

    def go_on(self, scores: Iterable[tuple[int, float, Place]], moments: Iterable[Moment]) -> None:
        """Take further scores (position, score, place) and moments, none earlier than those before."""
        ordered, next_up = sorted(scores), 0
        for moment in [*moments, None]:
            while next_up < len(ordered) and (moment is None or ordered[next_up][0] < moment[0]):
                at, score, place = ordered[next_up]
                self._known[place] = score
                if score > self.threshold:
                    self.raised.setdefault(place, (at, score))
                next_up += 1
            if moment is not None and self._budget.threshold is None:
                allowed = self._budget.allowed(*moment[1:], self._seconds)
                self.threshold = threshold_by_tail(list(self._known.values()), allowed, self._limits)


def _moments_of(panel: Panel, found: Sequence[SeriesFound], series: Sequence[int]) -> Iterator[Moment]:
    """When something is learned of some series together."""
    starts, lengths = panel.starts[list(series)], panel.lengths[list(series)]
    for position in _thinned({int(panel.starts[index]) + at for index in series for at in found[index].moments}):
        points = np.clip(position - starts, 0, lengths)
        yield position, int(points.sum()), int((points > 0).sum())


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
        raising = Raising(mine, seconds, limits)
        scores = (
            (int(panel.starts[index]) + at, score, (index, place))
            for index in group for place, each in enumerate(found[index].candidates) if not each.occasion
            for at, score in each.course
        )  # fmt: skip
        raising.go_on(scores, _moments_of(panel, found, group))
        thresholds |= {panel.keys[index]: raising.threshold for index in group}
        for (index, place), (at, score) in raising.raised.items():
            flags.append(flag(index, found[index].candidates[place], (at - int(panel.starts[index]), score)))
        quiet += [
            flag(index, each, each.course[-1])
            for index in group for each in found[index].candidates if each.occasion and each.score > raising.threshold
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
