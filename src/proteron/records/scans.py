"""Scans: begun, counted, ended; what they found is in `findings`."""

from collections.abc import Iterable
from datetime import UTC, datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from proteron.records.database import NotFoundError, notify
from proteron.records.models import Dataset, Document, Scan, ScanSeries


def get_scan(session: Session, scan_id: int, lock: bool = False) -> Scan:
    found = session.get(Scan, scan_id, with_for_update=lock or None)
    if found is None:
        raise NotFoundError(f"There is no scan {scan_id}.")
    return found


def scans_of(session: Session, project_id: int) -> list[Scan]:
    """The scans of a project's present datasets, the newest first."""
    present = (Scan.project_id == project_id) & Dataset.deleted.is_(None)
    query = select(Scan).join(Dataset, Dataset.id == Scan.dataset_id).where(present)
    return list(session.scalars(query.order_by(Scan.id.desc())))


def add_scan(
    session: Session, project_id: int, dataset_id: int, document: Document, budget: Document, series: int,
    experiment_id: int | None = None,
) -> Scan:  # fmt: skip
    """A scan to be computed, or one that waits for an experiment."""
    made = Scan(
        project_id=project_id, dataset_id=dataset_id, experiment_id=experiment_id, document=document, budget=budget,
        series=series, state="running",
    )  # fmt: skip
    session.add(made)
    session.flush()
    return made


def scanned(session: Session, scan_ids: Iterable[int]) -> dict[int, int]:
    """How many series of some scans are there."""
    wanted = list(scan_ids)
    query = select(ScanSeries.scan_id, func.count()).where(ScanSeries.scan_id.in_(wanted)).group_by(ScanSeries.scan_id)
    return dict.fromkeys(wanted, 0) | dict(session.execute(query).all())


def missing_series(session: Session, scan: Scan) -> list[int]:
    """Series that are not scored yet."""
    there = set(session.scalars(select(ScanSeries.series).where(ScanSeries.scan_id == scan.id)))
    return [series for series in range(scan.series) if series not in there]


def end_scan(session: Session, scan_id: int, state: str, reason: str | None = None) -> Scan:
    """Stop, or give up; what is stored stays."""
    scan = get_scan(session, scan_id, lock=True)
    if scan.state == "running":
        scan.state, scan.reason, scan.finished = state, reason, datetime.now(UTC)
    tell_scan(session, scan)
    return scan


def tell_scan(session: Session, scan: Scan) -> None:
    notify(session, {"project": scan.project_id, "scan": scan.id, "state": scan.state})
