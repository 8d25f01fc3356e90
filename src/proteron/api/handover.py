"""Outlooks handed over: files and addresses, databases, forecasts on demand; and what became of them."""

from flask import request
from flask_openapi3 import APIBlueprint
from werkzeug.exceptions import NotAcceptable
from werkzeug.wrappers import Response

from proteron.api import handover_shapes as given
from proteron.api import shapes
from proteron.api.lines import finite
from proteron.api.projects import outlook_brief
from proteron.api.services import answer, services
from proteron.core.outlook.recent import Recent
from proteron.core.table_files import FORMATS
from proteron.records.written_tables import Target
from proteron.services.outlooks import handover, held_to, learned, shown
from proteron.services.outlooks.held_to import Held

blueprint = APIBlueprint("handover", __name__, url_prefix="/api/v1")
_OUTLOOK = "/outlooks/<int:outlook_id>"
_BY_TYPE = {kind.partition(";")[0]: name for name, kind in FORMATS.items()}


@blueprint.get(f"{_OUTLOOK}/table")
def table(path: shapes.OutlookPath, query: given.TableFileQuery) -> Response:
    """All series of an outlook: a row per series and time, or wide. The format is the one that is named, or else what
    the request accepts, JSON where it is all the same; unchanged where its ETag is known."""
    made = shown.made(services(), path.outlook_id)
    format = query.format or _accepted()
    response = Response(content_type=FORMATS[format])
    response.set_etag(handover.tag_of(made, format, query.form))
    response.headers["Vary"] = "Accept"
    response.headers["Cache-Control"] = "no-cache"
    if query.format:
        response.headers["Content-Disposition"] = f'attachment; filename="outlook-{path.outlook_id}.{format}"'
    if request.if_none_match.contains(response.get_etag()[0] or ""):
        response.status_code = 304
        return response
    with services().computing():
        response.data = handover.as_file(made, format, query.form)
    return response


def _accepted() -> str:
    """The format that the request accepts best; raises `NotAcceptable` where there is none."""
    wanted = request.accept_mimetypes
    if not wanted:
        return "json"
    kinds = ["application/json", *(kind for kind in _BY_TYPE if kind != "application/json")]
    best = wanted.best_match(kinds)
    if best is None:
        raise NotAcceptable(f"An outlook comes as {', '.join(kinds)}.")
    return _BY_TYPE[best]


@blueprint.get(f"{_OUTLOOK}/about", responses={200: given.AboutView, 404: shapes.Problem, 409: shapes.Problem})
def about(path: shapes.OutlookPath) -> Response:
    """What an outlook is and rests on: by whom, from which data, with which ranges, and how such ranges held."""
    return answer(given.AboutView(**handover.about(shown.made(services(), path.outlook_id))))


@blueprint.get(f"{_OUTLOOK}/learned")
def learned_file(path: shapes.OutlookPath) -> Response:
    """What an outlook learned, for `proteron forecast --using` and `load_learned`."""
    headers = {"Content-Disposition": f'attachment; filename="outlook-{path.outlook_id}.proteron"'}
    content = learned.learned_bytes_of(services(), path.outlook_id)
    return Response(content, content_type="application/zip", headers=headers)


@blueprint.post(
    f"{_OUTLOOK}/written",
    responses={201: given.WrittenView, 404: shapes.Problem, 409: shapes.Problem, 422: shapes.Problem},
)
def write(path: shapes.OutlookPath, body: given.WriteBody) -> Response:
    """Write an outlook to a table of a configured database, in one transaction, with a view of what is newest."""
    target = Target(body.connection, body.table, body.schema_name, body.way)
    rows = handover.write(services(), shown.made(services(), path.outlook_id), target)
    return answer(given.WrittenView(rows=rows, table=target.table, view=target.view), 201)


@blueprint.post(
    f"{_OUTLOOK}/forecast",
    responses={200: given.DemandView, 404: shapes.Problem, 409: shapes.Problem, 422: shapes.Problem},
)
def forecast(path: shapes.OutlookPath, body: given.DemandBody) -> Response:
    """Forecast from recent points, by what the outlook learned: nothing is learned or stored."""
    recent = {key: Recent(each.times, each.values, each.columns) for key, each in body.series.items()}
    view = learned.on_demand(services(), path.outlook_id, recent, body.horizon, body.ahead)
    times = [f"{each}Z" for each in view.times]
    series = {
        key: given.DemandSeries(
            mean=view.mean[place].tolist(),
            lower={f"{level:g}": view.lower[level][place].tolist() for level in view.levels},
            upper={f"{level:g}": view.upper[level][place].tolist() for level in view.levels},
        )
        for place, key in enumerate(view.keys)
    }
    return answer(given.DemandView(times=times, series=series, notes=list(view.notes)))


@blueprint.get(f"{_OUTLOOK}/held", responses={200: given.HeldView, 404: shapes.Problem, 409: shapes.Problem})
def view_held(path: shapes.OutlookPath) -> Response:
    """How an outlook fared by the newest version of its data: errors against what was promised, ranges, drift."""
    found = held_to.held_to(services(), shown.made(services(), path.outlook_id).record)
    return answer(given.HeldView(**_held(found))) if found else answer(given.HeldView())


@blueprint.get("/projects/<int:project_id>/outlooks", responses={200: given.OutlooksView, 404: shapes.Problem})
def list_outlooks(path: shapes.ProjectPath) -> Response:
    """The outlooks of a project, the newest first, and how each fared."""
    rows = [
        given.FaredView(
            **outlook_brief(record).model_dump(), **(_held(found) if found else {}),
            horizon=found.made.horizon if found else 0,
            issued=record.finished.isoformat() if record.finished else "",
        )
        for record, found in held_to.earlier(services(), path.project_id)
    ]  # fmt: skip
    return answer(given.OutlooksView(outlooks=rows))


def _held(found: Held) -> dict[str, object]:
    """How an outlook fared, as an answer."""
    error, promised = found.fared.by_step()
    return {
        "verdict": found.fared.verdict, "sentence": found.sentence, "version": found.dataset.version,
        "newer": found.newer, "known": found.fared.known, "error": error.tolist(), "promised": promised.tolist(),
        "ratio": finite(found.fared.ratio), "held": [finite(each) for each in found.fared.held.values()],
        "levels": list(found.fared.held), "of": found.fared.of,
        "drifted": [key for key, so in zip(found.made.panel.keys, found.fared.drifted, strict=True) if so],
    }  # fmt: skip
