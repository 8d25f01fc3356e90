"""Datasets: their series and lines, versions, changes, comparison, export."""

import json
import tempfile
from pathlib import Path

import numpy as np
from flask import request
from flask_openapi3 import APIBlueprint
from werkzeug.wrappers import Response

from proteron.api import shapes
from proteron.api.kept import tag_of
from proteron.api.lines import epochs, line, spark
from proteron.api.services import answer, series_index, services
from proteron.core.intake import EXPORTS, compare_accounts, compare_panels, edit_panel, write_panel
from proteron.core.intake.exports import csv_pieces
from proteron.core.panel import FILLED, Panel
from proteron.records.datasets import get_dataset, save_dataset
from proteron.records.projects import choose
from proteron.services.names import file_name

blueprint = APIBlueprint("datasets", __name__, url_prefix="/api/v1")


@blueprint.get("/datasets/<int:dataset_id>", responses={200: shapes.DatasetView, 404: shapes.Problem})
def view_dataset(path: shapes.DatasetPath) -> Response:
    """A dataset: its grid, series and account. Only its name can change, so its ETag stands for all of it."""
    with services().database.session() as session:
        dataset = get_dataset(session, path.dataset_id)
        tag = tag_of("datasets", dataset.id, dataset.revision)
    if request.if_none_match.contains(tag):
        return Response(status=304)
    response = answer(dataset_view(path.dataset_id))
    response.set_etag(tag)
    return response


@blueprint.get("/datasets/<int:dataset_id>/series/<int:series>/line", responses={200: shapes.Line})
def series_line(path: shapes.SeriesPath, query: shapes.SpanQuery) -> Response:
    """Values of a span: all of them, or lowest and highest per pixel column."""
    panel = services().panel(path.dataset_id)
    index = series_index(panel, path.series)
    first = int(panel.starts[index])
    marks = panel.series_marks(index)
    return answer(line(panel.axis, first, panel.series(index), query.start, query.stop, query.width, marks))


@blueprint.get("/datasets/<int:dataset_id>/data.csv")
def dataset_csv(path: shapes.DatasetPath) -> Response:
    """The dataset as CSV in long form, numbers in full, so that reading it gives the same dataset."""
    panel = services().panel(path.dataset_id)
    headers = {"Content-Disposition": f'attachment; filename="{_name_of(path.dataset_id)}.csv"'}
    return Response(csv_pieces(panel), content_type=EXPORTS["csv"].media_type, headers=headers)


@blueprint.get("/datasets/<int:dataset_id>/export")
def export(path: shapes.DatasetPath, query: shapes.ExportQuery) -> Response:
    """The dataset in long form as a file; what spreadsheets open cannot carry formulas."""
    panel = services().panel(path.dataset_id)
    with services().computing(), tempfile.TemporaryDirectory() as folder:
        content = write_panel(panel, Path(folder) / "panel", query.format).read_bytes()
    name = f"{_name_of(path.dataset_id)}.{query.format}"
    headers = {"Content-Disposition": f'attachment; filename="{name}"'}
    return Response(content, content_type=EXPORTS[query.format].media_type, headers=headers)


@blueprint.get("/datasets/<int:dataset_id>/account.json")
def account_file(path: shapes.DatasetPath) -> Response:
    """The account of the intake, to be applied to the next delivery."""
    with services().database.session() as session:
        account = get_dataset(session, path.dataset_id).account
    text = json.dumps(account, indent=1, ensure_ascii=False) + "\n"
    headers = {"Content-Disposition": f'attachment; filename="{_name_of(path.dataset_id)}-account.json"'}
    return Response(text, content_type="application/json; charset=utf-8", headers=headers)


@blueprint.post("/datasets/<int:dataset_id>/edit", responses={201: shapes.DatasetView, 422: shapes.Problem})
def edit_dataset(path: shapes.DatasetPath, body: shapes.EditBody) -> Response:
    """A change made into the next version, which the project then stands on; the old one stays."""
    panel = services().panel(path.dataset_id)
    with services().computing(), services().database.session() as session:
        parent = get_dataset(session, path.dataset_id)
        reading = edit_panel(panel, body.edit, parent.account)
        dataset = save_dataset(session, parent.project_id, body.name or parent.name, reading, parent_id=parent.id)
        choose(session, parent.project_id, {"dataset_id": dataset.id})
        dataset_id = dataset.id
    return answer(dataset_view(dataset_id), 201)


@blueprint.get(
    "/datasets/<int:dataset_id>/compare/<int:other_id>", responses={200: shapes.ComparisonView, 404: shapes.Problem}
)
def compare(path: shapes.ComparePath) -> Response:
    """How a dataset differs from another, usually an earlier version."""
    before, after = services().panel(path.other_id), services().panel(path.dataset_id)
    with services().database.session() as session:
        accounts = [get_dataset(session, number).account for number in (path.other_id, path.dataset_id)]
    with services().computing():
        found = compare_panels(before, after, compare_accounts(*accounts))
    series = [shapes.SeriesChangeView(**vars(change)) for change in found.series]
    return answer(shapes.ComparisonView(sentences=list(found.sentences), series=series))


def _name_of(dataset_id: int) -> str:
    with services().database.session() as session:
        return file_name(get_dataset(session, dataset_id).name)


def series_view(panel: Panel, index: int) -> shapes.SeriesView:
    values = panel.series(index)
    known = values[np.isfinite(values)]
    ends = epochs(panel.axis, panel.starts[index] + np.array([0, max(len(values) - 1, 0)]))
    return shapes.SeriesView(
        key=panel.keys[index], start=int(panel.starts[index]), length=len(values), missing=len(values) - len(known),
        filled=int(((panel.series_marks(index) & FILLED) > 0).sum()), first=ends[0], last=ends[1],
        lowest=float(known.min()) if len(known) else None, highest=float(known.max()) if len(known) else None,
        last_value=float(known[-1]) if len(known) else None, spark=spark(values),
    )  # fmt: skip


def dataset_view(dataset_id: int) -> shapes.DatasetView:
    panel = services().panel(dataset_id)
    with services().database.session() as session:
        dataset = get_dataset(session, dataset_id)
    axis, step = panel.axis, panel.axis.step
    even = step.unit in ("second", "minute", "hour")
    grid = shapes.Grid(
        start=epochs(axis, np.array([0]))[0], seconds=step.nominal_seconds if even else None,
        times=None if even else epochs(axis, np.arange(panel.end + 400)), end=panel.end, step=panel.step,
        zone=panel.zone, seasons=list(step.seasons),
    )  # fmt: skip
    return shapes.DatasetView(
        id=dataset.id, name=dataset.name, version=dataset.version, hash=dataset.hash, unit=panel.unit, grid=grid,
        columns=dataset.layout["columns"], account=dataset.account, parent_id=dataset.parent_id,
        masks=[shapes.MaskView(**vars(mask)) for mask in panel.masks],
        occasions=[shapes.OccasionView(**vars(each)) for each in panel.occasions],
        series=[series_view(panel, index) for index in range(len(panel))],
    )  # fmt: skip
