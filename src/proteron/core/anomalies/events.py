"""What was decided as of every moment, as candidates: points in a row are one, named when it has ended."""

from dataclasses import replace

import numpy as np

from proteron.core.anomalies.flags import Candidate, SeriesScores
from proteron.core.detection.as_of import BLOCK, POINT, STEP, Watch
from proteron.core.detection.bridging import filled
from proteron.core.detection.naming import drifted_into, is_factor, kind_of
from proteron.core.detection.scores import score_of

_SURE = score_of(60.0)  # what an exact test says
_STEP_KIND = "level shift"
_SHORT = 48  # points within which a step may be taken back, at least
_ALIKE = 0.5  # how much of it
_AROUND, _MOST_AROUND = 3, 1000  # longest seasons, or points, before a step that tell what was expected after it


class Teller:
    """Candidates of one watch, told on as it goes on: each time those that are new or may have changed."""

    def __init__(self) -> None:
        self._place = 0  # from which on points are looked at again
        self._events: list[Candidate] = []  # of what has ended, those that a step may still be joined to
        self._exact = 0  # how many exact findings are over
        self._factors: dict[tuple[int, int], bool] = {}

    def told(self, watch: Watch) -> list[Candidate]:
        """By when they were raised; what was told before and is not told again stays as it was."""
        place, opened = self._place, list[Candidate]()
        while place < watch.decided:
            kind, stop = int(watch.kinds[place]), place + 1
            if kind in (POINT, BLOCK):
                while stop < watch.decided and watch.kinds[stop] in (POINT, BLOCK):
                    stop += 1
            if kind in (POINT, BLOCK, STEP):
                candidate = _candidate(watch, place, stop)
                if stop < watch.decided:
                    self._join(self._events, candidate, watch)
                else:
                    opened.append(candidate)
            place = stop
        self._place = opened[0].start if opened else watch.decided
        events = self._events.copy()
        for candidate in opened:
            self._join(events, candidate, watch)
        found = watch.arrivals.found
        exact = [
            Candidate(each.start, each.stop, each.kind, ((each.raised, _SURE),), exact=True)
            for each in found[self._exact :]
        ]
        self._exact = max(len(found) - 1, 0)
        reach = watch.decided - _longest(watch) - 1
        while len(self._events) > 2 and self._events[0].stop < reach:
            del self._events[0]
        return sorted([*events, *exact], key=lambda each: (each.course[0][0], each.start))

    def _join(self, events: list[Candidate], each: Candidate, watch: Watch) -> None:
        """Add a candidate to events in order: points that lead into a step, and a step with the one that takes it back,
        are one."""
        leads = bool(events) and each.kind == _STEP_KIND and events[-1].stop == each.start
        leads = leads and events[-1].kind != _STEP_KIND
        place = len(events) - (2 if leads else 1)
        step = events[place] if place >= 0 else None
        if step is not None and _are_opposite(step, each, watch, _longest(watch)):
            whole = _taken_back(step, each, events[-1].start if leads else each.start, watch, self._factors)
            if whole is not None:
                events[place] = whole
                return
        if leads:
            before = events.pop()
            course = before.course + tuple(grown for grown in each.course if grown[1] > before.score)
            each = replace(each, start=before.start, course=course, moved=_height(each, watch))
        events.append(each)


def _longest(watch: Watch) -> int:
    """Points within which a step may be taken back."""
    return max(2 * (watch.seasons[0] if watch.seasons else 1), _SHORT)


def _taken_back(
    step: Candidate, back: Candidate, stop: int, watch: Watch, known: dict[tuple[int, int], bool]
) -> Candidate | None:
    """A step and one the other way as one, where the second goes as far back, or a factor holds between them."""
    if (step.start, stop) not in known:
        known[step.start, stop] = _holds_factor(watch, step.start, stop)
    factor, ratio = known[step.start, stop], abs(_height(back, watch) / _height(step, watch))
    if not factor and not _ALIKE < ratio < 1 / _ALIKE:
        return None
    course = step.course + tuple(grown for grown in back.course if grown[1] > step.score)
    kind = "unit change" if factor else step.kind
    return replace(step, stop=stop, kind=kind, course=course, moved=_height(step, watch))


def _height(step: Candidate, watch: Watch) -> float:
    """How far a step goes; of one that points lead into, as far as these."""
    if np.isfinite(step.moved):
        return step.moved
    return float(watch.raw[step.start] - watch.expected[step.start])


def _are_opposite(before: Candidate, each: Candidate, watch: Watch, longest: int) -> bool:
    """Whether one step goes up and the other down, not too long after."""
    if before.kind != _STEP_KIND or each.kind != _STEP_KIND or each.start - before.stop > longest:
        return False
    return _height(before, watch) * _height(each, watch) < 0


def _holds_factor(watch: Watch, start: int, stop: int) -> bool:
    """Whether a factor holds between two steps, by what was known when the second was decided."""
    low = max(start - _AROUND * (watch.seasons[-1] if watch.seasons else 8), start - _MOST_AROUND, 0)
    values = watch.raw[low : stop + watch.delay + 1]
    hidden = np.zeros(len(values), dtype=bool)
    hidden[start - low : stop - low] = True
    part = slice(start - low, stop - low)
    there = np.isfinite(values[part])
    usual = filled(values, hidden, watch.first + low, watch.seasons)
    return is_factor(values[part][there], usual[part][there])


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
        known = watch.raw[: start + watch.delay + 1]  # no more was when it was decided
        height = float(watch.raw[start] - watch.expected[start])
        drift = drifted_into(known, start, height, watch.seasons, watch.delay + 1)
        if drift is not None:
            return Candidate(*drift, "drift", tuple(course))
        return Candidate(start, stop, _STEP_KIND, tuple(course))
    around = max(2 * (watch.seasons[0] if watch.seasons else 6), 24)
    low = max(start - around, 0)
    season = watch.seasons[0] if watch.seasons else 1
    high = min(stop + 1, watch.decided)  # what is known when it has ended
    raw, expected = watch.raw[low:high], watch.expected[low:high]
    return Candidate(start, stop, kind_of(raw, expected, slice(start - low, stop - low), season), tuple(course))
