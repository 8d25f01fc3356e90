"""Scans: begun, gone on with, stopped; and drills."""

from collections.abc import Mapping, Sequence

from pydantic import Field
from sqlalchemy.orm import Session

from proteron.core.anomalies import Budget, Mode, scan_folds
from proteron.core.anomalies.budget import check_delay
from proteron.core.anomalies.detectors import DETECTORS
from proteron.core.anomalies.faults import faults_with
from proteron.core.documents import Settings
from proteron.core.errors import SettingsError
from proteron.core.experiment import Judging
from proteron.core.panel import Panel
from proteron.records import experiments as experiment_records
from proteron.records import scans as records
from proteron.records.database import ConflictError
from proteron.records.datasets import get_dataset
from proteron.records.kept import refuse_deleted
from proteron.records.models import Dataset, Scan
from proteron.records.projects import choose, get_project
from proteron.runner.queue import Queue
from proteron.runner.work.scans import DrillWork, ScanWork, enqueue_scan
from proteron.services.experiments import create_and_start, judging_of
from proteron.services.experiments import stop as stop_experiment
from proteron.services.resources import Resources

CONTENDER = "contender"


class ScanSettings(Settings):
    """How a dataset is looked through: by which detector or contender, looking back or as of every moment."""

    mode: Mode = Field("as_of", description="As of every moment, or looking back from `until`.")
    using: str = Field("joint", description="A detector; “contender”: what a contender did not expect.")
    delay: int = Field(2, description="Points after a point before it is decided, as of every moment.")
    until: int | None = Field(None, ge=0, description="Grid position after the last point that is used; empty: all.")
    experiment_id: int | None = Field(None, description="The experiment of the contender.")
    contender: str | None = Field(None, description="Its name there.")

    def check(self) -> None:
        """Raise `SettingsError` for what does not fit together."""
        check_delay(self.delay)
        if self.using not in (*DETECTORS, CONTENDER):
            there = ", ".join((*DETECTORS, CONTENDER))
            raise SettingsError(f"There is no detector “{self.using}”; there are: {there}.", field="using")
        if self.using == CONTENDER and (self.contender is None or self.experiment_id is None):
            raise SettingsError("Name an experiment and a contender of it.", field="contender")
        if self.using == CONTENDER and (self.mode != "as_of" or self.until is not None):
            raise SettingsError("A contender scores as of every moment, up to the end.", field="mode")


def scan_of(judging: Judging, contender: str, panel: Panel) -> Judging:
    """The judging that scores a panel with one contender; raises `SettingsError` where it is not entered."""
    return Judging(
        seed=judging.seed, folds=scan_folds(panel), metrics=("mae",), baseline=contender, levels=(),
        contenders=(judging.entry(contender),),
    )  # fmt: skip


def add_scan(session: Session, dataset: Dataset, series: int, settings: ScanSettings, budget: Budget) -> Scan:
    """A scan by a detector, to be computed; raises `SettingsError` for settings or a budget that are not possible."""
    settings.check()
    budget.check()
    refuse_deleted(dataset)
    return records.add_scan(session, dataset.project_id, dataset.id, settings.document(), vars(budget), series)


def start_scan(reach: Resources, project_id: int, dataset_id: int, settings: ScanSettings) -> int:
    """Look a dataset through, and have the project stand on the scan; returns its number.

    The budget is that of the scan the project stood on. Raises `SettingsError` for settings that are not possible.
    """
    settings.check()
    panel, experiment_id = reach.panel(dataset_id), None
    if settings.using == CONTENDER:
        with reach.database.session() as session:
            source = experiment_records.get_experiment(session, int(settings.experiment_id or 0))
        scan = scan_of(judging_of(source), str(settings.contender), panel)
        name = f"scan by {settings.contender}"
        experiment_id = create_and_start(reach, project_id, dataset_id, "scan", name, scan)
    with reach.database.session() as session:
        before = get_project(session, project_id).choices.get("scan_id")
        dataset = get_dataset(session, dataset_id)
        if dataset.project_id != project_id:
            raise SettingsError("This dataset belongs to another project.", field="dataset_id")
        budget = Budget() if before is None else Budget(**records.get_scan(session, before).budget)
        made = add_scan(session, dataset, len(panel), settings, budget)
        made.experiment_id = experiment_id
        choose(session, project_id, {"scan_id": made.id})
        records.tell_scan(session, made)
        scan_id = made.id
    queue_scan(reach, scan_id)
    return scan_id


def follow(reach: Resources, project_id: int, dataset_id: int) -> int | None:
    """Scan a delivery as the project's present scan was, where that is by a detector as of every moment and of another
    version; returns the scan's number."""
    with reach.database.session() as session:
        before = get_project(session, project_id).choices.get("scan_id")
        if before is None:
            return None
        scan = records.get_scan(session, before)
        settings = ScanSettings.parse(scan.document)
        if settings.mode != "as_of" or settings.using == CONTENDER or scan.dataset_id == dataset_id:
            return None
    return start_scan(reach, project_id, dataset_id, settings)


def queue_scan(reach: Resources, scan_id: int) -> None:
    """Have the runner take a stored scan on."""
    with reach.database.session() as session:
        enqueue_scan(session, reach.queue, records.get_scan(session, scan_id))


def resume(reach: Resources, scan_id: int) -> None:
    """Go on with a scan that was stopped or failed; raises `ConflictError` for any other."""
    with reach.database.session() as session:
        scan = records.get_scan(session, scan_id, lock=True)
        if scan.state not in ("stopped", "failed"):
            raise ConflictError(f"This scan is {scan.state}.", field="state")
        if scan.document["using"] == CONTENDER:
            raise ConflictError("Scan anew: what a contender had computed is found again.", field="state")
        scan.state, scan.reason, scan.finished = "running", None, None
        records.tell_scan(session, scan)
    queue_scan(reach, scan_id)


def stop(session: Session, queue: Queue, scan_id: int) -> Scan:
    """Stop promptly; what is scored stays."""
    scan = records.get_scan(session, scan_id, lock=True)
    if scan.state != "running":
        return scan
    queue.cancel(session, ScanWork.task, "scan_id", scan_id)
    if scan.experiment_id is not None:
        stop_experiment(session, queue, scan.experiment_id)
    return records.end_scan(session, scan_id, "stopped")


def start_drill(
    reach: Resources, scan_id: int, repeats: int, seed: int, shapes: Mapping[str, Sequence[float]] | None = None
) -> None:
    """Have the runner plant faults, among them shapes of one's own; raises `ConflictError` while it does,
    `SettingsError` for a contender's scan or what is no shape."""
    faults_with(shapes)
    with reach.database.session() as session:
        scan = records.get_scan(session, scan_id, lock=True)
        if scan.document["using"] == CONTENDER:
            raise SettingsError("A drill is for a detector; a contender would have to learn anew.", field="using")
        if (scan.drill or {}).get("state") == "running":
            raise ConflictError("This scan is being drilled already.", field="state")
        settings = {"repeats": repeats, "seed": seed, "using": scan.document["using"], "shapes": dict(shapes or {})}
        scan.drill = {"state": "running", "share": 0.0, "settings": settings}
        records.tell_scan(session, scan)
    reach.queue.defer(DrillWork.task, once=f"drill {scan_id}", scan_id=scan_id)


def stop_drill(session: Session, queue: Queue, scan_id: int) -> Scan:
    """Stop promptly; nothing is kept of it."""
    scan = records.get_scan(session, scan_id, lock=True)
    if (scan.drill or {}).get("state") == "running":
        queue.cancel(session, DrillWork.task, "scan_id", scan_id)
        scan.drill = None
        records.tell_scan(session, scan)
    return scan
