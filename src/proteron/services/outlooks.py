"""Outlooks: ordered here, made by the runner, read and taken away."""

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from proteron.core.errors import SettingsError
from proteron.core.experiment import Judging
from proteron.core.forecasters.ahead import require_ahead
from proteron.core.outlook import Ahead, continued
from proteron.core.panel import Panel
from proteron.records import experiments as records
from proteron.records.models import OutlookRecord
from proteron.records.outlooks import get_outlook
from proteron.records.projects import choose
from proteron.records.results import load_results
from proteron.services.experiments import judging_of
from proteron.services.resources import Resources

Arrays = dict[str, NDArray[np.float64]]


def order(
    reach: Resources, experiment_id: int, contender: str, horizon: int | None, ahead: Ahead = "given"
) -> OutlookRecord:
    """Queue a refit of one contender on everything known; ranges come from its walk-forward errors.

    Raises `TooShortError` before anything is queued where a column that is known ahead ends too early.
    """
    with reach.database.session() as session:
        experiment = records.get_experiment(session, experiment_id)
        judging = judging_of(experiment)
        judging.entry(contender)
        if horizon and horizon > judging.folds.horizon:
            raise SettingsError(
                f"Ranges are known for {judging.folds.horizon} steps ahead, the judged horizon.", field="horizon"
            )
        _check_ahead(reach.panel(experiment.dataset_id), judging, contender, horizon, ahead)
        record = OutlookRecord(
            project_id=experiment.project_id, experiment_id=experiment.id, state="queued",
            document={"contender": contender, "horizon": horizon, "ahead": ahead},
        )  # fmt: skip
        session.add(record)
        session.flush()
        choose(session, experiment.project_id, {"outlook_id": record.id})
    reach.queue.defer_outlook(record.id)
    return record


def _check_ahead(panel: Panel, judging: Judging, name: str, horizon: int | None, ahead: Ahead) -> None:
    contender, horizon = judging.entry(name).contender, horizon or judging.folds.horizon
    require_ahead(continued(panel, contender, horizon, ahead), contender.forecaster, horizon)


def load(reach: Resources, outlook_id: int) -> tuple[OutlookRecord, Panel]:
    """An outlook with the panel it was made from."""
    with reach.database.session() as session:
        record = get_outlook(session, outlook_id)
        dataset_id = records.get_experiment(session, record.experiment_id).dataset_id
    return record, reach.panel(dataset_id)


def levels_of(arrays: Arrays) -> list[float]:
    return sorted(float(name.removeprefix("lower ")) for name in arrays if name.startswith("lower "))


def error_count(reach: Resources, record: OutlookRecord, panel: Panel, index: int) -> int:
    """How many walk-forward origins the ranges of a series rest on."""
    from proteron.core.outlook import walk_forward_errors

    with reach.database.session() as session:
        results = load_results(session, record.experiment_id, [record.document["contender"]], series=index)
    return int(np.isfinite(walk_forward_errors(panel, results)[:, index]).any(axis=1).sum())


def table_of(panel: Panel, arrays: Arrays) -> pa.Table:
    """All series: time, key, mean and the ends of every range."""
    horizon = arrays["mean"].shape[1]
    times = panel.axis.times(int(arrays["origin"]) + np.arange(horizon))
    columns = {
        "time": pa.array(np.tile(times, len(panel)), pa.timestamp("s", tz="UTC")),
        "key": pa.array(np.repeat(np.array(panel.keys, dtype=object), horizon), pa.string()),
        "mean": _numbers(arrays["mean"]),
    }
    for level in levels_of(arrays):
        columns |= {f"{end}_{level:g}": _numbers(arrays[f"{end} {level}"]) for end in ("lower", "upper")}
    return pa.table(columns)


def _numbers(values: NDArray[np.float64]) -> pa.Array:
    return pa.array(values.ravel(), mask=np.isnan(values.ravel()))
