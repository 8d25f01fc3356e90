"""Every kind of long work: one line here, one file each."""

from sqlalchemy.orm import Session

from proteron.runner.work.cells import CellWork
from proteron.runner.work.features import FeatureWork
from proteron.runner.work.kind import Job, LongWork, Running
from proteron.runner.work.outlooks import OutlookWork
from proteron.runner.work.scans import DrillWork, ScanWork

_ALL = (CellWork(), OutlookWork(), FeatureWork(), ScanWork(), DrillWork())
KINDS: dict[str, LongWork] = {kind.task: kind for kind in _ALL}


def running_work(session: Session, project_id: int) -> list[Running]:
    """Everything of any kind that is being done in a project."""
    return [each for kind in KINDS.values() for each in kind.running(session, project_id)]


__all__ = ["KINDS", "Job", "LongWork", "Running", "running_work"]
