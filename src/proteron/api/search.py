"""Searches: what would be searched, a search's course, and what it found taken to the board."""

from flask_openapi3 import APIBlueprint
from werkzeug.wrappers import Response

from proteron.api import search_shapes as views
from proteron.api import shapes
from proteron.api.services import answer, services
from proteron.api.walkforward import answer_experiment
from proteron.core.experiment import ContenderEntry
from proteron.core.search import SearchSettings
from proteron.services import searches

blueprint = APIBlueprint("search", __name__, url_prefix="/api/v1")

_SERIES_SHOWN = 60


@blueprint.get(
    "/experiments/<int:experiment_id>/space",
    responses={200: views.SpaceView, 404: shapes.Problem, 422: shapes.Problem},
)
def space(path: shapes.ExperimentPath) -> Response:
    """What a search would try by what the first fold knows: families with settings, chains and plans, the cheap and
    strong first."""
    return answer(views.SpaceView(families=list(searches.space_of(services(), path.experiment_id).families)))


@blueprint.post(
    "/experiments/<int:experiment_id>/search",
    responses={200: shapes.ExperimentView, 404: shapes.Problem, 409: shapes.Problem, 422: shapes.Problem},
)
def search(path: shapes.ExperimentPath, body: views.SearchBody) -> Response:
    """Have an experiment search for more contenders, or go on with more budget; what was found before counts."""
    settings = SearchSettings.model_validate(body.model_dump())
    searches.begin_and_start(services(), path.experiment_id, settings)
    return answer_experiment(path.experiment_id)


@blueprint.post(
    "/experiments/<int:experiment_id>/search/take",
    responses={200: shapes.ExperimentView, 404: shapes.Problem, 422: shapes.Problem},
)
def take(path: shapes.ExperimentPath, body: views.TakeBody) -> Response:
    """Enter candidates that were judged on all folds, or the blend of the best, on the board."""
    searches.take(services(), path.experiment_id, body.names)
    return answer_experiment(path.experiment_id)


@blueprint.get(
    "/experiments/<int:experiment_id>/search",
    responses={200: views.SearchView, 404: shapes.Problem, 422: shapes.Problem},
)
def view_search(path: shapes.ExperimentPath) -> Response:
    """How far a search is: candidates with their course, the best so far, the blend's weights, and what luck shows."""
    found = searches.facts_of(services(), path.experiment_id)
    marks: dict[str, list[views.CandidateMarkView]] = {}
    for mark in found.course:
        view = views.CandidateMarkView(at=mark.at, fits=mark.fits, rung=mark.step.rung, error=mark.error)
        marks.setdefault(found.names[mark.step.trial], []).append(view)
    candidates = [
        views.CandidateView(
            name=each.name, family=each.family, state=each.state, error=each.error, folds=each.folds, fits=each.fits,
            seconds=each.seconds, reason=each.reason, weight=each.weight, entered=each.name in found.entered,
            document=ContenderEntry.of(each.name, each.contender), course=marks.get(each.name, []),
        )
        for each in found.trials
    ]  # fmt: skip
    return answer(
        views.SearchView(
            settings=found.settings, state=found.state, spent=found.spent, fits=found.fits,
            baseline=found.baseline,
            rungs=[
                views.RungView(folds=each.folds, series=len(each.series) or None, points=each.points)
                for each in found.rungs
            ],
            candidates=candidates, best=found.best, best_error=found.best_error, blend=found.blend_name,
            members=list(found.blended),
            weights=[views.SeriesWeightsView(key=key, weights=list(each)) for key, each in found.weights.items()][
                :_SERIES_SHOWN
            ],
            luck=None if found.luck is None else views.LuckView(**vars(found.luck)),
            moved=[views.MovedView(**vars(each)) for each in found.moved], text=found.text,
        )
    )  # fmt: skip
