"""What was decided as of every moment, as candidates: points in a row are one, named when it has ended."""

import numpy as np

from proteron.core.anomalies.as_of import BLOCK, POINT, STEP, Watch
from proteron.core.anomalies.budget import score_of
from proteron.core.anomalies.flags import Candidate, SeriesScores
from proteron.core.anomalies.naming import kind_of

_SURE = score_of(60.0)  # what an exact test says


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
        return sorted([*self._closed, *self._open, *exact], key=lambda each: (each.course[0][0], each.start))

    def _keep(self, candidate: Candidate, ended: bool) -> None:
        (self._closed if ended else self._open).append(candidate)


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
