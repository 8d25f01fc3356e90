"""Projects: what there is, what the rooms stand on, and what is out of date."""

from collections.abc import Mapping
from typing import Any

from flask import Response as FlaskResponse
from flask_openapi3 import APIBlueprint
from sqlalchemy.orm import Session
from werkzeug.wrappers import Response

from proteron.api import shapes
from proteron.api.kept import known_revision, tagged, view_of
from proteron.api.services import answer, hub, services
from proteron.core.flatten.registry import STAGES
from proteron.core.forecasters import FORECASTERS
from proteron.core.forecasters.blend.forecaster import Blend
from proteron.core.intake import ROLES
from proteron.core.judge import DEFAULT_METRICS, METRICS, Folds
from proteron.core.windows import WindowPlan
from proteron.records import experiments as records
from proteron.records import projects
from proteron.records.datasets import datasets_of
from proteron.records.kept import deleted_projects
from proteron.records.models import Experiment, OutlookRecord, Project, Scan
from proteron.records.outlooks import outlooks_of
from proteron.records.scans import scanned, scans_of
from proteron.runner.work import running_work
from proteron.services.rooms import made_by, room_states

blueprint = APIBlueprint("projects", __name__, url_prefix="/api/v1")


@blueprint.get("/projects", responses={200: shapes.ProjectList})
def list_projects() -> Response:
    """All projects."""
    with services().database.session() as session:
        rows = [
            shapes.ProjectName(id=each.id, revision=each.revision, name=each.name)
            for each in projects.all_projects(session)
        ]
        gone = [view_of("projects", each) for each in deleted_projects(session)]
    return answer(shapes.ProjectList(projects=rows, deleted=gone))


@blueprint.post("/projects", responses={201: shapes.Project, 409: shapes.Problem})
def create_project(body: shapes.NewProject) -> Response:
    """A new, empty project."""
    with services().database.session() as session:
        return _answer(session, projects.create_project(session, body.name.strip()).id, 201)


@blueprint.get("/projects/<int:project_id>", responses={200: shapes.Project, 404: shapes.Problem})
def get_project(path: shapes.ProjectPath) -> Response:
    """A project with its datasets, experiments, outlooks and the state of its rooms.

    Its ETag stands for its name and choices, which is what can be changed in it.
    """
    with services().database.session() as session:
        return _answer(session, path.project_id)


@blueprint.patch(
    "/projects/<int:project_id>/choices",
    responses={200: shapes.Project, 404: shapes.Problem, 412: shapes.Problem},
)
def change_choices(path: shapes.ProjectPath, header: shapes.IfMatch, body: shapes.Choices) -> Response:
    """Set what the rooms stand on; fields that are not sent stay."""
    given = body.model_dump(mode="json", include=body.model_fields_set)
    with services().database.session() as session:
        projects.choose(session, path.project_id, given, known_revision("projects", path.project_id))
        return _answer(session, path.project_id)


@blueprint.get("/projects/<int:project_id>/events")
def events(path: shapes.ProjectPath) -> FlaskResponse:
    """Server-sent events: experiments, cells and outlooks of this project as they change."""
    with services().database.session() as session:
        projects.get_project(session, path.project_id)
    lines = hub().stream(path.project_id)
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
            forecasters=by_kind((*FORECASTERS, Blend)),
            folds=Folds.model_json_schema(),
            plan=WindowPlan.model_json_schema(),
            metrics={name: shapes.MetricView.of(name) for name in METRICS},
            default_metrics=list(DEFAULT_METRICS),
            roles=list(ROLES),
        )
    )


def experiment_brief(experiment: Experiment, tally: Mapping[str, Any]) -> shapes.ExperimentBrief:
    return shapes.ExperimentBrief(
        id=experiment.id, revision=experiment.revision, dataset_id=experiment.dataset_id,
        name=experiment.name,
        state=experiment.state, reason=experiment.reason, cells=tally["cells"], done=tally["done"],
        failed=tally["failed"],
    )  # fmt: skip


def scan_brief(scan: Scan, done: int) -> shapes.ScanBrief:
    told = scan.document
    return shapes.ScanBrief(
        id=scan.id, dataset_id=scan.dataset_id, mode=told["mode"], using=told["using"], contender=told.get("contender"),
        delay=told["delay"], until=told["until"], state=scan.state, reason=scan.reason, done=done, series=scan.series,
        created=scan.created.isoformat(),
    )  # fmt: skip


def outlook_brief(record: OutlookRecord) -> shapes.OutlookBrief:
    return shapes.OutlookBrief(
        id=record.id, experiment_id=record.experiment_id, dataset_id=record.dataset_id,
        contender=record.document["contender"], state=record.state, share=record.share, reason=record.reason,
    )  # fmt: skip


def _answer(session: Session, project_id: int, status: int = 200) -> Response:
    project = projects.get_project(session, project_id)
    session.flush()
    return tagged(answer(_view(session, project), status), "projects", project)


def _view(session: Session, project: Project) -> shapes.Project:
    project_id = project.id
    experiments = records.experiments_of(session, project_id)
    tallies = records.tallies(session, [each.id for each in experiments])
    outlooks = outlooks_of(session, project_id)
    briefs = [
        shapes.DatasetBrief(
            id=d.id,
            revision=d.revision,
            version=d.version,
            name=d.name,
            hash=d.hash,
            created=d.created.isoformat(),
            parent_id=d.parent_id,
            series=d.account.get("series", 0),
            points=d.layout["points"],
            done=made_by(d.account),
        )
        for d in datasets_of(session, project_id)
    ]
    scans = scans_of(session, project_id)
    done = scanned(session, [each.id for each in scans])
    by_id: list[dict[int, Any]] = [{each.id: each for each in found} for found in (experiments, scans, outlooks)]
    states = room_states(project.choices, *by_id)
    return shapes.Project(
        id=project.id, revision=project.revision, name=project.name, choices=project.choices, datasets=briefs,
        experiments=[experiment_brief(each, tallies[each.id]) for each in experiments],
        outlooks=[outlook_brief(each) for each in outlooks],
        scans=[scan_brief(each, done[each.id]) for each in scans],
        running=[shapes.RunningView(**vars(each)) for each in running_work(session, project_id)],
        rooms={name: shapes.RoomState(**vars(state)) for name, state in states.items()},
    )  # fmt: skip
