"""Beside the others: what one series does that those which usually go with it do not, or all do at once."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from proteron.core.anomalies.flags import Candidate, Mode, SeriesScores
from proteron.core.detection.scores import Limits
from proteron.core.documents import Settings
from proteron.core.panel import Floats, Panel

_NORMAL = 1.4826
_PAST, _AROUND = (1, 2, 3, 4), (-2, -1, 1, 2)  # seasons whose mean is what was usual, as of a moment and looking back
_BEGIN, _EVERY, _LONGEST = 8, 7, 1500  # seasons before the first error, and between learnings; points learned from
_WITHIN = 4.0  # spreads beyond which nothing is learned from a value
_CLIPPED = 20.0  # spreads that one at least may tell of others
_FEWEST = 24  # points that anything is learned from
_LOOSE = 0.1  # of a change that may be missing in what the others tell
_LEAST_LINK, _RIDGE, _LEAST_SPREAD = 0.3, 0.05, 0.05
_MOST = 1e6
ALONE, TOGETHER = "apart from the others", "all at once"


class BesideOthers(Settings):
    """Errors of a series given those of the series it goes with: a conditional error of their joint distribution, whose
    squares sum up to its distance (Mahalanobis 1936). Errors are changes against the means of other seasons, without
    what was apart before; what is apart must be so whichever of the others is left out, so that a fault of one blames
    no other."""

    title: ClassVar[str] = "beside the others"
    limits: ClassVar[Limits] = Limits(7.0, 5.0)
    alone: ClassVar[bool] = False
    companions: int = Field(6, ge=1, le=20, title="Companions", description="Series that it is compared with.")

    def look_back(self, panel: Panel, index: int) -> SeriesScores:
        """By all points of all series of a panel."""
        return self._scores(panel, index, "looking_back")

    def as_of(self, panel: Panel, index: int, delay: int) -> SeriesScores:
        """By those of all series that came before, and with it; a point is told at once."""
        return self._scores(panel, index, "as_of")

    def _scores(self, panel: Panel, index: int, mode: Mode) -> SeriesScores:
        key = panel.hash, mode, self.companions
        if key not in _KEPT:
            while len(_KEPT) >= _MOST_KEPT:
                del _KEPT[next(iter(_KEPT))]
            _KEPT[key] = _errors_of(panel, mode, self)
        errors = _KEPT[key]
        begin = int(panel.starts[index]) - errors.first
        mine = slice(begin, begin + int(panel.lengths[index])), index
        score, own = (np.minimum(np.abs(each[mine]), _MOST) for each in (errors.apart, errors.own))
        at_once = np.where(score <= self.limits.least, own, 0.0)
        found = [
            *_runs(score, self.limits.least, ALONE, mode), *_runs(at_once, self.limits.usual, TOGETHER, mode),
        ]  # fmt: skip
        found.sort(key=lambda each: each.start)
        return SeriesScores(np.array(panel.series(index)) - errors.off[mine], score, tuple(found))


@dataclass
class _Errors:
    """Of all series from a grid position on, (n_points, n_series): how far apart from the others, and errors by
    themselves, in spreads, and those given the others in units."""

    first: int
    apart: Floats
    own: Floats
    off: Floats


_KEPT: dict[tuple[str, Mode, int], _Errors] = {}  # of the last panels, as the errors of all series come together
_MOST_KEPT = 2


def _errors_of(panel: Panel, mode: Mode, settings: BesideOthers) -> _Errors:
    """Season by season as of every moment; looking back once more, by what is left of it."""
    first = int(panel.starts.min())
    values = np.full((int((panel.starts + panel.lengths).max()) - first, len(panel)), np.nan)
    for index in range(len(panel)):
        begin = int(panel.starts[index]) - first
        values[begin : begin + int(panel.lengths[index]), index] = panel.series(index)
    season, count, least = next(iter(panel.axis.step.whole_seasons), 1), len(values), settings.limits.least
    clean, changes = values.copy(), np.full(values.shape, np.nan)
    out = _Errors(first, *(np.full(values.shape, np.nan) for _ in range(3)))
    begin, learned, others = max(_BEGIN * season, _FEWEST), -1, None
    for start in range(0, count, season):
        part = slice(start, min(start + season, count))
        usual = _usual(clean, part, season, _PAST)
        changes[part] = values[part] - usual
        if start < begin:
            continue
        if others is None or start - learned >= max(_EVERY * season, _FEWEST):
            others, learned = _Others(changes[max(start - _LONGEST, 0) : start], settings.companions), start
        _judge(others, changes, part, out)
        faults = out.apart[part] > least
        clean[part] = np.where(faults, values[part] - out.off[part], values[part])
        missing = np.isnan(values[part])  # is taken as the others tell, so that all are compared over the same seasons
        clean[part] = np.where(missing, usual + others.expected(changes[part]), clean[part])
    if mode == "looking_back":
        whole = slice(0, count)
        changes = values - _usual(clean, whole, season, _AROUND)
        _judge(_Others(changes, settings.companions), changes, whole, out)
    return out


def _judge(others: "_Others", changes: Floats, part: slice, out: _Errors) -> None:
    out.apart[part], error = others.errors(changes[part])
    out.own[part] = changes[part] / others.scale
    out.off[part] = error * others.scale


class _Others:
    """What the changes (n_points, n_series) of each series are given those of the series it goes with."""

    def __init__(self, known: Floats, companions: int) -> None:
        spreads = _spreads(known)
        self.scale = np.where(spreads > 0, spreads, np.nan)
        scaled = known / self.scale
        before = np.nan_to_num(np.clip(scaled, -_WITHIN, _WITHIN))
        square = before.T @ before
        sizes = np.sqrt(np.maximum(np.diag(square), 1e-300))
        link = np.abs(square / np.outer(sizes, sizes))
        np.fill_diagonal(link, 0.0)
        most = min(companions, len(link))
        self.chosen: NDArray[np.int64] = np.argsort(-link, axis=1, kind="stable")[:, :most]
        self.weights = np.zeros((most + 1, *self.chosen.shape))
        for index, row in enumerate(self.chosen):
            linked = link[index, row] >= _LEAST_LINK
            for without in range(most + 1):  # the last: none is left out
                use = linked & (np.arange(most) != without)
                self.weights[without, index, use] = _solved(square, row[use], index)
        self.usual = np.stack([np.maximum(_spreads(each), _LEAST_SPREAD) for each in self._all_errors(known)])
        alone = link.max(axis=1, initial=0.0) < _LEAST_LINK
        self.usual[:, alone | (np.isfinite(scaled).sum(axis=0) < _FEWEST)] = np.nan  # nothing can be compared with it

    def errors(self, changes: Floats) -> tuple[Floats, Floats]:
        """How far apart changes are whichever of the others is left out: in usual errors, and in spreads."""
        loose = _LOOSE * np.abs(changes / self.scale)  # no change goes with the others to the last digit
        apart, error = np.full(changes.shape, np.inf), np.full(changes.shape, np.nan)
        for each, usual in zip(self._all_errors(changes), self.usual, strict=True):
            ratio = np.maximum(np.abs(each) - loose, 0.0) / usual
            less = ratio < apart
            apart, error = np.where(less, ratio, apart), np.where(less, each, error)
        return np.where(np.isfinite(error), apart, np.nan), error

    def _all_errors(self, changes: Floats) -> Iterator[Floats]:
        """Errors given the others without one, each in turn; the last given all."""
        scaled, known = self._known(changes)
        return (scaled - np.einsum("tnk,nk->tn", known, weights) for weights in self.weights)

    def expected(self, changes: Floats) -> Floats:
        """The changes (n_points, n_series) that the others tell, in units; NaN for a series that never changes."""
        return np.asarray(np.einsum("tnk,nk->tn", self._known(changes)[1], self.weights[-1]) * self.scale)

    def _known(self, changes: Floats) -> tuple[Floats, Floats]:
        """Changes in spreads, and those of the chosen others (n_points, n_series, n_chosen); one far larger than that
        of the series itself is cut, as it is a fault of its own."""
        scaled = changes / self.scale
        own = np.maximum(2 * np.abs(np.nan_to_num(scaled)), _CLIPPED)[:, :, None]
        return scaled, np.nan_to_num(np.clip(scaled[:, self.chosen], -own, own))


def _solved(square: Floats, chosen: NDArray[np.int64], index: int) -> Floats:
    """Weights of others in one series, by ridge regression."""
    part = square[np.ix_(chosen, chosen)]
    ridge = _RIDGE * np.diag(part).mean() if len(chosen) else 0.0
    return np.asarray(np.linalg.solve(part + ridge * np.eye(len(chosen)), square[chosen, index]))


def _spreads(errors: Floats) -> Floats:
    """Of every column (n_points, n_series), by the median of what is there; zero where nothing is."""
    found = [np.abs(column[np.isfinite(column)]) for column in errors.T]
    return np.array([_NORMAL * float(np.median(each)) if len(each) else 0.0 for each in found])


def _usual(clean: Floats, part: slice, season: int, seasons: tuple[int, ...]) -> Floats:
    """Means of other seasons at some points (n_points, n_series); NaN where less than half of them are there."""
    at = np.arange(part.start, part.stop)
    total, count = np.zeros((len(at), clean.shape[1])), np.zeros((len(at), clean.shape[1]))
    for each in seasons:
        place = at - each * season
        inside = (place >= 0) & (place < len(clean))
        row = clean[place[inside]]
        there = np.isfinite(row)
        total[inside] += np.where(there, row, 0.0)
        count[inside] += there
    return np.asarray(np.where(2 * count >= len(seasons), total / np.maximum(count, 1), np.nan))


def _runs(score: Floats, least: float, kind: str, mode: Mode) -> list[Candidate]:
    """Points in a row that score above a level, a missing one between them, as candidates."""
    above = np.flatnonzero(np.nan_to_num(score, nan=0.0) > least)
    found = []
    for run in np.split(above, np.flatnonzero(np.diff(above) > 2) + 1) if len(above) else ():
        course = [(len(score) - 1, float(score[run].max()))]
        if mode == "as_of":
            highest = np.maximum.accumulate(score[run])
            grown = np.flatnonzero(np.diff(highest, prepend=-1.0) > 0)
            course = [(int(run[at]), float(score[run[at]])) for at in grown]
        found.append(Candidate(int(run[0]), int(run[-1]) + 1, kind, tuple(course)))
    return found
