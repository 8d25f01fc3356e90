"""Scenarios of an outlook, kept by name as outlooks of their own."""

from dataclasses import dataclass

import numpy as np

from proteron.core.errors import SettingsError
from proteron.core.outlook import arrays_of
from proteron.core.outlook.ahead import continued
from proteron.core.outlook.scenarios import Scenario
from proteron.core.panel import Floats, Panel
from proteron.records import outlooks as records
from proteron.records.database import ConflictError, pack_arrays
from proteron.records.experiments import get_experiment
from proteron.records.models import OutlookRecord
from proteron.services.outlooks.learned import drawn_as, learned_of, seen_by
from proteron.services.resources import Resources

_MOST = 40


def keep(reach: Resources, outlook_id: int, scenario: Scenario) -> OutlookRecord:
    """Forecast under a scenario and keep that by its name, in the place of an earlier one of that name.

    Raises `SettingsError` for edits that do not fit, `ConflictError` for an outlook that is not there yet, or for a
    scenario of a scenario.
    """
    with reach.database.session() as session:
        if records.state_of(session, outlook_id)[1] != outlook_id:
            raise ConflictError("This is a scenario itself: make another of what it belongs to.", field="name")
    panel, plain = seen_by(reach, outlook_id)
    asked = plain.model_copy(update={"scenario": scenario})
    made = drawn_as(reach, outlook_id, asked, panel)
    with reach.database.session() as session:
        base = records.get_outlook(session, outlook_id, lock=True)
        others = records.scenarios_of(session, outlook_id)
        same = [each for each in others if each.document["scenario"]["name"] == scenario.name]
        for each in same:
            session.delete(each)
        if len(others) - len(same) >= _MOST:
            raise SettingsError(f"An outlook has at most {_MOST} scenarios.", field="name")
        experiment = get_experiment(session, base.experiment_id)
        record = records.add_outlook(session, experiment, asked.document(), base.dataset_id, base.id)
        records.keep_paths(session, record.id, made.paths)
        records.finish_outlook(session, record.id, "done", pack_arrays(arrays_of(made)))
        return record


def forget(reach: Resources, outlook_id: int) -> OutlookRecord:
    """Remove a scenario; raises `ConflictError` for an outlook that is none."""
    with reach.database.session() as session:
        record = records.get_outlook(session, outlook_id, lock=True)
        if record.of_id is None:
            raise ConflictError("Only scenarios are removed here.", field="outlook_id")
        session.delete(record)
        return record


@dataclass(frozen=True)
class AheadLane:
    """A column that is known ahead, of one series: what was known (n_points,) up to the origin, what is given ahead
    (horizon,), how it goes on where that ends, and how it is in the scenario that is looked at."""

    name: str
    past: Floats
    given: Floats
    filled: Floats
    edited: Floats
    read: bool
    labels: tuple[str, ...]


@dataclass(frozen=True)
class AheadLanes:
    """What lies ahead of an outlook or of a scenario: columns, the ones its forecaster reads first, and occasions."""

    columns: tuple[AheadLane, ...]
    occasions: tuple[str, ...]


def lanes(reach: Resources, outlook_id: int, series: int) -> AheadLanes:
    """What lies ahead of one series."""
    panel, asked = seen_by(reach, outlook_id)
    learned = learned_of(reach, outlook_id)
    contender, horizon = learned.fitted.contender, asked.steps(panel) or learned.horizon
    filled = continued(panel, contender, horizon, asked.ahead)
    edited = filled if asked.scenario is None else asked.scenario.applied(filled, horizon)
    reads = contender.forecaster.reads_ahead(panel, horizon)
    found = []
    for place, column in enumerate(panel.covariates):
        if column.role == "known_ahead":
            given, on, so = (_ahead(each, place, series, panel.end, horizon) for each in (panel, filled, edited))
            past = column.series(series)[: int(panel.end - panel.starts[series])]
            found.append(AheadLane(column.name, past, given, on, so, column.name in reads, column.labels))
    last = panel.end + horizon
    occasions = sorted({each.name for each in edited.occasions if each.stop > panel.end and each.start < last})
    return AheadLanes(tuple(sorted(found, key=lambda each: not each.read)), tuple(occasions))


def _ahead(panel: Panel, place: int, series: int, origin: int, horizon: int) -> Floats:
    """A column's values for the steps ahead of a series, (horizon,), NaN where there is none."""
    values = panel.covariates[place].series(series)[origin - int(panel.starts[series]) :][:horizon]
    out = np.full(horizon, np.nan)
    out[: len(values)] = values
    return out
