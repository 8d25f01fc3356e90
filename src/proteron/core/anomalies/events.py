"""What was decided as of every moment, as candidates: points in a row are one, named when it has ended."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from proteron.core.anomalies.as_of import BLOCK, POINT, STEP, Watch
from proteron.core.anomalies.budget import score_of
from proteron.core.anomalies.flags import Candidate, SeriesScores
from proteron.core.anomalies.naming import kind_of

_SURE = score_of(60.0)  # what an exact test says
_STEP_KIND = "level shift"
_SHORT = 48  # points within which a step may be taken back, at least
_ALIKE = 0.5  # how much of it


class Teller:
    """Candidates of one watch, told on as it goes on."""

    def __init__(self) -> None:
        self._closed: list[Candidate] = []
        self._open: list[Candidate] = []
        self._place = 0  # from which on candidates may still change

    def told(self, watch: Watch) -> list[Candidate]:
        """All so far, by when they were raised; what has ended is not looked at again."""
        place, self._open = self._place, []
        while place < watch.decided:
            kind, stop = int(watch.kinds[place]), place + 1
            if kind in (POINT, BLOCK):
                while stop < watch.decided and watch.kinds[stop] in (POINT, BLOCK):
                    stop += 1
            if kind in (POINT, BLOCK, STEP):
                self._keep(_candidate(watch, place, stop), stop < watch.decided)
            place = stop
        self._place = self._open[0].start if self._open else watch.decided
        exact = [
            Candidate(each.start, each.stop, each.kind, ((each.raised, _SURE),), exact=True)
            for each in watch.arrivals.found
        ]
        whole = joined([*self._closed, *self._open], watch)
        return sorted([*whole, *exact], key=lambda each: (each.course[0][0], each.start))

    def _keep(self, candidate: Candidate, ended: bool) -> None:
        (self._closed if ended else self._open).append(candidate)


def joined(found: Sequence[Candidate], watch: Watch) -> list[Candidate]:
    """What is one event as one: points that lead into a step, and a step with the one that takes it back."""
    season = watch.seasons[0] if watch.seasons else 1
    out = list[Candidate]()
    for each in sorted(found, key=lambda one: one.start):
        leads = bool(out) and each.kind == _STEP_KIND and out[-1].stop == each.start and out[-1].kind != _STEP_KIND
        place = len(out) - (2 if leads else 1)
        if place >= 0 and _is_return(out[place], each, watch, season):
            step = out[place]
            course = step.course + tuple(grown for grown in each.course if grown[1] > step.score)
            out[place] = replace(
                step, stop=out[-1].start if leads else each.start, course=course, moved=_height(step, watch)
            )
        elif leads:
            before = out.pop()
            course = before.course + tuple(grown for grown in each.course if grown[1] > before.score)
            out.append(replace(each, start=before.start, course=course, moved=_height(each, watch)))
        else:
            out.append(each)
    return out


def _height(step: Candidate, watch: Watch) -> float:
    """How far a step goes; of one that points lead into, as far as these."""
    if np.isfinite(step.moved):
        return step.moved
    return float(watch.raw[step.start] - watch.expected[step.start])


def _is_return(before: Candidate, each: Candidate, watch: Watch, season: int) -> bool:
    """Whether a step goes back about as far as the one before it went."""
    if before.kind != _STEP_KIND or each.kind != _STEP_KIND or each.start - before.stop > max(2 * season, _SHORT):
        return False
    up, down = _height(before, watch), _height(each, watch)
    return up * down < 0 and _ALIKE < abs(down / up) < 1 / _ALIKE


def told_as_of(watch: Watch) -> SeriesScores:
    """Scores of decided points, and candidates with the positions at which each was raised."""
    score = np.array([score_of(each) if np.isfinite(each) else np.nan for each in watch.net.tolist()])
    for each in watch.arrivals.found:
        score[each.start : each.stop] = _SURE
    return SeriesScores(watch.expected.copy(), score, tuple(Teller().told(watch)), tuple(watch.moments))


def _candidate(watch: Watch, start: int, stop: int) -> Candidate:
    """What begins at a place, with where its score grew, and to what."""
    course: list[tuple[int, float]] = []
    for at in range(start, stop):
        score = score_of(float(watch.net[at]))
        if not course or score > course[-1][1]:
            course.append((at + watch.delay, score))
    if watch.kinds[start] == STEP:
        return Candidate(start, stop, "level shift", tuple(course))
    around = max(2 * (watch.seasons[0] if watch.seasons else 6), 24)
    low = max(start - around, 0)
    season = watch.seasons[0] if watch.seasons else 1
    raw, expected = watch.raw[low : watch.decided], watch.expected[low : watch.decided]
    return Candidate(start, stop, kind_of(raw, expected, slice(start - low, stop - low), season), tuple(course))
