"""Intake: uploads to disk, configured sources, a preview, one dataset version."""

import json
import re
import secrets
import time
from pathlib import Path
from typing import Any

from flask import request
from flask_openapi3 import APIBlueprint
from werkzeug.wrappers import Response

from proteron.api import shapes
from proteron.api.datasets import dataset_view, series_view
from proteron.api.lines import line
from proteron.api.problems import problem_of
from proteron.api.services import answer, services
from proteron.core.errors import InputError, LimitError
from proteron.core.intake import Limits, Recipe, TableReading, compare_accounts
from proteron.records.connections import load_connections
from proteron.records.database import NotFoundError
from proteron.records.projects import get_project
from proteron.services.anomalies import scans

blueprint = APIBlueprint("intake", __name__, url_prefix="/api/v1")
_PIECE = 1 << 20
_KEPT_SECONDS = 86400
_SERIES_SHOWN = 200
_MAKE_SECONDS = 900.0


@blueprint.post("/uploads", responses={201: shapes.Uploaded, 413: shapes.Problem})
def upload(query: shapes.UploadQuery) -> Response:
    """Store the request body, streamed to disk under the limit; nothing is kept when it fails."""
    limit = services().settings.upload_bytes
    if (request.content_length or 0) > limit:
        raise LimitError(f"The file claims {request.content_length:,} bytes; the limit is {limit:,}.", field="file")
    _forget_old_uploads()
    services().sidecar.warm()
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
        name = _keep_name(upload_id, query.name)
    except BaseException:
        path.unlink(missing_ok=True)
        raise
    return answer(shapes.Uploaded(upload_id=upload_id, name=name, bytes=size), 201)


@blueprint.get("/connections", responses={200: shapes.ConnectionList})
def connections() -> Response:
    """Names of the SQL and HTTP sources in the server's configuration; their addresses never leave it."""
    found = load_connections(services().settings.connections)
    views = [shapes.ConnectionView(name=name, kind="sql", writes=each.writes) for name, each in found.sql.items()]
    views += [shapes.ConnectionView(name=name, kind="http") for name in found.http]
    return answer(shapes.ConnectionList(connections=views))


@blueprint.post("/uploads/fetch", responses={201: shapes.Uploaded, 404: shapes.Problem, 422: shapes.Problem})
def fetch_source(body: shapes.FetchBody) -> Response:
    """Rows of a configured source as an upload."""
    settings = services().settings
    upload_id = secrets.token_hex(16)
    path = _path(upload_id)
    arguments = (str(settings.connections), body.connection, body.query, str(path), settings.upload_bytes)
    try:
        services().sidecar.call("bring", *arguments, seconds=_MAKE_SECONDS)
    except BaseException:
        path.unlink(missing_ok=True)
        raise
    name = _keep_name(upload_id, body.connection)
    return answer(shapes.Uploaded(upload_id=upload_id, name=name, bytes=path.stat().st_size), 201)


@blueprint.post("/uploads/<string:upload_id>/preview", responses={200: shapes.Preview, 422: shapes.Problem})
def preview(path: shapes.UploadPath, body: shapes.PreviewBody) -> Response:
    """What the upload would become under a recipe; stores nothing."""
    found: dict[str, Any] = services().sidecar.call(
        "look", _paths(path.upload_id, body), _recipe(body).document(), _limits(), body.project_id,
        seconds=services().settings.look_seconds,
    )  # fmt: skip
    shape = shapes.Preview(
        rows=found["rows"], format=found["format"], facts=found["facts"], columns=found["columns"],
        first_line=found["first_line"], per_line=found["per_line"], sample_rows=found["sample_rows"],
        sample=found["sample"], zone=_recipe(body).zone,
        problem=problem_of(found["problem"]) if found["problem"] else None,
    )  # fmt: skip
    if found["reading"] is not None:
        _show_reading(shape, found["reading"], body)
    return answer(shape)


def _show_reading(shape: shapes.Preview, reading: TableReading, body: shapes.PreviewBody) -> None:
    panel = reading.panel
    shape.step, shape.series_count = panel.step, len(panel)
    shape.findings = [shapes.FindingView(**finding.document()) for finding in reading.findings]
    shape.series = [series_view(panel, i) for i in range(min(len(panel), _SERIES_SHOWN))]
    index = panel.keys.index(body.series) if body.series in panel.keys else 0
    shape.line_key = panel.keys[index]
    shape.line = line(
        panel.axis, int(panel.starts[index]), panel.series(index), body.start, body.stop, 900, panel.series_marks(index)
    )  # fmt: skip
    if body.account is not None:
        shape.differences = compare_accounts(body.account, reading.account)


@blueprint.post("/uploads/<string:upload_id>/dataset", responses={201: shapes.DatasetView, 422: shapes.Problem})
def make_dataset(path: shapes.UploadPath, body: shapes.NewDataset) -> Response:
    """Read the upload and store it as a dataset version, which the project then stands on; where the project stood on a
    scan as of every moment, the new version is scanned alike."""
    with services().database.session() as session:
        get_project(session, body.project_id)
    dataset_id, _ = services().sidecar.call(
        "make", _paths(path.upload_id, body), _recipe(body).document(), _limits(), body.project_id, body.name,
        seconds=_MAKE_SECONDS,
    )  # fmt: skip
    for upload_id in (path.upload_id, *(each.root for each in body.more)):
        for left in (_path(upload_id), _path(upload_id).with_suffix(".json")):
            left.unlink(missing_ok=True)
    scans.follow(services(), body.project_id, dataset_id)
    return answer(dataset_view(dataset_id), 201)


@blueprint.get("/uploads/<string:upload_id>/calendar", responses={200: shapes.CalendarView, 422: shapes.Problem})
def read_calendar(path: shapes.UploadPath) -> Response:
    """The occasions in an uploaded calendar: a name and one or two dates per row."""
    (source,) = _paths(path.upload_id, shapes.Reading())
    spans = services().sidecar.call("calendar", source[0], seconds=services().settings.look_seconds)
    return answer(shapes.CalendarView(occasions=spans))


@blueprint.post(
    "/uploads/<string:upload_id>/forecasts",
    responses={200: shapes.BroughtView, 404: shapes.Problem, 422: shapes.Problem},
)
def read_forecasts(path: shapes.UploadPath, body: shapes.ForecastsOfBody) -> Response:
    """Forecasts of a dataset that were made elsewhere, as a contender; stores nothing."""
    services().panel(body.dataset_id)
    ((source, name),) = _paths(path.upload_id, shapes.Reading())
    found = services().sidecar.call(
        "forecasts", source, name, _limits(), body.dataset_id, seconds=services().settings.look_seconds
    )
    contender = {"name": Path(name).stem, "forecaster": found["forecaster"], "chain": []}
    return answer(
        shapes.BroughtView(contender=contender, rows=found["rows"], used=found["used"], notes=found["notes"])
    )  # fmt: skip


def _recipe(body: shapes.Reading) -> Recipe:
    """The recipe asked for, or that of the account to be re-applied, with what was asked for over it."""
    if body.account is None:
        return body.recipe
    stored = Recipe.parse(body.account.get("recipe", {}))
    asked = {name: getattr(body.recipe, name) for name in body.recipe.model_fields_set}
    return stored.model_copy(update=asked)


def _limits() -> Limits:
    settings = services().settings
    return Limits(settings.upload_bytes, settings.upload_rows)


def _paths(upload_id: str, body: shapes.Reading) -> list[tuple[str, str]]:
    """Path and name of every upload; raises `NotFoundError` for one that is gone."""
    found = []
    for each in (upload_id, *(more.root for more in body.more)):
        path = _path(each)
        try:
            name = json.loads(path.with_suffix(".json").read_text())["name"]
        except (OSError, ValueError):
            raise NotFoundError("This upload is gone; bring the file again.", field="file") from None
        found.append((str(path), name))
    return found


def _keep_name(upload_id: str, given: str) -> str:
    name = re.sub(r"[^\w .()-]", "_", Path(given).name)[:200] or "upload"
    _path(upload_id).with_suffix(".json").write_text(json.dumps({"name": name}))
    return name


def _path(upload_id: str) -> Path:
    folder = services().settings.home / "uploads"
    folder.mkdir(parents=True, exist_ok=True)
    return folder / upload_id


def _forget_old_uploads() -> None:
    """Uploads that nobody made a dataset of within a day."""
    for path in _path("x").parent.iterdir():
        if time.time() - path.stat().st_mtime > _KEPT_SECONDS:
            path.unlink(missing_ok=True)
