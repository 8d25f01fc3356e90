"""Scans for anomalies, cut into jobs of some series; a contender's waits for its experiment's cells. And drills."""

import time
from typing import TYPE_CHECKING, Any, ClassVar

from sqlalchemy import select
from sqlalchemy.orm import Session

from proteron.records import scans as records
from proteron.records.models import Dataset, Experiment, Scan
from proteron.runner.queue import Queue, jobs_of
from proteron.runner.work.kind import Job, LongWork, Running

if TYPE_CHECKING:
    from proteron.core.panel import Panel
    from proteron.runner.child import Here

_POINTS_AT_ONCE = 40_000
_JOBS = 8
_TELL_EVERY = 0.5


class ScanWork(LongWork):
    """A job is a scan and some of its series; one without series takes up what a contender's experiment found."""

    task: ClassVar[str] = "scan_series"

    def steps(self, job: Job) -> list[Any]:
        groups: list[list[int]] = job["groups"]
        return groups or [None]

    def parts(self, step: Any) -> list[Any]:
        return [step] if step is None else [[each] for each in step]

    def run(self, here: "type[Here]", step: Any, job: Job) -> str:
        """Score some series and store what was found, in one transaction."""
        from proteron.core.anomalies.detectors import DETECTORS
        from proteron.core.anomalies.find import score_series

        with here.database.session() as session:
            scan = records.get_scan(session, job["scan_id"])
            if scan.state != "running":
                return "stopped"
            panel, told = scanned_panel(here, session, scan), scan.document
            left = set(records.missing_series(session, scan))
        if step is None:
            return _take_over(here, scan, panel)
        detector, rows = DETECTORS[told["using"]](), []
        for index in step:
            if index in left:
                scores = score_series(detector, panel, index, told["mode"], told["delay"])
                rows.append((index, scores, scores.found(panel, index, told["mode"])))
        with here.database.session() as session:
            _store(session, scan.id, panel, rows)
        return "done"

    def give_up(self, here: "type[Here]", step: Any, reason: str, job: Job) -> None:
        with here.database.session() as session:
            records.end_scan(session, job["scan_id"], "failed", reason)

    def wanted(self, session: Session, job: Job) -> bool:
        return session.scalar(select(Scan.state).where(Scan.id == job["scan_id"])) == "running"

    def lost(self, session: Session, queue: Queue) -> None:
        """Series that no job stands for are queued again; so is what a finished experiment found."""
        busy = jobs_of(session, self.task, "scan_id")
        for scan in session.scalars(select(Scan).where(Scan.state == "running")):
            if scan.id not in busy:
                enqueue_scan(session, queue, scan)

    def running(self, session: Session, project_id: int) -> list[Running]:
        query = select(Scan).where(Scan.project_id == project_id, Scan.state == "running")
        going = list(session.scalars(query.where(Scan.experiment_id.is_(None))))
        done = records.scanned(session, [each.id for each in going])
        return [Running("scan", each.id, f"scan, {_mode(each)}", done[each.id], each.series) for each in going]


def _mode(scan: Scan) -> str:
    return "as of each moment" if scan.document["mode"] == "as_of" else "looking back"


def scanned_panel(here: "type[Here]", session: Session, scan: Scan) -> "Panel":
    """The panel of a scan as far as it looks."""
    return here.panels.get(session, scan.dataset_id).cut_at(scan.document["until"])


def _take_over(here: "type[Here]", scan: Scan, panel: "Panel") -> str:
    """Candidates from the cells of a contender's experiment, which is needed no longer."""
    from proteron.core.anomalies import residual_candidates, residual_scores
    from proteron.records.results import load_results

    with here.database.session() as session:
        experiment = None if scan.experiment_id is None else session.get(Experiment, scan.experiment_id)
        if experiment is None or experiment.state != "done":
            reason = "Its contender was not computed." if experiment is None else experiment.reason
            records.end_scan(
                session, scan.id, "failed", reason or f"Its experiment is {experiment and experiment.state}."
            )
            return "failed"
        scores = residual_scores(panel, load_results(session, experiment.id))
        rows = [(index, found := residual_candidates(scores, index), found.found(panel, index, "as_of"))
                for index in range(len(panel))]  # fmt: skip
        _store(session, scan.id, panel, rows)
        session.delete(experiment)
    return "done"


def _store(session: Session, scan_id: int, panel: "Panel", rows: Any) -> None:
    """Store what was found in some series; with the last, the table of flags has those of the scan."""
    from proteron.records import findings

    scan = findings.store_series(session, scan_id, rows)
    if scan.state == "done":
        findings.refresh_rows(session, scan, panel)


def enqueue_scan(session: Session, queue: Queue, scan: Scan) -> None:
    """Queue jobs for the series that are not scored yet, or what follows a contender's experiment once it has ended."""
    if scan.experiment_id is not None:
        state = session.scalar(select(Experiment.state).where(Experiment.id == scan.experiment_id))
        if state not in ("queued", "running"):
            queue.defer(ScanWork.task, once=f"scan {scan.id}", scan_id=scan.id, groups=[])
        return
    dataset = session.get_one(Dataset, scan.dataset_id)
    usual = max(int(dataset.layout["points"]) // max(scan.series, 1), 1)
    missing, size = records.missing_series(session, scan), max(_POINTS_AT_ONCE // usual, 1)
    groups = [missing[at : at + size] for at in range(0, len(missing), size)]
    each = -(-len(groups) // _JOBS)
    for at in range(0, len(groups), max(each, 1)):
        mine = groups[at : at + each]
        queue.defer(ScanWork.task, once=f"scan {scan.id} {mine[0][0]}", scan_id=scan.id, groups=mine)


class DrillWork(LongWork):
    """A job is the drill of a scan."""

    task: ClassVar[str] = "drill"

    def run(self, here: "type[Here]", step: Any, job: Job) -> str:
        """Plant faults, look for them, and store what came of it; told of on the way."""
        from proteron.core.anomalies import drill
        from proteron.core.errors import StoppedError

        with here.database.session() as session:
            scan = records.get_scan(session, job["scan_id"])
            if not _is_drilling(scan):
                return "skipped"
            panel, settings = scanned_panel(here, session, scan), dict((scan.drill or {})["settings"])
            document = scan.document
        told, wanted = [time.monotonic()], [True]

        def tell(share: float) -> None:
            if time.monotonic() - told[0] < _TELL_EVERY:
                return
            told[0] = time.monotonic()
            with here.database.session() as session:
                now = records.get_scan(session, scan.id, lock=True)
                wanted[0] = _is_drilling(now)
                if wanted[0]:
                    now.drill = {**(now.drill or {}), "share": round(share, 3)}
                    records.tell_scan(session, now)

        try:
            found = drill(
                panel, document["mode"], delay=document["delay"], progress=tell, stop_asked=lambda: not wanted[0],
                **settings,
            )  # fmt: skip
        except StoppedError:
            return "stopped"
        self._end(here, job, {"state": "done", "found": found.document()})
        return "done"

    def _end(self, here: "type[Here]", job: Job, outcome: dict[str, Any]) -> None:
        with here.database.session() as session:
            scan = records.get_scan(session, job["scan_id"], lock=True)
            if _is_drilling(scan):
                scan.drill = {"settings": (scan.drill or {})["settings"], **outcome}
            records.tell_scan(session, scan)

    def give_up(self, here: "type[Here]", step: Any, reason: str, job: Job) -> None:
        self._end(here, job, {"state": "failed", "reason": reason})

    def wanted(self, session: Session, job: Job) -> bool:
        return _is_drilling(records.get_scan(session, job["scan_id"]))

    def lost(self, session: Session, queue: Queue) -> None:
        busy = jobs_of(session, self.task, "scan_id")
        for scan in session.scalars(select(Scan).where(Scan.drill["state"].astext == "running")):
            if scan.id not in busy:
                queue.defer(self.task, once=f"drill {scan.id}", scan_id=scan.id)

    def running(self, session: Session, project_id: int) -> list[Running]:
        query = select(Scan).where(Scan.project_id == project_id, Scan.drill["state"].astext == "running")
        return [
            Running("drill", each.id, "drill", round(100 * (each.drill or {}).get("share", 0)), 100)
            for each in session.scalars(query)
        ]  # fmt: skip


def _is_drilling(scan: Scan) -> bool:
    return (scan.drill or {}).get("state") == "running"
