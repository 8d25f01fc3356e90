"""What scans found, series by series; their flags as rows, and what people said of them."""

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from typing import Any

import numpy as np
from sqlalchemy import delete, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from proteron.core.anomalies import Budget, Flag
from proteron.core.anomalies.find import limits_of
from proteron.core.anomalies.flags import Candidate, SeriesFound, SeriesScores
from proteron.core.anomalies.raising import Raised, raise_flags
from proteron.core.panel import Floats, Panel
from proteron.records.database import NotFoundError
from proteron.records.models import Document, FlagRow, Scan, ScanSeries, Verdict
from proteron.records.results import doubles, from_doubles
from proteron.records.scans import get_scan, scanned, tell_scan
from proteron.records.seals import root_of


def store_series(session: Session, scan_id: int, rows: Sequence[tuple[int, SeriesScores, SeriesFound]]) -> Scan:
    """Write what was found in some series, once each, and tell the project's pages; done with the last."""
    values = [
        {"scan_id": scan_id, "series": series, "expected": doubles(scores.expected), "score": doubles(scores.score),
         "candidates": [_plain(each) for each in found.candidates], "moments": list(found.moments),
         "scored": found.scored}
        for series, scores, found in rows
    ]  # fmt: skip
    if values:
        session.execute(insert(ScanSeries).values(values).on_conflict_do_nothing())
    scan = get_scan(session, scan_id, lock=True)
    if scan.state == "running" and scanned(session, [scan_id])[scan_id] >= scan.series:
        scan.state, scan.finished = "done", datetime.now(UTC)
    tell_scan(session, scan)
    return scan


_MEANS = ("observed", "expected", "moved")


def _plain(candidate: Candidate) -> Document:
    told = asdict(candidate) | {"course": [list(each) for each in candidate.course]}
    return told | {name: None if np.isnan(told[name]) else told[name] for name in _MEANS}


def _candidate(told: Document) -> Candidate:
    means = {name: np.nan if told.get(name) is None else told[name] for name in _MEANS}
    return Candidate(**{**told, **means, "course": tuple((int(at), score) for at, score in told["course"])})


def load_found(session: Session, scan: Scan) -> list[SeriesFound]:
    """What flags are raised from, by series; nothing for those that are not scored yet."""
    query = select(ScanSeries.series, ScanSeries.candidates, ScanSeries.moments, ScanSeries.scored)
    rows = {row[0]: row for row in session.execute(query.where(ScanSeries.scan_id == scan.id))}
    return [
        SeriesFound(tuple(map(_candidate, rows[series][1])), tuple(rows[series][2]), rows[series][3])
        if series in rows else SeriesFound((), (), 0)
        for series in range(scan.series)
    ]  # fmt: skip


def load_scores(session: Session, scan_id: int, series: int) -> tuple[Floats, Floats] | None:
    """Expected values and scores of one series, (n_points,) each; None where it is not scored yet."""
    row = session.get(ScanSeries, (scan_id, series))
    return None if row is None else (from_doubles(row.expected, -1), from_doubles(row.score, -1))


# what was said of flags


@dataclass(frozen=True)
class Said:
    """What was said last of a span of a series, from grid position `start` to before `stop`; “open” where all was taken
    back. `kind` is what somebody calls it, `by` and `at` who said it and when; `adjusted`: that it reaches just so
    far."""

    key: str
    start: int
    stop: int
    verdict: str
    kind: str | None
    note: str
    by: str
    at: datetime
    number: int
    adjusted: bool = False


def add_verdict(session: Session, scan: Scan, document: Document, by: str) -> Verdict:
    made = Verdict(
        project_id=scan.project_id, root=root_of(session, scan.dataset_id), document=document, made_by=by
    )  # fmt: skip
    session.add(made)
    session.flush()
    tell_scan(session, scan)
    return made


def verdicts_of(session: Session, scan: Scan) -> list[Verdict]:
    """All that was said and not taken back of the data of a scan, the last first."""
    return list(session.scalars(_of(session, scan).order_by(Verdict.id.desc())))


def undo_verdict(session: Session, scan: Scan) -> Verdict:
    """Take back what was said last of a scan's data; raises `NotFoundError` where nothing is left."""
    query = _of(session, scan).order_by(Verdict.id.desc()).limit(1).with_for_update()
    found = session.scalar(query)
    if found is None:
        raise NotFoundError("There is no verdict to take back.")
    found.undone = datetime.now(UTC)
    tell_scan(session, scan)
    return found


def _of(session: Session, scan: Scan) -> Any:
    root = root_of(session, scan.dataset_id)
    return select(Verdict).where(Verdict.project_id == scan.project_id, Verdict.root == root, Verdict.undone.is_(None))


def said_of(session: Session, scan: Scan, panel: Panel) -> list[Said]:
    """All that was said and not taken back of the data of a scan, in that order, on the grid of its panel."""
    found = list[Said]()
    for each in session.scalars(_of(session, scan).order_by(Verdict.id)):
        told = each.document
        for span in told["spans"]:
            start, last = (_position(panel, span[name]) for name in ("since", "until"))
            what, adjusted = (told["verdict"], told.get("kind"), told.get("note", "")), told.get("adjusted", False)
            found.append(
                Said(span["key"], start, max(last, start) + 1, *what, each.made_by, each.made, each.id, adjusted)
            )
    return found


def _position(panel: Panel, moment: str) -> int:
    instant = np.datetime64(datetime.fromisoformat(moment).astimezone(UTC).replace(tzinfo=None), "s")
    return int(panel.axis.position(instant))


def as_adjusted(flags: Sequence[Flag], said: Sequence[Said], panel: Panel) -> list[Flag]:
    """Flags that reach as far as somebody said last that they do, until it was taken back; several that are one span
    are one flag."""
    of_key: dict[str, list[Said]] = {}
    for each in said:
        if each.adjusted or each.verdict == "open":
            of_key.setdefault(each.key, []).append(each)
    found, taken = list[Flag](), set[int]()
    for flag in flags:
        first = int(panel.starts[panel.index(flag.key)]) if flag.key in of_key else 0
        mine = [each for each in of_key.get(flag.key, ())
                if each.start < first + flag.stop and first + flag.start < each.stop]  # fmt: skip
        if not mine or not mine[-1].adjusted:
            found.append(flag)
        elif id(mine[-1]) not in taken:
            taken.add(id(mine[-1]))
            found.append(flag.reaching(mine[-1].start - first, mine[-1].stop - first, panel.axis, first))
    return found


def standing(said: Sequence[Said]) -> list[Said]:
    """What was said and is not overtaken: nothing that was said later touches it."""
    later: dict[str, list[Said]] = {}
    found = list[Said]()
    for each in reversed(said):
        mine = later.setdefault(each.key, [])
        if not any(one.start < each.stop and each.start < one.stop for one in mine):
            found.append(each)
        mine.append(each)
    return found[::-1]


def judged(flags: Sequence[Flag], said: Sequence[Said], starts: Mapping[str, int]) -> list[Said | None]:
    """What was said last of each flag: of a span of its series that it touches; `starts` are first grid positions."""
    by_key: dict[str, list[Said]] = {}
    for each in said:
        by_key.setdefault(each.key, []).append(each)
    found = list[Said | None]()
    for flag in flags:
        start, stop = starts[flag.key] + flag.start, starts[flag.key] + flag.stop
        mine = [each for each in by_key.get(flag.key, ()) if each.start < stop and start < each.stop]
        found.append(mine[-1] if mine else None)
    return found


def raised_in(panel: Panel, scan: Scan, found: Sequence[SeriesFound]) -> Raised:
    """Flags of a scan within its budget, by what was found in the series of its panel."""
    return raise_flags(panel, found, scan.document["mode"], Budget(**scan.budget), limits_of(scan.document["using"]))


def refresh_rows(session: Session, scan: Scan, panel: Panel, found: Sequence[SeriesFound] | None = None) -> None:
    """Have the table of flags hold those of a scan, as they are within its budget and as they were judged."""
    raised = raised_in(panel, scan, load_found(session, scan) if found is None else found).flags
    starts = {key: int(panel.starts[index]) for index, key in enumerate(panel.keys)}
    all_said = said_of(session, scan, panel)
    flags = as_adjusted(raised, all_said, panel)
    said = judged(flags, all_said, starts)
    session.execute(delete(FlagRow).where(FlagRow.scan_id == scan.id))
    session.add_all(
        FlagRow(
            scan_id=scan.id, number=number, project_id=scan.project_id, series=flag.key, steps=flag.stop - flag.start,
            kind=(of.kind if of else None) or flag.kind, score=flag.score, sentence=flag.sentence,
            observed=None if np.isnan(flag.observed) else flag.observed,
            expected=None if np.isnan(flag.expected) else flag.expected,
            verdict=of.verdict if of else "open", note=of.note if of else "",
            **dict(zip(("time", "until", "raised"), times_of(panel, flag), strict=True)),
        )
        for number, (flag, of) in enumerate(zip(flags, said, strict=True))
    )  # fmt: skip
    session.flush()


def times_of(panel: Panel, flag: Flag) -> list[datetime]:
    """When a flag begins, its last point, and the point with which it was raised."""
    first = int(panel.starts[panel.index(flag.key)])
    at = first + np.array([flag.start, flag.stop - 1, flag.raised_at])
    return [each.replace(tzinfo=UTC) for each in panel.axis.times(at).astype("datetime64[s]").tolist()]
