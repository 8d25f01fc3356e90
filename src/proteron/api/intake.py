"""Intake: uploads to disk, a preview, one dataset version."""

import json
import re
import secrets
import time
from pathlib import Path

import numpy as np
from flask import request
from flask_openapi3 import APIBlueprint
from werkzeug.wrappers import Response

from proteron.api import shapes
from proteron.api.lines import epochs, line, spark
from proteron.api.problems import problem_of
from proteron.api.services import answer, series_index, services
from proteron.core.errors import InputError, LimitError, ProteronError
from proteron.core.intake import Limits, RawTable, TableReading, guess_roles, settle_roles
from proteron.core.panel import Panel
from proteron.core.timeline import zone_info
from proteron.records.database import NotFoundError
from proteron.records.datasets import get_dataset, save_dataset
from proteron.records.projects import choose, get_project

blueprint = APIBlueprint("intake", __name__, url_prefix="/api/v1")
_PIECE = 1 << 20
_SAMPLE_ROWS = 200
_KEPT_SECONDS = 86400


@blueprint.post("/uploads", responses={201: shapes.Uploaded, 413: shapes.Problem})
def upload(query: shapes.UploadQuery) -> Response:
    """Store the request body, streamed to disk under the limit; nothing is kept when it fails."""
    limit = services().settings.upload_bytes
    if (request.content_length or 0) > limit:
        raise LimitError(f"The file claims {request.content_length:,} bytes; the limit is {limit:,}.", field="file")
    _forget_old_uploads()
    upload_id = secrets.token_hex(16)
    path = _path(upload_id)
    size = 0
    try:
        with path.open("wb") as file:
            while piece := request.stream.read(_PIECE):
                size += len(piece)
                if size > limit:
                    raise LimitError(f"The file is larger than the limit of {limit:,} bytes.", field="file")
                file.write(piece)
        if size == 0:
            raise InputError("The file is empty.", field="file")
        name = re.sub(r"[^\w .()-]", "_", Path(query.name).name)[:200] or "upload"
        path.with_suffix(".json").write_text(json.dumps({"name": name}))
    except BaseException:
        path.unlink(missing_ok=True)
        raise
    return answer(shapes.Uploaded(upload_id=upload_id, name=name, bytes=size), 201)


@blueprint.post("/uploads/<string:upload_id>/preview", responses={200: shapes.Preview, 422: shapes.Problem})
def preview(path: shapes.UploadPath, body: shapes.Reading) -> Response:
    """What the upload would become under these roles; stores nothing."""
    with services().computing():
        raw = _raw(path.upload_id)
        zone_info(body.zone)
        reasons = {guess.column: guess.reason for guess in guess_roles(raw)}
        roles = settle_roles(raw, body.roles)
        problem, reading = None, None
        try:
            reading = build_panel(raw, roles, body.step or None, body.zone, body.unit)
        except ProteronError as error:
            problem = problem_of(error)
        given = body.roles or {}
        columns = [
            shapes.ColumnView(
                name=name,
                role=roles[name],
                reason="chosen by you" if name in given else reasons[name],
                sample=raw.columns[name].slice(0, _SAMPLE_ROWS).to_pylist(),
            )
            for name in raw.names
        ]
    return answer(_preview(raw, columns, reading, problem, body.zone))


def _preview(
    raw: RawTable,
    columns: list[shapes.ColumnView],
    reading: TableReading | None,
    problem: shapes.Problem | None,
    zone: str,
) -> shapes.Preview:
    shape = shapes.Preview(
        rows=raw.columns.num_rows, encoding=raw.encoding, delimiter=raw.delimiter, columns=columns, problem=problem,
        zone=zone,
    )  # fmt: skip
    if reading is not None:
        panel = reading.panel
        shape.step = panel.step
        shape.findings = [shapes.FindingView(**vars(f) | {"rows": list(f.rows)}) for f in reading.findings]
        shape.series = [series_view(panel, i) for i in range(min(len(panel), 200))]
        shape.line = line(panel.axis, int(panel.starts[0]), panel.series(0), None, None, 900)
    return shape


@blueprint.post("/uploads/<string:upload_id>/dataset", responses={201: shapes.DatasetView, 422: shapes.Problem})
def make_dataset(path: shapes.UploadPath, body: shapes.NewDataset) -> Response:
    """Read the upload and store it as a dataset version, which the project then stands on."""
    with services().computing(), services().database.session() as session:
        get_project(session, body.project_id)
        raw = _raw(path.upload_id)
        reading = build_panel(raw, settle_roles(raw, body.roles), body.step or None, body.zone, body.unit)
        dataset = save_dataset(session, body.project_id, body.name, reading)
        choose(session, body.project_id, {"dataset_id": dataset.id})
        dataset_id = dataset.id
    for left in (_path(path.upload_id), _path(path.upload_id).with_suffix(".json")):
        left.unlink(missing_ok=True)
    return answer(_dataset_view(dataset_id), 201)


@blueprint.get("/datasets/<int:dataset_id>", responses={200: shapes.DatasetView, 404: shapes.Problem})
def view_dataset(path: shapes.DatasetPath) -> Response:
    """A dataset: its grid, series and account. Immutable, so it carries an ETag."""
    with services().database.session() as session:
        tag = get_dataset(session, path.dataset_id).hash
    if request.if_none_match.contains(tag):
        return Response(status=304)
    response = answer(_dataset_view(path.dataset_id))
    response.set_etag(tag)
    return response


@blueprint.get("/datasets/<int:dataset_id>/series/<int:series>/line", responses={200: shapes.Line})
def series_line(path: shapes.SeriesPath, query: shapes.SpanQuery) -> Response:
    """Values of a span: all of them, or lowest and highest per pixel column."""
    panel = services().panel(path.dataset_id)
    index = series_index(panel, path.series)
    first = int(panel.starts[index])
    return answer(line(panel.axis, first, panel.series(index), query.start, query.stop, query.width))


@blueprint.get("/datasets/<int:dataset_id>/data.csv")
def dataset_csv(path: shapes.DatasetPath) -> Response:
    """The dataset as CSV in long form, numbers in full, so that reading it gives the same dataset."""
    panel = services().panel(path.dataset_id)
    with services().database.session() as session:
        name = get_dataset(session, path.dataset_id).name
    headers = {"Content-Disposition": f'attachment; filename="{file_name(name)}.csv"'}
    return Response(dataset_text(panel), content_type="text/csv; charset=utf-8", headers=headers)


def dataset_text(panel: Panel) -> str:
    """Long rows of every point, missing ones too: time, key, value, covariates."""
    names = ["time", "key", "value", *(column.name for column in panel.covariates)]
    lines = [",".join(_quoted(name) for name in names)]
    for index, key in enumerate(panel.keys):
        times = np.datetime_as_string(panel.axis.times(panel.positions(index))).tolist()
        cells = [panel.series(index).tolist()]
        cells += [column.series(index)[: len(times)].tolist() for column in panel.covariates]
        label = _quoted(key)
        for stamp, *row in zip(times, *cells, strict=True):
            lines.append(f"{stamp}Z,{label}," + ",".join("" if v != v else repr(v) for v in row))
    return "\n".join(lines) + "\n"


def _quoted(text: str) -> str:
    return '"' + text.replace('"', '""') + '"' if any(mark in text for mark in ',"\n') else text


def file_name(name: str) -> str:
    return re.sub(r"[^A-Za-z0-9_-]+", "-", name).strip("-").lower() or "dataset"


def _path(upload_id: str) -> Path:
    folder = services().settings.home / "uploads"
    folder.mkdir(parents=True, exist_ok=True)
    return folder / upload_id


def _forget_old_uploads() -> None:
    """Uploads that nobody made a dataset of within a day."""
    for path in _path("x").parent.iterdir():
        if time.time() - path.stat().st_mtime > _KEPT_SECONDS:
            path.unlink(missing_ok=True)


def _raw(upload_id: str) -> RawTable:
    settings = services().settings
    try:
        content = _path(upload_id).read_bytes()
    except FileNotFoundError:
        raise NotFoundError("This upload is gone; bring the file again.", field="file") from None
    return read_delimited(content, Limits(settings.upload_bytes, settings.upload_rows))


def series_view(panel: Panel, index: int) -> shapes.SeriesView:
    values = panel.series(index)
    known = values[np.isfinite(values)]
    ends = epochs(panel.axis, panel.starts[index] + np.array([0, max(len(values) - 1, 0)]))
    return shapes.SeriesView(
        key=panel.keys[index], start=int(panel.starts[index]), length=len(values), missing=len(values) - len(known),
        first=ends[0], last=ends[1], lowest=float(known.min()) if len(known) else None,
        highest=float(known.max()) if len(known) else None, spark=spark(values),
    )  # fmt: skip


def _dataset_view(dataset_id: int) -> shapes.DatasetView:
    panel = services().panel(dataset_id)
    with services().database.session() as session:
        dataset = get_dataset(session, dataset_id)
    axis, step = panel.axis, panel.axis.step
    even = step.unit in ("second", "minute", "hour")
    start = epochs(axis, np.array([0]))[0]
    grid = shapes.Grid(
        start=start, seconds=step.nominal_seconds if even else None,
        times=None if even else epochs(axis, np.arange(panel.end + 400)), end=panel.end, step=panel.step,
        zone=panel.zone, seasons=list(step.seasons),
    )  # fmt: skip
    return shapes.DatasetView(
        id=dataset.id, name=dataset.name, version=dataset.version, hash=dataset.hash, unit=panel.unit, grid=grid,
        columns=dataset.layout["columns"], account=dataset.account,
        series=[series_view(panel, index) for index in range(len(panel))],
    )  # fmt: skip
