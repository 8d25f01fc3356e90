"""What was decided as of every moment, as candidates: points in a row are one, named when it has ended."""

import numpy as np

from proteron.core.anomalies.as_of import BLOCK, POINT, STEP, Watch
from proteron.core.anomalies.budget import score_of
from proteron.core.anomalies.flags import Candidate, SeriesScores
from proteron.core.anomalies.naming import kind_of

_SURE = 60.0


def told_as_of(watch: Watch) -> SeriesScores:
    """Scores of decided points, and candidates with the position at which each was raised."""
    expected = watch.expected
    score = np.array([score_of(each) if np.isfinite(each) else np.nan for each in watch.net])
    season = watch.seasons[0] if watch.seasons else 1
    found, place = [], 0
    while place < watch.decided:
        kind, stop = int(watch.kinds[place]), place + 1
        if kind in (POINT, BLOCK):
            while stop < watch.decided and watch.kinds[stop] in (POINT, BLOCK):
                stop += 1
            name = kind_of(watch.raw, expected, slice(place, stop), season)
            found.append(Candidate(place, stop, name, _course(watch, place, stop)))
        elif kind == STEP:
            found.append(Candidate(place, stop, "level shift", _course(watch, place, stop)))
        place = stop
    for each in watch.arrivals.found:
        sure = score_of(_SURE)
        score[each.start : each.stop] = sure
        found.append(Candidate(each.start, each.stop, each.kind, ((each.raised, sure),)))
    return SeriesScores(
        expected, score, tuple(sorted(found, key=lambda each: (each.course[0][0], each.start))), tuple(watch.moments)
    )


def _course(watch: Watch, start: int, stop: int) -> tuple[tuple[int, float], ...]:
    """Where the score of points in a row grew, and to what."""
    course: list[tuple[int, float]] = []
    for at in range(start, stop):
        score = score_of(float(watch.net[at]))
        if not course or score > course[-1][1]:
            course.append((at + watch.delay, score))
    return tuple(course)
