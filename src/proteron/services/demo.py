"""The demo project: Port Ellery, loaded once, with one experiment to look at."""

from dataclasses import dataclass
from pathlib import Path
from typing import Any

from port_ellery import write_demo
from port_ellery.files import CALENDAR, EVENTS, EXAMPLE, HOURLY, PRODUCTION, WEEK, WEEK_LATER
from proteron.core.anomalies import Budget
from proteron.core.experiment import Experiment, Judging, OutlookSettings
from proteron.core.flatten import Chain, LoessSeasons, Log, PeriodSpread
from proteron.core.intake import Recipe, read_calendar, read_table
from proteron.core.windows import WindowPlan
from proteron.records.configuration import Configuration
from proteron.records.database import Database
from proteron.records.datasets import get_dataset, save_dataset
from proteron.records.experiments import get_experiment
from proteron.records.outlooks import add_outlook
from proteron.records.projects import choose, create_project, delete_project
from proteron.records.scans import get_scan
from proteron.runner.queue import Queue
from proteron.runner.work.scans import enqueue_scan
from proteron.services.anomalies.scans import ScanSettings, add_scan
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


@dataclass(frozen=True)
class _Source:
    """A source that lies, as a project of its own: what Intake makes of it, and a first experiment on it."""

    title: str
    file: str
    recipe: dict[str, Any]
    chain: tuple[dict[str, Any], ...]
    plan: dict[str, Any]
    contenders: tuple[dict[str, Any], ...]
    folds: dict[str, Any]
    outlooks: tuple[dict[str, Any], ...] = ({},)  # of the last contender; the project stands on the first
    scenario: dict[str, Any] | None = None  # of the first outlook
    later: str | None = None  # its next delivery, brought in by the account of the first


_SOURCES = (
    _Source(
        "Port Ellery production", PRODUCTION, {"unit": "m³", "zone": "Europe/Lisbon"},
        ({"kind": "linear_trend"}, {"kind": "period_means", "period": 12}),
        {"lags": [1, 2, 3, 12], "calendar": ["month"], "horizon": list(range(1, 7))},
        (
            {"name": "same month last year", "forecaster": {"kind": "seasonal_last_value"}},
            {"name": "Smoothing", "forecaster": {"kind": "smoothing"}},
            {"name": "Theta", "forecaster": {"kind": "theta"}},
        ),
        {"kind": "expanding", "count": 4, "horizon": 6},
    ),
    _Source(
        "Port Ellery pump starts", EVENTS,
        {"zone": "Europe/Lisbon", "unit": "starts", "events": {"step": "1 hour", "aggregate": "count"}},
        ({"kind": "period_means", "period": "hour_of_week"},),
        {"lags": [1, 2, 3, 24, 168], "calendar": ["hour_of_day", "weekday"], "horizon": list(range(1, 25))},
        (
            {"name": "same hour last week", "forecaster": {"kind": "seasonal_last_value", "period": 168}},
            {"name": "mean so far", "forecaster": {"kind": "mean"}},
            {"name": "Ridge on windows", "forecaster": {"kind": "ridge"}},
        ),
        {"kind": "expanding", "count": 4, "horizon": 24},
    ),
    _Source(
        "Port Ellery week ahead", WEEK,
        {
            "step": "1 hour", "zone": "Europe/Lisbon", "unit": "m³/h",
            "roles": {"time": "time", "district": "key", "inflow_m3h": "target", "air_temp_c": "known_ahead"},
        },
        ({"kind": "period_means", "period": 168},),
        {"lags": [1, 2, 24, 168], "calendar": ["hour_of_day", "weekday"], "horizon": list(range(1, 25))},
        (
            {"name": "same hour last week", "forecaster": {"kind": "seasonal_last_value", "period": 168}},
            {
                "name": "Ridge with the heat",
                "forecaster": {
                    "kind": "ridge",
                    "plan": {
                        "lags": [*range(1, 26), 48, 72, 96, 120, 144, 167, 168, 169],
                        "calendar": ["hour_of_day", "weekday"], "covariates": [{"column": "air_temp_c", "at": [1]}],
                        "horizon": [1], "recursive": True,
                    },
                },
            },
        ),
        {"kind": "expanding", "count": 4, "horizon": 48, "span": 168, "every": 12},
        outlooks=({"horizon": 168}, {}),
        scenario={
            "name": "heat wave from Wednesday",
            "edits": [{"column": "air_temp_c", "how": "shift", "values": [6.0], "since": "2024-08-21 00:00"}],
        },
        later=WEEK_LATER,
    ),
)  # fmt: skip


def _bring(database: Database, folder: Path, source: _Source) -> tuple[int, int]:
    """A project that stands on one file, read with the remedies Intake proposes; what of it is to be started."""
    reading = read_table(folder / source.file, recipe=source.recipe)
    plan = WindowPlan.parse(source.plan)
    judging = Judging.model_validate(
        {"contenders": source.contenders, "baseline": source.contenders[0]["name"], "folds": source.folds}
    )
    chain = Chain.model_validate({"stages": source.chain})
    begun = _fill(database, source.title, source.file, reading, judging, chain, plan, source.outlooks, source.scenario)
    if source.later is not None:
        _deliver(database, folder / source.later, begun[0])
    return begun


def _deliver(database: Database, file: Path, experiment_id: int) -> None:
    """The next delivery of the data of an experiment, read by the account of the last one; nothing stands on it yet."""
    with database.session() as session:
        before = get_dataset(session, get_experiment(session, experiment_id).dataset_id)
        reading = read_table(file, recipe=Recipe.parse(before.account["recipe"]))
        save_dataset(session, before.project_id, before.name, reading, parent_id=before.id)


def _fill(
    database: Database, title: str, file: str, reading: Any, judging: Judging, chain: Chain, plan: WindowPlan,
    outlooks: tuple[dict[str, Any], ...] = ({},), scenario: dict[str, Any] | None = None,
) -> tuple[int, int]:  # fmt: skip
    """A project with data, chain, plan, experiment, scan and outlooks by its last contender; experiment and scan, to be
    queued."""
    panel = reading.panel
    with database.session() as session:
        delete_project(session, title)
        project = create_project(session, title)
        dataset = save_dataset(session, project.id, Path(file).stem, reading)
        judged = create(session, panel, project.id, dataset.id, "judge", "first look", judging)
        scanned = add_scan(session, dataset, len(panel), ScanSettings(), Budget())
        by = judging.contenders[-1].name
        asked = [OutlookSettings.parse({"contender": by, **each}).document() for each in outlooks]
        made = [add_outlook(session, judged, each).id for each in asked]
        if scenario is not None:
            under = OutlookSettings.parse({**asked[0], "scenario": scenario})
            add_outlook(session, judged, under.document(), of_id=made[0])
        chosen = {
            "dataset_id": dataset.id, "experiment_id": judged.id, "scan_id": scanned.id, "outlook_id": made[0],
            "chain": chain.model_dump(mode="json")["stages"], "plan": plan.document(),
        }  # fmt: skip
        choose(session, project.id, chosen)
        return judged.id, scanned.id


def demo_folder(settings: Configuration) -> Path:
    return settings.home / "demo"


def load_demo(url: str, settings: Configuration, name: str = DEMO_PROJECT) -> None:
    """Write the demo files and load the demo project afresh, replacing the one that is there."""
    folder = demo_folder(settings)
    write_demo(folder)
    database = Database(url, pool_size=2)
    try:
        begun = [_load(database, folder, name), *(_bring(database, folder, source) for source in _SOURCES)]
        queue = Queue(url)
        try:
            for experiment_id, scan_id in begun:
                start(database, queue, experiment_id)
                with database.session() as session:
                    enqueue_scan(session, queue, get_scan(session, scan_id))
        finally:
            queue.close()
    finally:
        database.close()


def _load(database: Database, folder: Path, name: str) -> tuple[int, int]:
    """The main project with its school holidays; its experiment and its scan, to be queued."""
    example = Experiment.load(folder / EXAMPLE)
    data, calendar = example.data, read_calendar(folder / CALENDAR)
    recipe = Recipe(step=data.step, zone=data.zone, unit=data.unit or "", occasions=calendar)
    reading = read_table(folder / HOURLY, data.roles, recipe=recipe)
    judging = Judging.model_validate({name: getattr(example, name) for name in Judging.model_fields})
    return _fill(database, name, HOURLY, reading, judging, Chain(_CHAIN), WindowPlan.parse(_PLAN))
