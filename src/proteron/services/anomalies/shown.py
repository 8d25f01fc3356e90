"""A scan as it is read: flags within its budget as of a moment, with what was said of them."""

from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from sqlalchemy.orm import Session

from proteron.core.anomalies import Drill, Flag
from proteron.core.anomalies.find import limits_of
from proteron.core.anomalies.flags import SeriesFound, flag_of
from proteron.core.anomalies.raising import Raised
from proteron.core.anomalies.triage import LabelledPoint, Precision, alike, labelled_curve, threshold_for, together
from proteron.core.errors import SettingsError
from proteron.core.panel import Panel
from proteron.records import findings
from proteron.records import scans as records
from proteron.records.findings import Said
from proteron.records.models import Scan
from proteron.services.resources import Resources

_CURVE_POINTS = 48
_TELLING, _MOSTLY_RIGHT = 10, 0.9  # judged flags that tell anything; what is advised
_KEPT = 4


@dataclass(frozen=True)
class CurvePoint:
    """At a threshold: flags a week over all series, and in 1,000 points; of a drill, the share found, and flags on
    nothing planted in 1,000 points."""

    threshold: float
    per_week: float
    per_thousand: float
    drilled: float | None
    unverified: float | None


@dataclass(frozen=True)
class Shown:
    """A scan as it is read: flags within its budget as of a moment, with what was said of them."""

    scan: Scan
    panel: Panel  # as far as the scan looks
    found: Sequence[SeriesFound]
    raised: Raised
    all_said: Sequence[Said]
    until: int | None

    @cached_property
    def flags(self) -> list[Flag]:
        """Those raised by the moment; as of every moment, one that goes on there reaches no further, and has no kind
        yet."""
        return [*self._by_then(findings.as_adjusted(self.raised.flags, self.all_said, self.panel))]

    @cached_property
    def explained(self) -> list[Flag]:
        """What would be flagged were it not for an occasion."""
        return [*self._by_then(self.raised.explained)]

    def _by_then(self, flags: Sequence[Flag]) -> list[Flag]:
        if self.until is None or self.scan.document["mode"] != "as_of":
            return list(flags)
        known = []
        for flag in flags:
            last = self.until - int(self.panel.starts[self.panel.index(flag.key)])
            if flag.raised_at < last:
                known.append(flag if flag.stop <= last else replace(flag, stop=last, kind="open"))
        return known

    @cached_property
    def starts(self) -> dict[str, int]:
        """Grid positions at which series begin."""
        return {key: int(self.panel.starts[index]) for index, key in enumerate(self.panel.keys)}

    @cached_property
    def said(self) -> list[Said | None]:
        """What was said last of every flag."""
        return findings.judged(self.flags, self.all_said, self.starts)

    @cached_property
    def loose(self) -> list[Said]:
        """Spans that are called right and not flagged."""
        taken = {id(each) for each in self.said}
        return [each for each in findings.standing(self.all_said) if id(each) not in taken and each.verdict == "right"]

    @property
    def labels(self) -> list[Flag]:
        """The same as flags of their own."""
        found = list[Flag]()
        for each in self.loose:
            if (first := self.starts.get(each.key)) is not None:
                flag = Flag(each.key, 0, 1, np.nan, each.kind or "label", "")
                found.append(flag.reaching(each.start - first, each.stop - first, self.panel.axis, first))
        return found

    @property
    def beyond(self) -> bool:
        """Whether the scan knows what lies after the moment and so cannot tell what was found by then."""
        return self.scan.document["mode"] != "as_of" and self.until is not None and self.until < self.panel.end

    @cached_property
    def precision(self) -> Precision:
        """Of the flags that were judged."""
        verdicts = [each.verdict for each in self.said if each is not None]
        right, wrong = verdicts.count("right"), verdicts.count("wrong")
        return Precision(right, right + wrong)

    def together(self) -> list[int]:
        """In how many series there is a flag at the time of each flag."""
        place = {key: index for index, key in enumerate(self.panel.keys)}
        return together([(place[flag.key], *self.span(flag)) for flag in self.flags])

    def span(self, flag: Flag) -> tuple[int, int]:
        """Grid positions of a flag, from, to before."""
        return self.starts[flag.key] + flag.start, self.starts[flag.key] + flag.stop

    def alike(self, key: str, start: int) -> list[Flag]:
        """Flags like the one of a series that begins at a grid position, itself first; raises `SettingsError` where
        there is none."""
        one = next((flag for flag in self.flags if flag.key == key and self.span(flag)[0] == start), None)
        if one is None:
            raise SettingsError("There is no such flag within the present budget.", field="start")
        season = next(iter(self.panel.axis.step.whole_seasons), 1)
        others = [
            flag for flag in self.flags
            if flag is not one and alike(one, flag, season, (self.starts[one.key], self.starts[flag.key]))
        ]  # fmt: skip
        return [one, *others]

    @cached_property
    def weeks(self) -> float:
        """How long the series were scored, in the mean."""
        points = sum(each.scored for each in self.found) / max(len(self.panel), 1)
        return points * self.panel.axis.step.nominal_seconds / 604800

    @property
    def per_week(self) -> float:
        """Flags a week over all series."""
        return len(self.raised.flags) / self.weeks if self.weeks else 0.0

    @cached_property
    def _candidates(self) -> list[Flag]:
        """Everything that could be flagged at some threshold."""
        return [
            flag_of(self.panel.axis, self.starts[key], key, each, each.course[-1])
            for key, one in zip(self.panel.keys, self.found, strict=True) for each in one.candidates
            if not each.occasion
        ]  # fmt: skip

    @cached_property
    def advised(self) -> float | None:
        """The lowest threshold above which nine of ten judged flags are right; None where too few were judged."""
        points = self.labelled
        told = bool(points) and points[-1].precision.judged >= _TELLING
        return threshold_for(points, _MOSTLY_RIGHT) if told else None

    @cached_property
    def labelled(self) -> list[LabelledPoint]:
        """Precision and recall by threshold, from verdicts and labels."""
        said = findings.judged(self._candidates, self.all_said, self.starts)
        judged = [
            (flag.score, of.verdict == "right")
            for flag, of in zip(self._candidates, said, strict=True) if of is not None and of.verdict != "open"
        ]  # fmt: skip
        touched = {id(of) for of in said if of is not None}
        missed = sum(each.verdict == "right" and id(each) not in touched for each in findings.standing(self.all_said))
        return labelled_curve(judged, missed)

    def curve(self) -> list[CurvePoint]:
        """What a threshold costs, and what it finds of a drill, from the least threshold to the highest score."""
        limits = limits_of(_using(self.scan))
        scores = np.sort([flag.score for flag in self._candidates if flag.score > limits.least])
        points = sum(each.scored for each in self.found)
        if not points:
            return []
        drilled, top = (
            drill_of(self.scan),
            limits.least * 4 if not len(scores) else max(float(scores[-1]), limits.usual),
        )
        found = []
        for threshold in np.geomspace(limits.least, min(top, limits.least * 40), _CURVE_POINTS).tolist():
            count = len(scores) - int(np.searchsorted(scores, threshold, side="right"))
            at = None if drilled is None else drilled.at(threshold)
            told = (None, None) if at is None else (at.share, at.unverified)
            found.append(CurvePoint(threshold, count / self.weeks, 1000 * count / points, *told))
        return found

    @property
    def threshold(self) -> float:
        """The one that holds, or the middle one where series have their own."""
        return float(np.median(list(self.raised.thresholds.values())))


def _using(scan: Scan) -> str:
    return str(scan.document["using"])


def drill_of(scan: Scan) -> Drill | None:
    """What the drill of a scan came to; None where it has not."""
    drilled = scan.drill or {}
    return Drill.from_document(drilled["found"]) if drilled.get("state") == "done" else None


def panel_of(reach: Resources, scan: Scan) -> Panel:
    """The panel of a scan as far as it looks."""
    return reach.panel(scan.dataset_id).cut_at(scan.document["until"])


def show(reach: Resources, scan_id: int, until: int | None = None) -> Shown:
    """A scan as of a cutoff, or whole."""
    with reach.database.session() as session:
        scan = records.get_scan(session, scan_id)
        panel, found = panel_of(reach, scan), found_in(reach, session, scan)
        said = findings.said_of(session, scan, panel)
    with reach.computing():
        raised = findings.raised_in(panel, scan, found)
    return Shown(scan, panel, found, raised, said, until)


def found_in(reach: Resources, session: Session, scan: Scan) -> Sequence[SeriesFound]:
    """Candidates of a scan, kept where it is done."""
    kept: OrderedDict[int, Sequence[SeriesFound]] = reach.open("scans", OrderedDict)
    found = kept.get(scan.id)
    if found is None:
        found = findings.load_found(session, scan)
        if scan.state == "done":
            kept[scan.id] = found
            while len(kept) > _KEPT:
                kept.popitem(last=False)
    return found
