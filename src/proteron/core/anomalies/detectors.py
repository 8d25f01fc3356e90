"""Detectors: each scores a series and names candidates, looking back or as of every moment."""

from typing import Any, ClassVar, Protocol

import numpy as np

from proteron.core.anomalies.beside import BesideOthers
from proteron.core.anomalies.events import told_as_of
from proteron.core.anomalies.extreme_values import ExtremeValues
from proteron.core.anomalies.flags import Candidate, SeriesScores
from proteron.core.anomalies.odd_windows import OddWindows
from proteron.core.anomalies.shifts import LevelShifts, SpreadShifts
from proteron.core.detection.as_of import Watch
from proteron.core.detection.joint import look_back
from proteron.core.detection.naming import events_of
from proteron.core.detection.scores import JOINT, Limits, score_of
from proteron.core.documents import Settings
from proteron.core.panel import Panel

_NOT_FLAGGED = score_of(0.0)


class Detector(Protocol):
    """How anomalies are found in one series of a panel; settings are a model with a schema. One that looks at no other
    series is `alone`."""

    title: ClassVar[str]
    limits: ClassVar[Limits]
    alone: ClassVar[bool]

    def look_back(self, panel: Panel, index: int) -> SeriesScores:
        """Score every point by all of them."""

    def as_of(self, panel: Panel, index: int, delay: int) -> SeriesScores:
        """Score every point by those before it and `delay` after it."""


class Joint(Settings):
    """Points, blocks and steps told together by what a robust regression expects, after exact tests."""

    title: ClassVar[str] = "joint"
    limits: ClassVar[Limits] = JOINT
    alone: ClassVar[bool] = True

    def look_back(self, panel: Panel, index: int) -> SeriesScores:
        """Score every point by all of them."""
        values = np.array(panel.series(index))
        looked = look_back(values, int(panel.starts[index]), panel.axis.step.whole_seasons)
        expected = looked.expected_values
        score = np.minimum(looked.strength, _NOT_FLAGGED)
        found = []
        for each in events_of(looked, values, panel.axis.step.whole_seasons):
            candidate = Candidate(
                each.start, each.stop, each.kind, ((len(values) - 1, score_of(each.net)),), exact=each.exact
            )
            score[each.start : each.stop] = np.fmax(score[each.start : each.stop], candidate.score)
            found.append(candidate)
            if each.without is not None:
                expected[each.start : each.stop] = each.without
        return SeriesScores(expected, score, tuple(found))

    def as_of(self, panel: Panel, index: int, delay: int) -> SeriesScores:
        """Score every point by those before it and `delay` after it."""
        watch = Watch(int(panel.starts[index]), panel.axis.step.whole_seasons, delay)
        watch.add(np.array(panel.series(index)))
        return told_as_of(watch)


DETECTORS: dict[str, type[Any]] = {
    "joint": Joint,
    "odd_windows": OddWindows,
    "extreme_values": ExtremeValues,
    "level_shifts": LevelShifts,
    "spread_shifts": SpreadShifts,
    "beside_others": BesideOthers,
}
