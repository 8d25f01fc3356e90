"""Watched panels: a state that was learned elsewhere is kept and moved on point by point, without learning anew."""

from flask import request
from flask_openapi3 import APIBlueprint
from werkzeug.wrappers import Response

from proteron.api import anomaly_shapes as views
from proteron.api import shapes
from proteron.api.lines import finite
from proteron.api.services import answer, services
from proteron.core.anomalies import Flag
from proteron.core.anomalies.watching import Watching, load_watching
from proteron.core.errors import SettingsError
from proteron.records.models import Watched
from proteron.services.anomalies import watched

blueprint = APIBlueprint("watched", __name__, url_prefix="/api/v1")
_ONE = "/watched/<int:watched_id>"


@blueprint.post("/projects/<int:project_id>/watched", responses={201: views.WatchedView, 422: shapes.Problem})
def keep(path: shapes.ProjectPath, query: views.WatchedQuery) -> Response:
    """Keep the state in the request's body, as `proteron watch` or the library saved it."""
    made, found = watched.keep(services(), path.project_id, query.name, request.get_data())
    return answer(_view(made, found), 201)


@blueprint.get("/projects/<int:project_id>/watched", responses={200: views.WatchedListView, 404: shapes.Problem})
def list_watched(path: shapes.ProjectPath) -> Response:
    """Watched panels of a project, the newest first."""
    with services().database.session() as session:
        found = watched.watched_of(session, path.project_id)
        return answer(views.WatchedListView(watched=[_brief(each) for each in found]))


@blueprint.get(_ONE, responses={200: views.WatchedView, 404: shapes.Problem})
def view(path: views.WatchedPath) -> Response:
    """How far a panel is known, and which flags go on."""
    with services().database.session() as session:
        record = watched.get_watched(session, path.watched_id)
    with services().computing():
        return answer(_view(record, load_watching(record.state)))


@blueprint.post(f"{_ONE}/points", responses={200: views.RaisedView, 404: shapes.Problem, 422: shapes.Problem})
def move(path: views.WatchedPath, body: views.PointsBody) -> Response:
    """Take further points, and tell what they raised."""
    points = {each.key: (each.start, each.values) for each in body.series}
    if len(points) < len(body.series):
        raise SettingsError("A series comes once in a delivery.", field="series")
    record, found, raised = watched.move(services(), path.watched_id, points)
    return answer(views.RaisedView(**_view(record, found).model_dump(), raised=[_flag(each) for each in raised]))


@blueprint.get(f"{_ONE}/state")
def state(path: views.WatchedPath) -> Response:
    """The state as a file, from which it goes on elsewhere."""
    with services().database.session() as session:
        record = watched.get_watched(session, path.watched_id)
    headers = {"Content-Disposition": 'attachment; filename="watched.npz"'}
    return Response(record.state, content_type="application/zip", headers=headers)


@blueprint.delete(_ONE, responses={200: views.WatchedBrief, 404: shapes.Problem})
def forget(path: views.WatchedPath) -> Response:
    """Watch it no longer; says what that was."""
    with services().database.session() as session:
        return answer(_brief(watched.forget(session, path.watched_id)))


def _brief(record: Watched) -> views.WatchedBrief:
    return views.WatchedBrief(id=record.id, name=record.name, moved=record.moved.isoformat())


def _view(record: Watched, found: Watching) -> views.WatchedView:
    return views.WatchedView(
        id=record.id, name=record.name, step=str(found.axis.step), series=len(found.watches),
        points=sum(each.points for each in found.watches.values()), moved=record.moved.isoformat(),
        open=[_flag(each) for each in found.open],
    )  # fmt: skip


def _flag(flag: Flag) -> views.WatchedFlagView:
    return views.WatchedFlagView(
        key=flag.key, kind=flag.kind, since=f"{flag.time}Z", points=flag.stop - flag.start, score=flag.score,
        observed=finite(flag.observed), expected=finite(flag.expected), sentence=flag.sentence,
    )  # fmt: skip
