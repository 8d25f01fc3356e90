"""Evidence at a glance: errors and skill by any view of the points, errors in time, criteria side by side."""

from flask_openapi3 import APIBlueprint
from werkzeug.wrappers import Response

from proteron.api import glance_shapes as views
from proteron.api import shapes
from proteron.api.lines import epochs
from proteron.api.services import answer, series_index, services
from proteron.records import experiments as records
from proteron.services import boards

blueprint = APIBlueprint("glance", __name__, url_prefix="/api/v1")


@blueprint.get(
    "/experiments/<int:experiment_id>/breakdown",
    responses={200: views.BreakdownView, 404: shapes.Problem, 422: shapes.Problem},
)
def breakdown(path: shapes.ExperimentPath, query: views.BreakdownQuery) -> Response:
    """Errors and skill of every entrant by fold, step ahead, series or slot of the calendar."""
    with services().database.session() as session:
        experiment = records.get_experiment(session, path.experiment_id)
        with services().computing():
            panel = services().panel(experiment.dataset_id)
            found = boards.breakdown_of(session, experiment, panel, query.by, query.metric, query.weighting)
    return answer(
        views.BreakdownView(
            metric=shapes.MetricView.of(found.metric), names=list(found.errors.names),
            labels=list(found.errors.labels), errors=found.errors.values.tolist(),
            skill=[] if found.skill is None else found.skill.values.tolist(),
        )
    )  # fmt: skip


@blueprint.get(
    "/experiments/<int:experiment_id>/errors",
    responses={200: views.ErrorsInTimeView, 404: shapes.Problem, 422: shapes.Problem},
)
def errors(path: shapes.ExperimentPath, query: views.ErrorsQuery) -> Response:
    """Every error on one series by time: of the forecast made last before it, or so many steps ahead."""
    with services().database.session() as session:
        experiment = records.get_experiment(session, path.experiment_id)
        with services().computing():
            panel = services().panel(experiment.dataset_id)
            series = series_index(panel, query.series)
            found = boards.errors_of(session, experiment, panel, series, query.ahead)
    entrants = [
        views.ErrorsView(
            contender=name, times=epochs(panel.axis, each.positions), ahead=each.ahead.tolist(),
            errors=each.errors.tolist(),
        )
        for name, each in found.items()
    ]  # fmt: skip
    return answer(views.ErrorsInTimeView(entrants=entrants))


@blueprint.get(
    "/experiments/<int:experiment_id>/criteria",
    responses={200: views.CriteriaView, 404: shapes.Problem, 422: shapes.Problem},
)
def criteria(path: shapes.ExperimentPath, query: views.CriteriaQuery) -> Response:
    """Information criteria of one series in one fold, ranked where they compare, beside the rank after the cutoff."""
    with services().database.session() as session:
        experiment = records.get_experiment(session, path.experiment_id)
        with services().computing():
            panel = services().panel(experiment.dataset_id)
            measure, found = boards.criteria_of(
                session, experiment, panel, query.fold, series_index(panel, query.series)
            )  # fmt: skip
    entrants = [views.RankedView.model_validate(vars(each)) for each in found]
    return answer(views.CriteriaView(metric=shapes.MetricView.of(measure), entrants=entrants))


@blueprint.get(
    "/experiments/<int:experiment_id>/signs",
    responses={200: views.SignsView, 404: shapes.Problem, 422: shapes.Problem},
)
def signs(path: shapes.ExperimentPath, query: views.SignsQuery) -> Response:
    """Two-by-two tables of signs of one entrant: of changes against the last known, and of values."""
    with services().database.session() as session:
        experiment = records.get_experiment(session, path.experiment_id)
        with services().computing():
            panel = services().panel(experiment.dataset_id)
            changes, values = boards.signs_of(session, experiment, panel, query.contender)
    return answer(views.SignsView(changes=changes, values=values))
