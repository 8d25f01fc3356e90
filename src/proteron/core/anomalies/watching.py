"""A panel watched as it comes: flags raised as of every moment, state that is saved and moved on point by point."""

from collections.abc import Sequence
from dataclasses import asdict, astuple
from pathlib import Path
from typing import Any

import numpy as np

from proteron.core.anomalies.budget import Budget, check_delay
from proteron.core.anomalies.events import Teller
from proteron.core.anomalies.flags import Candidate, Flag, flag_of, occasion_of, with_means
from proteron.core.anomalies.raising import Raising
from proteron.core.archives import archive_bytes, read_archive
from proteron.core.detection.arrivals import Arrival, Arrivals, Habits
from proteron.core.detection.as_of import ARRAYS, Learned, Watch
from proteron.core.detection.expectation import Expectation, Spreads
from proteron.core.detection.joint import Scale
from proteron.core.documents import canonical_json
from proteron.core.errors import InputError
from proteron.core.panel import Floats, Occasion, Panel, require_panel
from proteron.core.timeline import TimeAxis

_SCHEMA = 1
_MOST_GAP = 100_000  # points between what is known and what comes


class _Told:
    """What was told of one series: flags by where they begin and whether exactly; only what may change is looked at."""

    def __init__(self, budget: Budget, seconds: float) -> None:
        self.flags: dict[tuple[int, int], Flag] = {}
        self._teller, self._raising = Teller(), Raising(budget, seconds)
        self._seen: dict[tuple[int, int], int] = {}  # how many scores of each candidate were taken
        self._moments = 0

    def go_on(self, axis: TimeAxis, key: str, watch: Watch, occasions: Sequence[Occasion]) -> list[Flag]:
        """The flags that are new, by what a watch knows now."""
        changed, scores = dict[tuple[int, int], Candidate](), list[tuple[int, float, tuple[int, int]]]()
        for each in self._teller.told(watch):
            place = (each.start, int(each.exact))
            if not occasion_of(occasions, watch.seasons, watch.first, each, "as_of"):
                changed[place] = each
                scores += [(at, score, place) for at, score in each.course[self._seen.get(place, 0) :]]
            self._seen[place] = len(each.course)
        self._raising.go_on(scores, [(at, at, 1) for at in watch.moments[self._moments :]])
        self._moments = len(watch.moments)
        fresh = []
        for place, each in changed.items():
            if place in self._raising.raised:
                told = with_means(each, watch.raw, watch.expected)
                flag = flag_of(axis, watch.first, key, told, self._raising.raised[place])
                if place not in self.flags:
                    fresh.append(flag)
                self.flags[place] = flag
        return fresh


class Watching:
    """What is known of every series of a panel, and the flags raised so far."""

    def __init__(self, axis: TimeAxis, seasons: tuple[int, ...], settings: dict[str, Any]) -> None:
        """Nothing is known yet; `settings` are delay, per_thousand, per_week and threshold."""
        self.axis, self.seasons, self.settings = axis, seasons, settings
        self.watches: dict[str, Watch] = {}
        self.occasions: tuple[Occasion, ...] = ()
        self._told: dict[str, _Told] = {}
        names = ("per_thousand", "per_week", "threshold")
        self._budget = Budget(**{name: settings[name] for name in names}, over="series")

    def __repr__(self) -> str:
        points = sum(each.points for each in self.watches.values())
        return f"Watching {len(self.watches)} series, {points} points, {len(self.flags)} flags raised"

    @property
    def flags(self) -> list[Flag]:
        """All flags raised so far, by when they began."""
        found = [flag for told in self._told.values() for flag in told.flags.values()]
        return sorted(found, key=lambda flag: (flag.time, flag.key))

    @property
    def open(self) -> list[Flag]:
        """Flags that go on: they reach up to the last points that are decided."""
        return [flag for flag in self.flags if flag.stop >= self.watches[flag.key].decided]

    def add(self, panel: Panel) -> list[Flag]:
        """Take further points of series, known ones or new ones, and tell what was raised by them.

        Points that are there already are passed over. Raises `InputError` for another step, and where such a point
        differs from what came before; nothing is taken then.
        """
        require_panel(panel)
        if panel.axis.step != self.axis.step or panel.axis.zone != self.axis.zone:
            raise InputError(
                f"What is watched is by {self.axis.step} in {self.axis.zone}, this by {panel.axis.step} in "
                f"{panel.axis.zone}.", field="step",
            )  # fmt: skip
        moved = panel.on_axis(self.axis)
        fresh = {key: self._fresh(key, int(moved.starts[at]), moved.series(at)) for at, key in enumerate(moved.keys)}
        self.occasions = tuple(dict.fromkeys([*self.occasions, *moved.occasions]))
        raised = []
        for at, key in enumerate(moved.keys):
            watch = self.watches.get(key) or Watch(int(moved.starts[at]), self.seasons, self.settings["delay"])
            self.watches[key] = watch
            watch.add(fresh[key])
            raised += self._raised(key)
        return sorted(raised, key=lambda flag: (flag.time, flag.key))

    def _fresh(self, key: str, start: int, values: Floats) -> Floats:
        """What is new of a delivery, with what is missing between."""
        watch = self.watches.get(key)
        if watch is None:
            return values
        skipped = watch.first + watch.points - start
        if skipped < -_MOST_GAP:
            raise InputError(f"“{key}” goes on {-skipped:,} points after what was watched.", field="start")
        if skipped < 0:
            return np.concatenate([np.full(-skipped, np.nan), values])
        there = watch.raw[max(start - watch.first, 0) : start - watch.first + len(values)]
        if start < watch.first or not np.array_equal(there, values[:skipped][: len(there)], equal_nan=True):
            raise InputError(f"“{key}” differs from what was watched before.", field="values")
        return values[skipped:]

    def _raised(self, key: str) -> list[Flag]:
        """What was raised of a series since it was asked last; flags that go on are kept as they are now."""
        told = self._told.setdefault(key, _Told(self._budget, self.axis.step.nominal_seconds))
        return told.go_on(self.axis, key, self.watches[key], self.occasions)

    def save(self, path: Path | str) -> Path:
        """Write everything to one file, from which it goes on elsewhere to the bit; returns the path."""
        Path(path).write_bytes(self.to_bytes())
        return Path(path)

    def to_bytes(self) -> bytes:
        """What `save` writes."""
        document: dict[str, Any] = {
            "schema_version": _SCHEMA, "axis": self.axis.document(), "seasons": self.seasons,
            "settings": self.settings, "occasions": [astuple(each) for each in self.occasions],
            "keys": list(self.watches), "watches": [],
        }  # fmt: skip
        arrays: dict[str, Any] = {}
        for place, watch in enumerate(self.watches.values()):
            told, mine = _parts_of(watch)
            document["watches"].append(told)
            arrays |= {f"{place}.{name}": each for name, each in mine.items()}
        return archive_bytes(canonical_json(document), arrays)


def watch(
    panel: Panel, *, delay: int = 2, per_thousand: float | None = None, per_week: float | None = None,
    threshold: float | None = None,
) -> Watching:  # fmt: skip
    """Begin to watch a panel: what it holds is taken point by point, as if it came just now; a budget is every series'
    own.

    Raises `SettingsError` for a budget that is not positive, or beside a threshold.
    """
    require_panel(panel)
    check_delay(delay)
    Budget(per_thousand, per_week, threshold).check()
    settings = {"delay": delay, "per_thousand": per_thousand, "per_week": per_week, "threshold": threshold}
    found = Watching(panel.axis, panel.axis.step.whole_seasons, settings)
    found.add(panel)
    return found


def load_watching(file: Path | str | bytes) -> Watching:
    """Read what `Watching.save` wrote, from its path or its bytes; raises `InputError` for anything else."""
    return read_archive(file, "watched panel", _SCHEMA, _watching)


def _watching(document: dict[str, Any], arrays: dict[str, Any]) -> Watching:
    axis, settings = TimeAxis.from_document(document["axis"]), dict(document["settings"])
    found = Watching(axis, tuple(document["seasons"]), settings)
    found.occasions = tuple(Occasion(*each) for each in document["occasions"])
    for place, (key, told) in enumerate(zip(document["keys"], document["watches"], strict=True)):
        mine = {name.split(".", 1)[1]: each for name, each in arrays.items() if name.startswith(f"{place}.")}
        found.watches[key] = _restored(told, mine, found.seasons, int(settings["delay"]))
        found._raised(key)
    return found


_LEARNED = ("lags", "weights", "waves")


def _parts_of(watch: Watch) -> tuple[dict[str, Any], dict[str, Any]]:
    """A watch as plain data and arrays."""
    arrays = {name: getattr(watch, name) for name in ARRAYS} | {"state": watch.state}
    told: dict[str, Any] = {
        "first": watch.first, "decided": watch.decided, "moments": watch.moments, "next_learning": watch.next_learning,
        "arrivals": [asdict(each) for each in watch.arrivals.found],
    }  # fmt: skip
    arrays |= {f"arrivals.{name}": each for name, each in watch.arrivals.arrays().items()}
    if watch.learned is not None:
        learned = watch.learned
        arrays |= {f"learned.{name}": getattr(learned.expectation, name) for name in _LEARNED}
        arrays["learned.slots"] = learned.expectation.spreads.slots
        told["learned"] = {
            "floor": learned.expectation.spreads.floor, "seasons": learned.expectation.seasons, "tail": learned.tail,
            "scale": asdict(learned.scale), "habits": asdict(learned.habits),
        }  # fmt: skip
    return told, arrays


def _restored(told: dict[str, Any], arrays: dict[str, Any], seasons: tuple[int, ...], delay: int) -> Watch:
    watch, nothing = Watch(int(told["first"]), seasons, delay), np.zeros(0)
    watch.restore({name: arrays[name] for name in ARRAYS}, arrays["state"])
    watch.decided, watch.moments = int(told["decided"]), list(told["moments"])
    watch.next_learning = int(told["next_learning"])
    mine = {name.removeprefix("arrivals."): each for name, each in arrays.items() if name.startswith("arrivals.")}
    watch.arrivals = Arrivals.restored(seasons, [Arrival(**each) for each in told["arrivals"]], mine)
    if "learned" in told:
        each = told["learned"]
        spreads = Spreads(nothing, arrays["learned.slots"], each["floor"])
        lags, weights, waves = (arrays[f"learned.{name}"] for name in _LEARNED)
        expectation = Expectation(lags, weights, waves, nothing, nothing, spreads, tuple(each["seasons"]))
        watch.learned = Learned(expectation, Scale(**each["scale"]), each["tail"], Habits(**each["habits"]))
    return watch
