"""What helps whoever looks through flags: which are alike, which came together, and what verdicts say of thresholds."""

import math
from bisect import bisect_left, bisect_right
from collections.abc import Sequence
from dataclasses import dataclass

from proteron.core.anomalies.flags import Flag

_CONFIDENCE = 1.96


def wilson(found: int, of: int) -> tuple[float, float]:
    """Wilson's interval of a share at 95 % (Wilson 1927); 0 and 1 where there is none."""
    if not of:
        return 0.0, 1.0
    p, z = found / of, _CONFIDENCE
    middle, half = p + z * z / (2 * of), z * math.sqrt(p * (1 - p) / of + z * z / (4 * of * of))
    return max((middle - half) / (1 + z * z / of), 0.0), min((middle + half) / (1 + z * z / of), 1.0)


def alike(one: Flag, other: Flag, season: int, firsts: tuple[int, int] = (0, 0)) -> bool:
    """Whether two flags are of one kind, length (within twice), side of what was expected, and slot of the season (an
    eighth of it); `firsts` are the grid positions at which their series begin."""
    lengths = sorted((one.stop - one.start, other.stop - other.start))
    if one.kind != other.kind or lengths[1] > 2 * lengths[0]:
        return False
    sides = [each.observed - each.expected for each in (one, other)]
    if sides[0] * sides[1] < 0:  # where either is unknown, the side does not tell
        return False
    apart = (firsts[0] + one.start - firsts[1] - other.start) % max(season, 1)
    return min(apart, season - apart) <= season / 8


def together(spans: Sequence[tuple[int, int, int]]) -> list[int]:
    """In how many series there is something at the time of each span (series, start, stop on the grid), itself
    counted; a point apart still counts."""
    ordered = sorted((start, stop, series) for series, start, stop in spans)
    only, longest = [start for start, _, _ in ordered], max((stop - start for _, start, stop in spans), default=0)
    counts = []
    for _, start, stop in spans:
        near = ordered[bisect_left(only, start - longest - 1) : bisect_right(only, stop)]
        counts.append(len({series for _, ends, series in near if ends >= start}))
    return counts


@dataclass(frozen=True)
class Precision:
    """Of so many judged flags so many are right; a share with its interval."""

    right: int
    judged: int

    @property
    def share(self) -> float:
        return self.right / self.judged if self.judged else math.nan

    @property
    def interval(self) -> tuple[float, float]:
        """Wilson's, at 95 %."""
        return wilson(self.right, self.judged)


@dataclass(frozen=True)
class LabelledPoint:
    """At a threshold: how many judged flags above it are right, and how many of all right spans it would catch."""

    threshold: float
    precision: Precision
    caught: int
    labelled: int

    @property
    def recall(self) -> float:
        return self.caught / self.labelled if self.labelled else math.nan


def labelled_curve(judged: Sequence[tuple[float, bool]], missed: int = 0) -> list[LabelledPoint]:
    """Precision and recall at every threshold that verdicts tell of: scores of judged candidates with whether they are
    right, and how many right spans no candidate touches. The lowest threshold comes last."""
    ranked = sorted(judged, key=lambda each: -each[0])
    labelled = missed + sum(right for _, right in ranked)
    points, caught = list[LabelledPoint](), 0
    for number, (score, right) in enumerate(ranked, 1):
        caught += right
        if number == len(ranked) or ranked[number][0] < score:
            points.append(LabelledPoint(math.nextafter(score, 0.0), Precision(caught, number), caught, labelled))
    return points


def threshold_for(points: Sequence[LabelledPoint], precision: float) -> float | None:
    """The lowest threshold at which the judged flags above it are right that often; None where none is."""
    fine = [each.threshold for each in points if each.precision.share >= precision]
    return min(fine) if fine else None
