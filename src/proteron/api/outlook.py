"""Outlook: the final forecast, made by the runner, read and taken away here."""

import numpy as np
from flask_openapi3 import APIBlueprint
from werkzeug.wrappers import Response

from proteron.api import shapes
from proteron.api.lines import epochs
from proteron.api.projects import outlook_brief
from proteron.api.services import answer, series_index, services
from proteron.core.csv_tables import csv_bytes
from proteron.core.forecasters.ranges import are_few
from proteron.records.database import ConflictError, unpack_arrays
from proteron.services import outlooks

blueprint = APIBlueprint("outlook", __name__, url_prefix="/api/v1")


@blueprint.post("/experiments/<int:experiment_id>/outlooks", responses={201: shapes.OutlookView, 422: shapes.Problem})
def new_outlook(path: shapes.ExperimentPath, body: shapes.NewOutlook) -> Response:
    """Queue a refit of one contender on everything known; ranges come from its walk-forward errors."""
    record = outlooks.order(services(), path.experiment_id, body.contender, body.horizon, body.ahead)
    return answer(shapes.OutlookView(**outlook_brief(record).model_dump()), 201)


@blueprint.get("/outlooks/<int:outlook_id>", responses={200: shapes.OutlookView, 404: shapes.Problem})
def view_outlook(path: shapes.OutlookPath, query: shapes.OutlookQuery) -> Response:
    """One series of an outlook: mean, ranges, times."""
    record, panel = outlooks.load(services(), path.outlook_id)
    index = series_index(panel, query.series)
    view = shapes.OutlookView(**outlook_brief(record).model_dump())
    if record.arrays:
        arrays = unpack_arrays(record.arrays)
        view.origin, view.levels = int(arrays["origin"]), outlooks.levels_of(arrays)
        view.times = epochs(panel.axis, view.origin + np.arange(arrays["mean"].shape[1]))
        view.mean = arrays["mean"][index].tolist()
        view.lower = [arrays[f"lower {level}"][index].tolist() for level in view.levels]
        view.upper = [arrays[f"upper {level}"][index].tolist() for level in view.levels]
        view.errors = outlooks.error_count(services(), record, panel, index)
        view.widened = are_few(view.errors, view.levels)
    return answer(view)


@blueprint.get("/outlooks/<int:outlook_id>/table.csv")
def outlook_csv(path: shapes.OutlookPath) -> Response:
    """All series of an outlook as CSV: time, key, mean and the ends of every range."""
    record, panel = outlooks.load(services(), path.outlook_id)
    if not record.arrays:
        raise ConflictError("This outlook is not finished yet.", field="state")
    headers = {"Content-Disposition": 'attachment; filename="outlook.csv"'}
    content = csv_bytes(outlooks.table_of(panel, unpack_arrays(record.arrays)))
    return Response(content, content_type="text/csv; charset=utf-8", headers=headers)
