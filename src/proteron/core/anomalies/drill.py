"""The drill: known faults planted in one's own repaired series, to learn what would have been found, and how soon."""

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from proteron.core.anomalies.budget import JOINT
from proteron.core.anomalies.faults import FAULTS, Fault, places_for, unit_of
from proteron.core.anomalies.find import find_anomalies
from proteron.core.anomalies.flags import Anomalies, Mode
from proteron.core.errors import SettingsError, StoppedError, TooShortError
from proteron.core.panel import Floats, Panel, require_panel
from proteron.core.timeline import Moment

_SPACE = 110  # points to a planted fault
_APART = 12  # points between faults, and between one and a flag
_CONFIDENCE = 1.96
_MOST_RUNS = 200
_ECHO = 1  # points around a season after a fault that a flag there echoes


@dataclass(frozen=True)
class Recall:
    """Of faults of one kind and size: how many were planted and found, how soon (median points), and named rightly."""

    planted: int
    found: int
    named: int
    delay: float
    size: float  # in units of the series' own changes, or points
    typical: float  # the same in the series' units, in the median over series; NaN for lengths

    @property
    def share(self) -> float:
        """Found of planted."""
        return self.found / self.planted if self.planted else math.nan

    @property
    def interval(self) -> tuple[float, float]:
        """Wilson's interval at 95 % (Wilson 1927)."""
        n, p, z = self.planted, self.share, _CONFIDENCE
        if not n:
            return 0.0, 1.0
        middle, half = p + z * z / (2 * n), z * math.sqrt(p * (1 - p) / n + z * z / (4 * n * n))
        return max((middle - half) / (1 + z * z / n), 0.0), min((middle + half) / (1 + z * z / n), 1.0)

    @property
    def low(self) -> float:
        """Lower end of the interval."""
        return self.interval[0]

    @property
    def high(self) -> float:
        """Upper end of the interval."""
        return self.interval[1]


@dataclass(frozen=True, repr=False)
class Drill:
    """What a drill came to: `recall` by kind and size; of all flags of its runs, those on nothing planted per 1,000
    points, and those of them that echo a fault a season later."""

    recall: Mapping[str, Mapping[float, Recall]]
    unverified: float
    echoes: int
    threshold: float

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
            parts = ", ".join(f"{size:g}: {100 * each.share:.0f} %" for size, each in sizes.items() if each.planted)
            unit = "units" if FAULTS[kind].sized else "points"
            said.append(f"{kind} by {unit}: {parts}" if parts else f"{kind}: there was no room to plant any")
        return [*said, f"{self.unverified:.2g} flags per 1,000 points on nothing planted, {self.echoes} of them echoes"]


@dataclass
class _Tally:
    planted: int = 0
    found: int = 0
    named: int = 0
    delays: list[int] = field(default_factory=list)
    units: list[float] = field(default_factory=list)

    def told(self, size: float, sized: bool) -> Recall:
        """As it is reported."""
        delay = float(np.median(self.delays)) if self.delays else math.nan
        typical = size * float(np.median(self.units)) if sized and self.units else math.nan
        return Recall(self.planted, self.found, self.named, delay, size, typical)


def drill(
    panel: Panel,
    mode: Mode = "looking_back",
    *,
    kinds: Sequence[str] | None = None,
    sizes: Sequence[float] | None = None,
    repeats: int = 40,
    seed: int = 0,
    delay: int = 2,
    per_thousand: float | None = None,
    per_week: float | None = None,
    threshold: float | None = None,
    until: Moment | None = None,
    progress: Callable[[float], Any] | None = None,
    stop_asked: Callable[[], bool] = bool,
) -> Drill:
    """Plant faults of every kind and size in the panel as it would be without its own flags, and look for them with the
    whole detector at the threshold that it has now.

    `repeats` faults of every kind and size, or as many as find room in 200 runs. A size is in units of the usual change
    over a season of the series it is planted in, or in points for kinds that have none. Raises `SettingsError` for an
    unknown kind, `TooShortError` where nothing can be planted, `StoppedError` when a stop was asked for.
    """
    require_panel(panel)
    if repeats < 1:
        raise SettingsError("At least one fault of every kind and size is planted.", field="repeats")
    panel = panel.cut_at(until)
    budget: dict[str, Any] = {"per_thousand": per_thousand, "per_week": per_week, "threshold": threshold}
    wanted = _wanted(kinds, sizes)
    own = find_anomalies(panel, mode, delay=delay, stop_asked=stop_asked, **budget)
    fixed = float(np.median(list(own.thresholds.values())))
    yard = _Yard(panel, mode, delay, fixed, np.random.default_rng(seed))
    tallies = {(each.kind, size): _Tally() for each, size in wanted}
    for run in range(_MOST_RUNS):
        missing = [each for each in wanted if tallies[each[0].kind, each[1]].planted < repeats]
        if not missing:
            break
        if stop_asked():
            raise StoppedError("Stopped before the drill was done.")
        if not yard.run(missing, tallies) and run == 0:
            raise TooShortError("There is no room to plant faults: the series are too short, or flagged throughout.")
        if progress is not None:
            progress(1 - sum(max(repeats - each.planted, 0) for each in tallies.values()) / (repeats * len(tallies)))
    recall: dict[str, dict[float, Recall]] = {}
    for fault, size in wanted:
        recall.setdefault(fault.kind, {})[size] = tallies[fault.kind, size].told(size, fault.sized)
    return Drill(recall, 1000 * yard.unverified / max(yard.points, 1), yard.echoes, fixed)


def _wanted(kinds: Sequence[str] | None, sizes: Sequence[float] | None) -> list[tuple[Fault, float]]:
    for kind in kinds or ():
        if kind not in FAULTS:
            raise SettingsError(f"There is no fault “{kind}”; there are: {', '.join(FAULTS)}.", field="kinds")
    return [(FAULTS[kind], size) for kind in kinds or FAULTS for size in sizes or FAULTS[kind].sizes]


class _Yard:
    """Repaired series in which faults are planted run by run."""

    def __init__(self, panel: Panel, mode: Mode, delay: int, threshold: float, rng: np.random.Generator) -> None:
        self.mode, self.delay, self.threshold, self.rng = mode, delay, threshold, rng
        self.season = next(iter(panel.axis.step.whole_seasons), 1)
        self.repaired, self.free = _repaired(panel)
        self.units = [unit_of(self.repaired.series(index), self.season) for index in range(len(panel))]
        # What is flagged with nothing planted stays so and says nothing of planted faults.
        self.usual = self._found(self.repaired)
        self.unverified = self.points = self.echoes = 0

    def _found(self, panel: Panel) -> Anomalies:
        return find_anomalies(panel, self.mode, delay=self.delay, threshold=self.threshold)

    def run(self, wanted: Sequence[tuple[Fault, float]], tallies: Mapping[tuple[str, float], _Tally]) -> int:
        """Plant as much of what is wanted as there is room for, and look; how many were planted."""
        values, planted = self.repaired.values.copy(), list[tuple[str, int, int, Fault, float]]()
        order = [wanted[each] for each in self.rng.permutation(len(wanted))]
        order.sort(key=lambda each: each[0].kind == "level shift")  # what moves a level last
        for index, key in enumerate(self.repaired.keys):
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
                planted.append((key, at, at + len(spoiled), fault, size))
                tallies[fault.kind, size].units.append(self.units[index])
        self._look(self._found(self.repaired.with_values(values)), planted, tallies)
        return len(planted)

    def _look(
        self, found: Anomalies, planted: Sequence[tuple[str, int, int, Fault, float]],
        tallies: Mapping[tuple[str, float], _Tally],
    ) -> None:  # fmt: skip
        touched: set[int] = set()
        for key, start, stop, fault, size in planted:
            tally = tallies[fault.kind, size]
            tally.planted += 1
            mine = [place for place, flag in enumerate(found) if flag.key == key and flag.start <= stop
                    and start - 1 <= flag.stop - 1]  # fmt: skip
            touched.update(mine)
            if mine:
                tally.found += 1
                tally.named += any(found[place].kind == fault.kind for place in mine)
                if self.mode == "as_of":
                    tally.delays.append(max(min(found[place].raised_at for place in mine) - start, 0))
        before = {(flag.key, flag.start) for flag in self.usual}
        others = [flag for place, flag in enumerate(found) if place not in touched]
        others = [flag for flag in others if (flag.key, flag.start) not in before]
        self.unverified += len(others)
        self.points += int(self.repaired.lengths.sum())
        for flag in others:
            self.echoes += any(
                key == flag.key and start + self.season - _ECHO <= flag.start <= stop + self.season + _ECHO
                for key, start, stop, _, _ in planted
            )


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
