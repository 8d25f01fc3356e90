"""Outlook: the final forecast, made by the runner, read and taken away here."""

import io

import numpy as np
from flask_openapi3 import APIBlueprint
from numpy.typing import NDArray
from werkzeug.wrappers import Response

from proteron.api import shapes
from proteron.api.lines import epochs
from proteron.api.projects import outlook_brief
from proteron.api.services import answer, series_index, services
from proteron.core.errors import SettingsError
from proteron.core.outlook import walk_forward_errors
from proteron.core.panel import Panel
from proteron.records import experiments as records
from proteron.records.database import ConflictError, unpack_arrays
from proteron.records.findings import get_outlook
from proteron.records.models import OutlookRecord
from proteron.records.projects import choose
from proteron.runner import plans

blueprint = APIBlueprint("outlook", __name__, url_prefix="/api/v1")


@blueprint.post("/experiments/<int:experiment_id>/outlooks", responses={201: shapes.OutlookView, 422: shapes.Problem})
def new_outlook(path: shapes.ExperimentPath, body: shapes.NewOutlook) -> Response:
    """Queue a refit of one contender on everything known; ranges come from its walk-forward errors."""
    with services().database.session() as session:
        experiment = records.get_experiment(session, path.experiment_id)
        plan = plans.plan_of(experiment)
        if body.contender not in [entry.name for entry in plan.contenders]:
            raise SettingsError(f"There is no contender “{body.contender}” in this experiment.", field="contender")
        if body.horizon and body.horizon > plan.folds.horizon:
            raise SettingsError(
                f"Ranges are known for {plan.folds.horizon} steps ahead, the judged horizon.", field="horizon"
            )
        document = {"contender": body.contender, "horizon": body.horizon}
        record = OutlookRecord(
            project_id=experiment.project_id, experiment_id=experiment.id, document=document, state="queued"
        )
        session.add(record)
        session.flush()
        choose(session, experiment.project_id, {"outlook_id": record.id})
        view = shapes.OutlookView(**outlook_brief(record).model_dump())
    services().queue.defer_outlook(view.id)
    return answer(view, 201)


@blueprint.get("/outlooks/<int:outlook_id>", responses={200: shapes.OutlookView, 404: shapes.Problem})
def view_outlook(path: shapes.OutlookPath, query: shapes.OutlookQuery) -> Response:
    """One series of an outlook: mean, ranges, times."""
    record, panel = _load(path.outlook_id)
    index = series_index(panel, query.series)
    view = shapes.OutlookView(**outlook_brief(record).model_dump())
    if record.arrays:
        arrays = unpack_arrays(record.arrays)
        levels = _levels(arrays)
        origin = int(arrays["origin"])
        view.origin = origin
        view.times = epochs(panel.axis, origin + np.arange(arrays["mean"].shape[1]))
        view.mean = arrays["mean"][index].tolist()
        view.levels = levels
        view.lower = [arrays[f"lower {level}"][index].tolist() for level in levels]
        view.upper = [arrays[f"upper {level}"][index].tolist() for level in levels]
        view.errors = _error_count(record, panel, index)
    return answer(view)


@blueprint.get("/outlooks/<int:outlook_id>/table.csv")
def outlook_csv(path: shapes.OutlookPath) -> Response:
    """All series of an outlook as CSV: time, key, mean and the ends of every range."""
    record, panel = _load(path.outlook_id)
    if not record.arrays:
        raise ConflictError("This outlook is not finished yet.", field="state")
    headers = {"Content-Disposition": 'attachment; filename="outlook.csv"'}
    text = outlook_text(panel, unpack_arrays(record.arrays))
    return Response(text, content_type="text/csv; charset=utf-8", headers=headers)


def outlook_text(panel: Panel, arrays: dict[str, NDArray[np.float64]]) -> str:
    levels = _levels(arrays)
    names = [f"{end} {level:g}" for level in levels for end in ("lower", "upper")]
    times = np.datetime_as_string(panel.axis.times(int(arrays["origin"]) + np.arange(arrays["mean"].shape[1])))
    out = io.StringIO()
    out.write(",".join(["time", "key", "mean", *(name.replace(" ", "_") for name in names)]) + "\n")
    for index, key in enumerate(panel.keys):
        label = '"' + key.replace('"', '""') + '"' if any(mark in key for mark in ',"\n') else key
        columns = [arrays["mean"][index], *(arrays[name.replace(f"{level:g}", str(level))][index]
                   for name, level in zip(names, np.repeat(levels, 2).tolist(), strict=True))]  # fmt: skip
        for time, *row in zip(times, *(column.tolist() for column in columns), strict=True):
            out.write(f"{time}Z,{label}," + ",".join("" if v != v else repr(v) for v in row) + "\n")
    return out.getvalue()


def _levels(arrays: dict[str, NDArray[np.float64]]) -> list[float]:
    return sorted(float(name.removeprefix("lower ")) for name in arrays if name.startswith("lower "))


def _error_count(record: OutlookRecord, panel: Panel, index: int) -> int:
    """How many walk-forward origins the ranges of a series rest on."""
    with services().database.session() as session:
        experiment = records.get_experiment(session, record.experiment_id)
        cells = [c for c in plans.cells_of(session, experiment, panel) if c.name == record.document["contender"]]
        errors = walk_forward_errors(panel, records.load_results(session, cells))
    return int(np.isfinite(errors[:, index]).any(axis=1).sum())


def _load(outlook_id: int) -> tuple[OutlookRecord, Panel]:
    with services().database.session() as session:
        record = get_outlook(session, outlook_id)
        dataset_id = records.get_experiment(session, record.experiment_id).dataset_id
    return record, services().panel(dataset_id)
