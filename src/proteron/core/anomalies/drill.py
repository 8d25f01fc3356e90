"""The drill: known faults planted in one's own repaired series, to learn what would have been found, and how soon."""

import math
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from proteron.core.anomalies.budget import Over
from proteron.core.anomalies.detectors import DETECTORS, Detector
from proteron.core.anomalies.faults import FAULTS, Fault, faults_with, places_for, unit_of
from proteron.core.anomalies.find import find_anomalies, scored
from proteron.core.anomalies.flags import Candidate, Mode
from proteron.core.anomalies.triage import wilson
from proteron.core.detection.scores import JOINT
from proteron.core.errors import SettingsError, StoppedError, TooShortError
from proteron.core.panel import Floats, Panel, require_panel
from proteron.core.timeline import Moment

_SPACE = 110  # points to a planted fault
_APART = 12  # points between faults, and between one and a flag
_MOST_RUNS = 200
_MOST_SERIES = 12
_PLACES = {kind: place for place, kind in enumerate(FAULTS)}
_ECHO = 1  # points around a season after a fault that a flag there echoes


@dataclass(frozen=True)
class Recall:
    """Of faults of one kind and size: how many were planted and found, how soon (median points), and named rightly;
    None for a shape of one's own, whose name nothing knows."""

    planted: int
    found: int
    named: int | None
    delay: float
    size: float  # in units of the series' own changes, or points
    typical: float  # the same in the series' units, in the median over series; NaN for lengths

    @property
    def share(self) -> float:
        """Found of planted."""
        return self.found / self.planted if self.planted else math.nan

    @property
    def interval(self) -> tuple[float, float]:
        """Wilson's interval at 95 %."""
        return wilson(self.found, self.planted)

    @property
    def low(self) -> float:
        """Lower end of the interval."""
        return self.interval[0]

    @property
    def high(self) -> float:
        """Upper end of the interval."""
        return self.interval[1]


Course = tuple[tuple[int, float], ...]


@dataclass(frozen=True)
class Planted:
    """A fault of a size that was planted where the usual change is `unit`, and what was found of it: for every
    candidate that touches it whether its kind was right, and how many points after the fault began its score grew to
    what."""

    kind: str
    size: float
    unit: float
    hits: tuple[tuple[bool, Course], ...]

    def late(self, threshold: float) -> int | None:
        """How many points after it began it is found; None where it is not."""
        found = [at for _, course in self.hits for at, score in course if score > threshold]
        return max(min(found), 0) if found else None

    def named(self, threshold: float) -> bool:
        """Whether it is found and called what it is."""
        return any(right and course[-1][1] > threshold for right, course in self.hits)


@dataclass(frozen=True, repr=False)
class Drill:
    """What a drill came to: all that was planted, and the scores of `strays`, candidates on nothing planted that were
    not there before, with whether they echo a fault a season later. It holds at every threshold; see `at`."""

    planted: tuple[Planted, ...]
    strays: tuple[tuple[float, bool], ...]
    points: int
    threshold: float
    mode: Mode = "looking_back"

    def at(self, threshold: float) -> "Drill":
        """The same at another threshold, spreads."""
        return replace(self, threshold=threshold)

    @property
    def recall(self) -> dict[str, dict[float, Recall]]:
        """By kind and size."""
        found: dict[str, dict[float, list[Planted]]] = {}
        for each in self.planted:
            found.setdefault(each.kind, {}).setdefault(each.size, []).append(each)
        return {
            kind: {size: self._recall(sizes[size]) for size in sorted(sizes)}
            for kind, sizes in sorted(found.items(), key=lambda each: _PLACES.get(each[0], len(_PLACES)))
        }

    def _recall(self, mine: Sequence[Planted]) -> Recall:
        late = [each.late(self.threshold) for each in mine]
        seen = [each for each in late if each is not None]
        delay = float(np.median(seen)) if seen and self.mode == "as_of" else math.nan
        size, fault = mine[0].size, FAULTS.get(mine[0].kind)
        sized = fault is None or fault.sized
        typical = size * float(np.median([each.unit for each in mine])) if sized else math.nan
        named = None if fault is None else sum(each.named(self.threshold) for each in mine)
        return Recall(len(mine), len(seen), named, delay, size, typical)

    @property
    def share(self) -> float:
        """Found of all that was planted, every kind and size weighing alike."""
        shares = [each.share for sizes in self.recall.values() for each in sizes.values()]
        return float(np.mean(shares)) if shares else math.nan

    @property
    def unverified(self) -> float:
        """Flags on nothing planted per 1,000 points."""
        return 1000 * sum(score > self.threshold for score, _ in self.strays) / max(self.points, 1)

    @property
    def echoes(self) -> int:
        """Those of them that stand a season after a fault."""
        return sum(score > self.threshold and echo for score, echo in self.strays)

    @property
    def named(self) -> float:
        """Share of the found that were called what they were, of the kinds that have a name."""
        seen = [each for each in self.planted if each.kind in FAULTS and each.late(self.threshold) is not None]
        return float(np.mean([each.named(self.threshold) for each in seen])) if seen else math.nan

    def late(self, share: float = 0.5) -> float:
        """By how many points `share` of the found were found, as of every moment."""
        seen = [late for each in self.planted if (late := each.late(self.threshold)) is not None]
        return float(np.quantile(seen, share)) if seen and self.mode == "as_of" else math.nan

    def document(self) -> dict[str, Any]:
        """As plain data."""
        return {
            "planted": [[p.kind, p.size, p.unit, [[right, list(map(list, course))] for right, course in p.hits]]
                        for p in self.planted],
            "strays": [list(each) for each in self.strays], "points": self.points, "threshold": self.threshold,
            "mode": self.mode,
        }  # fmt: skip

    @classmethod
    def from_document(cls, document: Mapping[str, Any]) -> "Drill":
        """From what `document` gave."""
        planted = [
            Planted(kind, size, unit, tuple((right, tuple((at, score) for at, score in course))
                                            for right, course in hits))
            for kind, size, unit, hits in document["planted"]
        ]  # fmt: skip
        strays = tuple((score, echo) for score, echo in document["strays"])
        return cls(tuple(planted), strays, document["points"], document["threshold"], document["mode"])

    def to_arrow(self) -> pa.Table:
        """One row per kind and size."""
        rows = [
            {"kind": kind, "size": size, "planted": each.planted, "found": each.found, "recall": each.share,
             "low": each.low, "high": each.high, "delay": each.delay, "named": each.named, "typical": each.typical}
            for kind, sizes in self.recall.items() for size, each in sizes.items()
        ]  # fmt: skip
        return pa.Table.from_pylist(rows)

    def __repr__(self) -> str:
        return "\n".join(self.sentences)

    @property
    def sentences(self) -> list[str]:
        """What would be seen, by kind, and what is flagged beside it."""
        said = []
        for kind, sizes in self.recall.items():
            parts = ", ".join(f"{size:g}: {100 * each.share:.0f} %" for size, each in sizes.items())
            by = "points" if all(math.isnan(each.typical) for each in sizes.values()) else "units"
            said.append(f"{kind} by {by}: {parts}")
        return [*said, f"{self.unverified:.2g} flags per 1,000 points on nothing planted, {self.echoes} of them echoes"]


def drill(
    panel: Panel,
    mode: Mode = "looking_back",
    *,
    kinds: Sequence[str] | None = None,
    sizes: Sequence[float] | None = None,
    shapes: Mapping[str, Sequence[float]] | None = None,
    repeats: int = 40,
    seed: int = 0,
    delay: int = 2,
    per_thousand: float | None = None,
    per_week: float | None = None,
    threshold: float | None = None,
    over: Over = "panel",
    using: str = "joint",
    most_points: int = 60_000,
    until: Moment | None = None,
    progress: Callable[[float], Any] | None = None,
    stop_asked: Callable[[], bool] = bool,
) -> Drill:
    """Plant faults of every kind and size in the panel as it would be without its own flags, and look for them with the
    whole detector, at the threshold that it has now; what comes of it is known for every other threshold, too.

    `repeats` faults of every kind and size, or as many as find room in 200 runs. A size is in units of the usual change
    over a season of the series it is planted in, or in points for kinds that have none. `shapes` are faults of one's
    own, planted as well: by name, what each adds point by point, its highest being one size. Of a panel of more than
    `most_points`, the last points of some series serve, evenly chosen. Raises `SettingsError` for an unknown kind, for
    what is no shape, or for a contender, `TooShortError` where nothing can be planted, `StoppedError` when a stop was
    asked for.
    """
    require_panel(panel)
    if repeats < 1:
        raise SettingsError("At least one fault of every kind and size is planted.", field="repeats")
    if using not in DETECTORS:
        raise SettingsError("A drill is for a detector; a contender would have to learn anew each time.", field="using")
    wanted = _wanted(kinds, sizes, shapes)
    panel = _sample(panel.cut_at(until), most_points)
    own = find_anomalies(
        panel, mode, delay=delay, stop_asked=stop_asked, per_thousand=per_thousand, per_week=per_week,
        threshold=threshold, over=over, using=using,
    )  # fmt: skip
    yard = _Yard(panel, DETECTORS[using](), mode, delay, np.random.default_rng(seed))
    for run in range(_MOST_RUNS):
        planted = Counter((each.kind, each.size) for each in yard.planted)
        missing = [each for each in wanted if planted[each[0].kind, each[1]] < repeats]
        if not missing:
            break
        if stop_asked():
            raise StoppedError("Stopped before the drill was done.")
        if not yard.run(missing) and run == 0:
            raise TooShortError("There is no room to plant faults: the series are too short, or flagged throughout.")
        if progress is not None:
            left = sum(max(repeats - planted[fault.kind, size], 0) for fault, size in wanted)
            progress(1 - left / (repeats * len(wanted)))
    fixed = float(np.median(list(own.thresholds.values())))
    return Drill(tuple(yard.planted), tuple(yard.strays), yard.points, fixed, mode)


def _sample(panel: Panel, most: int) -> Panel:
    """The last points of some series, so many in all at most."""
    if len(panel.values) <= most:
        return panel
    count = min(len(panel), _MOST_SERIES)
    chosen = np.unique(np.linspace(0, len(panel) - 1, count).round().astype(int))
    parts = [panel.series(index)[-(most // count) :] for index in chosen]
    lengths = np.array([len(part) for part in parts])
    return Panel(
        panel.axis, tuple(panel.keys[index] for index in chosen), np.concatenate(parts),
        np.concatenate([[0], np.cumsum(lengths)]), panel.starts[chosen] + panel.lengths[chosen] - lengths,
        marks=np.zeros(int(lengths.sum()), dtype=np.uint8), occasions=panel.occasions,
    )  # fmt: skip


def _wanted(
    kinds: Sequence[str] | None, sizes: Sequence[float] | None, shapes: Mapping[str, Sequence[float]] | None
) -> list[tuple[Fault, float]]:
    for kind in kinds or ():
        if kind not in FAULTS:
            raise SettingsError(f"There is no fault “{kind}”; there are: {', '.join(FAULTS)}.", field="kinds")
    known = faults_with(shapes)
    chosen = known if kinds is None else [*kinds, *(shapes or ())]
    return [(known[kind], size) for kind in chosen for size in sizes or known[kind].sizes]


class _Yard:
    """Repaired series in which faults are planted run by run."""

    def __init__(
        self, panel: Panel, detector: Detector, mode: Mode, delay: int, rng: np.random.Generator
    ) -> None:  # fmt: skip
        self.detector, self.mode, self.delay, self.rng = detector, mode, delay, rng
        self.season = next(iter(panel.axis.step.whole_seasons), 1)
        self.repaired, self.free = _repaired(panel)
        self.units = [unit_of(self.repaired.series(index), self.season) for index in range(len(panel))]
        # What is found with nothing planted says nothing of planted faults.
        found = self._found(self.repaired)
        self.usual = {(index, each.start) for index, one in enumerate(found) for each in one}
        self.planted, self.strays, self.points = list[Planted](), list[tuple[float, bool]](), 0

    def _found(self, panel: Panel) -> list[tuple[Candidate, ...]]:
        found = scored(panel, self.detector, self.mode, self.delay)
        each = (one.found(panel, index, self.mode).candidates for index, one in enumerate(found))
        return [tuple(c for c in mine if not c.occasion and c.score > self.detector.limits.least) for mine in each]

    def run(self, wanted: Sequence[tuple[Fault, float]]) -> int:
        """Plant as much of what is wanted as there is room for, and look; how many were planted."""
        values, planted = self.repaired.values.copy(), list[_Place]()
        order = [wanted[each] for each in self.rng.permutation(len(wanted))]
        order.sort(key=lambda each: each[0].kind == "level shift")  # what moves a level last
        for index in range(len(self.repaired)):
            count = max(int(self.free[index].sum()) // _SPACE, 1)
            mine = [order[(index * count + each) % len(order)] for each in range(count)]
            first = int(self.repaired.offsets[index])
            series = values[first : first + int(self.repaired.lengths[index])]
            places = places_for(self.free[index], [each.length(size) for each, size in mine], self.rng, _APART)
            for (fault, size), at in zip(mine, places, strict=True):
                if at < 0 or self.units[index] == 0:
                    continue
                spoiled = fault.make(series, at, size, self.units[index], self.rng)
                if np.array_equal(spoiled, series[at : at + len(spoiled)]):
                    continue
                series[at : at + len(spoiled)] = spoiled
                planted.append(_Place(index, at, at + len(spoiled), fault, size))
        self._look(self._found(self.repaired.with_values(values)), planted)
        return len(planted)

    def _look(self, found: Sequence[Sequence[Candidate]], planted: Sequence["_Place"]) -> None:
        touched: set[tuple[int, int]] = set()
        for place in planted:
            mine = [at for at, each in enumerate(found[place.series])
                    if each.start <= place.stop and place.start <= each.stop]  # fmt: skip
            touched.update((place.series, at) for at in mine)
            hits = [found[place.series][at] for at in mine]
            courses = [(each.kind == place.fault.kind, tuple((at - place.start, score) for at, score in each.course))
                       for each in hits]  # fmt: skip
            self.planted.append(Planted(place.fault.kind, place.size, self.units[place.series], tuple(courses)))
        for index, one in enumerate(found):
            for at, each in enumerate(one):
                if (index, at) not in touched and (index, each.start) not in self.usual:
                    self.strays.append((each.score, any(place.echoed(index, each, self.season) for place in planted)))
        self.points += int(self.repaired.lengths.sum())


@dataclass(frozen=True)
class _Place:
    """Where a fault was planted."""

    series: int
    start: int
    stop: int
    fault: Fault
    size: float

    def echoed(self, series: int, found: Candidate, season: int) -> bool:
        """Whether a candidate stands a season after it."""
        return series == self.series and self.start + season - _ECHO <= found.start <= self.stop + season + _ECHO


def _repaired(panel: Panel) -> tuple[Panel, list[NDArray[np.bool_]]]:
    """The panel with all that looking back finds replaced by what was expected, and which points are far from any."""
    found = find_anomalies(panel, threshold=JOINT.least)
    out, free = found.repaired(), [np.isfinite(panel.series(index)) for index in range(len(panel))]
    for flag in found:
        free[panel.index(flag.key)][max(flag.start - _APART, 0) : flag.stop + _APART] = False
    values = np.concatenate([_bridged(out.series(index)) for index in range(len(panel))])
    return panel.with_values(values), free


def _bridged(values: Floats) -> Floats:
    """Values with what is still missing inside joined by straight lines."""
    known = np.flatnonzero(np.isfinite(values))
    if not len(known):
        return values
    inside = np.arange(known[0], known[-1] + 1)
    out = values.copy()
    out[inside] = np.interp(inside, known, values[known])
    return out
