"""The demo project: Port Ellery, loaded once, with one experiment to look at."""

from pathlib import Path
from typing import Any

from port_ellery import write_demo
from port_ellery.files import EVENTS, EXAMPLE, HOURLY, PRODUCTION
from proteron.core.experiment import Experiment, Judging
from proteron.core.flatten import Chain, LoessSeasons, Log, PeriodSpread
from proteron.core.intake import read_table
from proteron.core.windows import WindowPlan
from proteron.records.configuration import Configuration
from proteron.records.database import Database
from proteron.records.datasets import save_dataset
from proteron.records.models import OutlookRecord
from proteron.records.projects import choose, create_project, delete_project
from proteron.runner.queue import Queue
from proteron.services.anomalies import scan_of
from proteron.services.experiments import create, start

DEMO_PROJECT = "Port Ellery inflow"
_CHAIN = (Log(), LoessSeasons(periods=(24, 168)), PeriodSpread(period="quarter"))
_PLAN = {
    "lags": [*range(1, 26), 48, 72, 96, 120, 144, 167, 168, 169],
    "rolling": [
        {"statistic": "mean", "window": 24},
        {"statistic": "mean", "window": 168},
        {"statistic": "std", "window": 24},
    ],
    "calendar": ["hour_of_day", "weekday"],
    "horizon": list(range(1, 49)),
}


# The sources that lie: what Intake makes of them, as projects of their own.
_MESSY = (
    ("Port Ellery production", PRODUCTION, {"unit": "m³", "zone": "Europe/Lisbon"}),
    (
        "Port Ellery pump starts",
        EVENTS,
        {"zone": "Europe/Lisbon", "unit": "starts", "events": {"step": "1 hour", "aggregate": "count"}},
    ),
)


def _bring(database: Database, file: Path, title: str, recipe: dict[str, Any]) -> None:
    """A project that stands on one file, read with the remedies Intake proposes."""
    reading = read_table(file, recipe=recipe)
    with database.session() as session:
        delete_project(session, title)
        project = create_project(session, title)
        dataset = save_dataset(session, project.id, file.stem, reading)
        choose(session, project.id, {"dataset_id": dataset.id})


def demo_folder(settings: Configuration) -> Path:
    return settings.home / "demo"


def load_demo(url: str, settings: Configuration, name: str = DEMO_PROJECT) -> None:
    """Write the demo files and load the demo project afresh, replacing the one that is there."""
    folder = demo_folder(settings)
    write_demo(folder)
    database = Database(url, pool_size=2)
    try:
        _load(database, url, folder, name)
        for title, file, recipe in _MESSY:
            _bring(database, folder / file, title, recipe)
    finally:
        database.close()


def _load(database: Database, url: str, folder: Path, name: str) -> None:
    example = Experiment.load(folder / EXAMPLE)
    data = example.data
    reading = read_table(folder / HOURLY, data.roles, data.step, data.zone, data.unit)
    panel = reading.panel
    judging = Judging.model_validate({name: getattr(example, name) for name in Judging.model_fields})
    using = example.anomalies.using if example.anomalies else example.contenders[-1].name
    best = example.contenders[-1]
    with database.session() as session:
        delete_project(session, name)
        project = create_project(session, name)
        dataset = save_dataset(session, project.id, HOURLY.removesuffix(".csv"), reading)
        judged = create(session, panel, project.id, dataset.id, "judge", "first look", judging)
        scan = scan_of(judging, using, panel)
        scanned = create(session, panel, project.id, dataset.id, "scan", f"scan by {using}", scan)
        outlook = OutlookRecord(
            project_id=project.id, experiment_id=judged.id, document={"contender": best.name, "horizon": None},
            state="queued",
        )  # fmt: skip
        session.add(outlook)
        session.flush()
        chosen = {
            "dataset_id": dataset.id, "experiment_id": judged.id, "scan_id": scanned.id, "outlook_id": outlook.id,
            "chain": Chain(_CHAIN).model_dump(mode="json")["stages"],
            "plan": WindowPlan.parse(_PLAN).document(),
        }  # fmt: skip
        choose(session, project.id, chosen)
        started = (judged.id, scanned.id)
    queue = Queue(url)
    try:
        for experiment_id in started:
            start(database, queue, experiment_id)
    finally:
        queue.close()
