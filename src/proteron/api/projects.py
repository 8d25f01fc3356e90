"""Projects: what there is, what the rooms stand on, and what is out of date."""

from typing import Any

from flask import Response as FlaskResponse
from flask_openapi3 import APIBlueprint
from sqlalchemy import select
from sqlalchemy.orm import Session
from werkzeug.wrappers import Response

from proteron.api import shapes
from proteron.api.services import answer, services
from proteron.core.flatten.chain import STAGES
from proteron.core.forecasters import FORECASTERS
from proteron.core.intake import ROLES
from proteron.core.judge import METRICS, Folds
from proteron.core.windows import WindowPlan
from proteron.records import experiments as records
from proteron.records import projects
from proteron.records.datasets import datasets_of
from proteron.records.models import Experiment, OutlookRecord

blueprint = APIBlueprint("projects", __name__, url_prefix="/api/v1")


@blueprint.get("/projects", responses={200: shapes.ProjectList})
def list_projects() -> Response:
    """All projects."""
    with services().database.session() as session:
        rows = [{"id": each.id, "name": each.name} for each in projects.all_projects(session)]
    return answer(shapes.ProjectList(projects=rows))


@blueprint.post("/projects", responses={201: shapes.Project, 409: shapes.Problem})
def create_project(body: shapes.NewProject) -> Response:
    """A new, empty project."""
    with services().database.session() as session:
        project = projects.create_project(session, body.name.strip())
        return answer(_view(session, project.id), 201)


@blueprint.get("/projects/<int:project_id>", responses={200: shapes.Project, 404: shapes.Problem})
def get_project(path: shapes.ProjectPath) -> Response:
    """A project with its datasets, experiments, outlooks and the state of its rooms."""
    with services().database.session() as session:
        return answer(_view(session, path.project_id))


@blueprint.patch("/projects/<int:project_id>/choices", responses={200: shapes.Project, 404: shapes.Problem})
def change_choices(path: shapes.ProjectPath, body: shapes.Choices) -> Response:
    """Set what the rooms stand on; fields that are not sent stay."""
    given = body.model_dump(mode="json", include=body.model_fields_set)
    with services().database.session() as session:
        projects.choose(session, path.project_id, given)
        return answer(_view(session, path.project_id))


@blueprint.get("/projects/<int:project_id>/events")
def events(path: shapes.ProjectPath) -> FlaskResponse:
    """Server-sent events: experiments, cells and outlooks of this project as they change."""
    with services().database.session() as session:
        projects.get_project(session, path.project_id)
    lines = services().hub.stream(path.project_id)
    headers = {"Cache-Control": "no-store", "X-Accel-Buffering": "no"}
    return FlaskResponse(lines, content_type="text/event-stream", headers=headers)


@blueprint.get("/catalogue", responses={200: shapes.Catalogue})
def catalogue() -> Response:
    """Settings schemas of everything that has settings."""

    def by_kind(models: Any) -> dict[str, Any]:
        return {
            m.model_fields["kind"].default: {
                **m.model_json_schema(),
                "title": m.title,
                "group": getattr(m, "group", "") or getattr(m, "family", ""),
                "can": list(getattr(m, "can", ())),
            }
            for m in models
        }

    return answer(
        shapes.Catalogue(
            stages=by_kind(STAGES),
            forecasters=by_kind(FORECASTERS),
            folds=Folds.model_json_schema(),
            plan=WindowPlan.model_json_schema(),
            metrics={name: metric.title for name, metric in METRICS.items()},
            roles=list(ROLES),
        )
    )


def experiment_brief(session: Session, experiment: Experiment) -> shapes.ExperimentBrief:
    tally = records.tally(session, experiment.id)
    return shapes.ExperimentBrief(
        id=experiment.id, dataset_id=experiment.dataset_id, purpose=experiment.purpose, name=experiment.name,
        state=experiment.state, reason=experiment.reason, **tally,
    )  # fmt: skip


def outlook_brief(record: OutlookRecord) -> shapes.OutlookBrief:
    return shapes.OutlookBrief(
        id=record.id, experiment_id=record.experiment_id, contender=record.document["contender"],
        state=record.state, reason=record.reason,
    )  # fmt: skip


def _view(session: Session, project_id: int) -> shapes.Project:
    project = projects.get_project(session, project_id)
    datasets = datasets_of(session, project_id)
    experiments = [experiment_brief(session, each) for each in records.experiments_of(session, project_id)]
    query = select(OutlookRecord).where(OutlookRecord.project_id == project_id).order_by(OutlookRecord.id.desc())
    outlooks = [outlook_brief(each) for each in session.scalars(query)]
    briefs = [
        shapes.DatasetBrief(
            id=d.id,
            version=d.version,
            name=d.name,
            hash=d.hash,
            created=d.created.isoformat(),
            parent_id=d.parent_id,
            series=d.account.get("series", 0),
            points=d.layout["points"],
            done=_done(d.account),
        )
        for d in datasets
    ]
    rooms = _rooms(project.choices, experiments, outlooks)
    return shapes.Project(
        id=project.id, name=project.name, choices=project.choices, datasets=briefs, experiments=experiments,
        outlooks=outlooks, rooms=rooms,
    )  # fmt: skip


def _done(account: dict[str, Any]) -> str:
    """What made a version, in a few words."""
    edits = account.get("edits", ())
    if not edits:
        files = account.get("files") or ()
        return f"read from {len(files)} files" if files else f"read as {account.get('reader', 'a table')}"
    words = {
        "unmask": "mask taken off", "unfill": "fills taken out", "exclude": "series left out", "coarser": "summed up",
        "resampling": "another step", "filling_of": "gaps filled", "masks": "span masked", "occasions": "occasions",
        "holidays": "public holidays",
    }  # fmt: skip
    said = [text for name, text in words.items() if edits[-1].get(name)]
    if edits[-1].get("filling", {}).get("method", "leave") != "leave":
        said.append("gaps filled")
    return ", ".join(said) or "changed"


def _rooms(
    choices: dict[str, Any], experiments: list[shapes.ExperimentBrief], outlooks: list[shapes.OutlookBrief]
) -> dict[str, shapes.RoomState]:
    """A room is out of date when what it shows was made from something other than the present choice upstream."""
    empty, current = shapes.RoomState(state="empty"), shapes.RoomState(state="current")
    dataset = choices.get("dataset_id")
    by_id = {each.id: each for each in experiments}
    judged, scan = by_id.get(choices.get("experiment_id", 0)), by_id.get(choices.get("scan_id", 0))
    outlook = next((each for each in outlooks if each.id == choices.get("outlook_id")), None)
    rooms = dict.fromkeys(("intake", "profile"), current if dataset else empty)
    rooms["flatten"] = current if dataset and choices.get("chain") else empty
    rooms["windows"] = current if dataset and choices.get("plan") else empty
    for name, experiment in (("walkforward", judged), ("anomalies", scan)):
        rooms[name] = empty
        if experiment is not None:
            rooms[name] = current
            if experiment.dataset_id != dataset:
                rooms[name] = shapes.RoomState(state="outdated", reason="made from another version of the data")
    rooms["outlook"] = empty
    if outlook is not None:
        source = by_id.get(outlook.experiment_id)
        stale = source is None or source.dataset_id != dataset or source.id != choices.get("experiment_id")
        reason = "made from another experiment or version of the data"
        rooms["outlook"] = shapes.RoomState(state="outdated", reason=reason) if stale else current
    return rooms
