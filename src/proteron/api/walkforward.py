"""Walk-forward: experiments, their boards, and forecasts from any cutoff."""

import numpy as np
from flask_openapi3 import APIBlueprint
from werkzeug.wrappers import Response

from proteron.api import shapes
from proteron.api.kept import tagged
from proteron.api.lines import epochs
from proteron.api.projects import experiment_brief
from proteron.api.services import answer, series_index, services
from proteron.core.experiment import Judging
from proteron.core.judge import Fold
from proteron.core.panel import Panel
from proteron.records import experiments as records
from proteron.services import boards, experiments, forecasts

blueprint = APIBlueprint("walkforward", __name__, url_prefix="/api/v1")


@blueprint.post(
    "/projects/<int:project_id>/experiments",
    responses={201: shapes.ExperimentView, 404: shapes.Problem, 422: shapes.Problem},
)
def new_experiment(path: shapes.ProjectPath, body: shapes.NewExperiment) -> Response:
    """Store an experiment, make it the project's choice, and start it."""
    judging = Judging.model_validate({name: getattr(body, name) for name in Judging.model_fields})
    experiment_id = experiments.create_and_start(
        services(), path.project_id, body.dataset_id, "judge", body.name, judging, body.run, body.search
    )
    return answer_experiment(experiment_id, 201)


@blueprint.get("/experiments/<int:experiment_id>", responses={200: shapes.ExperimentView, 404: shapes.Problem})
def view_experiment(path: shapes.ExperimentPath) -> Response:
    """An experiment: settings, folds, contenders, progress and failures. Its ETag stands for its name."""
    return answer_experiment(path.experiment_id)


@blueprint.post("/experiments/<int:experiment_id>/run", responses={200: shapes.ExperimentView, 409: shapes.Problem})
def run_experiment(path: shapes.ExperimentPath) -> Response:
    """Run or continue: only cells that are missing or failed are computed."""
    experiments.start(services().database, services().queue, path.experiment_id)
    return answer_experiment(path.experiment_id)


@blueprint.post("/experiments/<int:experiment_id>/stop", responses={200: shapes.ExperimentView})
def stop_experiment(path: shapes.ExperimentPath) -> Response:
    """Stop; finished cells stay."""
    with services().database.session() as session:
        experiments.stop(session, services().queue, path.experiment_id)
    return answer_experiment(path.experiment_id)


@blueprint.get("/experiments/<int:experiment_id>/board", responses={200: shapes.BoardView, 422: shapes.Problem})
def board(path: shapes.ExperimentPath, query: shapes.BoardQuery) -> Response:
    """The board over the cells finished so far; skill by the metric asked for."""
    with services().database.session() as session:
        experiment = records.get_experiment(session, path.experiment_id)
        tally = records.tally(session, experiment.id)
        with services().computing():
            panel = services().panel(experiment.dataset_id)
            found = boards.board_of(session, experiment, panel, query.metric, query.weighting)
    rows = [
        shapes.BoardRowView(**{name: row[name] for name in shapes.BoardRowView.model_fields if name != "errors"},
                            errors=dict(row.errors))
        for row in found
    ]  # fmt: skip
    return answer(
        shapes.BoardView(
            state=experiment.state,
            metrics=[shapes.MetricView.of(name) for name in found.metrics],
            skill_metric=found.skill_metric,
            notes=list(found.notes),
            verdict=found.verdict,
            resampled=found.evidence.resampled,
            ranks=None
            if found.evidence.ranks is None
            else shapes.RanksView.model_validate(found.evidence.ranks, from_attributes=True),
            rows=rows,
            **tally,
        )
    )


@blueprint.get(
    "/experiments/<int:experiment_id>/deceptions", responses={200: shapes.DeceptionsView, 422: shapes.Problem}
)
def deceptions(path: shapes.ExperimentPath, query: shapes.DeceptionsQuery) -> Response:
    """The ways in which entrants' numbers deceive, each named where it applies, by the cells finished so far."""
    with services().database.session() as session:
        experiment = records.get_experiment(session, path.experiment_id)
        with services().computing():
            panel = services().panel(experiment.dataset_id)
            caution, found = boards.deceptions_of(session, experiment, panel, query.metric)
            used = boards.used_before(session, experiment, panel)
    views = [shapes.DeceptionView.model_validate(each, from_attributes=True) for each in found]
    return answer(shapes.DeceptionsView(used=used, caution=caution, deceptions=views))


@blueprint.post("/experiments/<int:experiment_id>/forecasts", responses={200: shapes.ForecastsView})
def forecasts_at(path: shapes.ExperimentPath, body: shapes.ForecastsBody) -> Response:
    """Each contender's forecast of one series from an origin, with the state of the last fold learned by then."""
    with services().database.session() as session:
        panel = services().panel(records.get_experiment(session, path.experiment_id).dataset_id)
    series_index(panel, body.series)
    fold, found, note = forecasts.forecasts_at(
        services(), path.experiment_id, body.series, body.origin, body.contenders
    )
    time = epochs(panel.axis, np.array([body.origin - 1]))[0]
    views = [_forecast_view(panel, each) for each in found]
    return answer(shapes.ForecastsView(origin=body.origin, time=time, fold=fold, forecasts=views, note=note))


def _forecast_view(panel: Panel, found: forecasts.FromCutoff) -> shapes.ForecastView:
    bounds = found.bounds
    return shapes.ForecastView(
        contender=found.contender, fold=found.fold, stored=found.stored, times=epochs(panel.axis, found.positions),
        mean=found.mean.tolist(), flat_mean=found.flat_mean.tolist(), levels=list(found.levels),
        lower=[] if bounds is None else bounds[:, 0].tolist(), upper=[] if bounds is None else bounds[:, 1].tolist(),
    )  # fmt: skip


def fold_view(place: Fold) -> shapes.FoldView:
    """Where a fold lies, on the grid."""
    return shapes.FoldView(
        learn_start=place.learn_start, cutoff=place.cutoff, score_start=place.score_start, score_stop=place.score_stop
    )  # fmt: skip


def answer_experiment(experiment_id: int, status: int = 200) -> Response:
    with services().database.session() as session:
        experiment = records.get_experiment(session, experiment_id)
        progress = experiments.progress_of(session, experiment)
        judging = experiments.judging_of(experiment)
        failures = [
            shapes.FailureView(**each) for each in records.failures_of(session, experiment_id)
            if each["contender"] in judging.entrants
        ]  # fmt: skip
    panel = services().panel(experiment.dataset_id)
    folds, sealed = judging.folds.resolve(panel), judging.folds.resolve_sealed(panel)
    contenders = [
        shapes.ContenderView(
            name=entry.name, label=entry.forecaster.label, family=entry.forecaster.family,
            chain=entry.contender.chain.text, way=entry.forecaster.way, document=entry.model_dump(mode="json"),
        )
        for entry in judging.contenders
    ]  # fmt: skip
    brief = experiment_brief(experiment, vars(progress))
    view = shapes.ExperimentView(
        **brief.model_dump(), seed=judging.seed, baseline=judging.chosen_baseline, metrics=list(judging.metrics),
        levels=list(judging.levels), design=judging.folds.model_dump(mode="json"), horizon=judging.folds.horizon,
        gap=judging.folds.gap, folds=[fold_view(place) for place in folds],
        sealed=[fold_view(place) for place in sealed], contenders=contenders, failures=failures,
        seconds_left=progress.seconds_left, searches=experiment.search is not None,
    )  # fmt: skip
    return tagged(answer(view, status), "experiments", experiment)
