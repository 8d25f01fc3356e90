"""Walk-forward: experiments, their boards, and forecasts from any cutoff."""

from datetime import UTC, datetime
from typing import Any

import numpy as np
import tomli_w
from flask_openapi3 import APIBlueprint
from sqlalchemy.orm import Session
from werkzeug.wrappers import Response

from proteron.api import shapes
from proteron.api.datasets import file_name
from proteron.api.lines import epochs
from proteron.api.projects import experiment_brief
from proteron.api.services import answer, series_index, services
from proteron.core.errors import SettingsError
from proteron.core.forecasters.window_forecaster import WindowForecaster
from proteron.core.intake import recipe_of
from proteron.core.judge import LEVELS, CellResult, Fold
from proteron.core.panel import Panel
from proteron.records import experiments as records
from proteron.records.datasets import get_dataset
from proteron.records.models import Experiment
from proteron.records.projects import choose, get_project
from proteron.runner import plans

blueprint = APIBlueprint("walkforward", __name__, url_prefix="/api/v1")


@blueprint.post(
    "/projects/<int:project_id>/experiments",
    responses={201: shapes.ExperimentView, 404: shapes.Problem, 422: shapes.Problem},
)
def new_experiment(path: shapes.ProjectPath, body: shapes.NewExperiment) -> Response:
    """Store an experiment, make it the project's choice, and start it."""
    naive = [entry.name for entry in body.contenders if entry.contender.is_baseline]
    baseline = body.baseline or (naive[0] if naive else body.contenders[0].name if body.contenders else "")
    plan = plans.ExperimentPlan(
        seed=body.seed, folds=body.folds, metrics=tuple(body.metrics), baseline=baseline,
        contenders=tuple(body.contenders),
    )  # fmt: skip
    experiment_id = start_experiment(path.project_id, body.dataset_id, body.purpose, body.name, plan, body.run)
    return answer_experiment(experiment_id, 201)


def start_experiment(
    project_id: int, dataset_id: int, purpose: str, name: str, plan: plans.ExperimentPlan, run: bool
) -> int:
    """Store first, then queue: a crash in between is mended by the worker's sweep."""
    with services().database.session() as session:
        get_project(session, project_id)
        if get_dataset(session, dataset_id).project_id != project_id:
            raise SettingsError("This dataset belongs to another project.", field="dataset_id")
    panel = services().panel(dataset_id)
    with services().database.session() as session:
        experiment = plans.create(session, panel, project_id, dataset_id, purpose, name, plan)
        choose(session, project_id, {"experiment_id" if purpose == "judge" else "scan_id": experiment.id})
        if not run:
            records.set_state(session, experiment.id, "stopped")
    if run:
        with services().database.session() as session:
            plans.start(session, services().queue, experiment.id, panel)
    return experiment.id


@blueprint.get("/experiments/<int:experiment_id>", responses={200: shapes.ExperimentView, 404: shapes.Problem})
def view_experiment(path: shapes.ExperimentPath) -> Response:
    """An experiment: settings, folds, contenders, progress and failures."""
    return answer_experiment(path.experiment_id)


@blueprint.post("/experiments/<int:experiment_id>/run", responses={200: shapes.ExperimentView, 409: shapes.Problem})
def run_experiment(path: shapes.ExperimentPath) -> Response:
    """Run or continue: only cells that are missing or failed are computed."""
    with services().database.session() as session:
        dataset_id = records.get_experiment(session, path.experiment_id).dataset_id
    panel = services().panel(dataset_id)
    with services().database.session() as session:
        plans.start(session, services().queue, path.experiment_id, panel)
    return answer_experiment(path.experiment_id)


@blueprint.post("/experiments/<int:experiment_id>/stop", responses={200: shapes.ExperimentView})
def stop_experiment(path: shapes.ExperimentPath) -> Response:
    """Stop; finished cells stay."""
    with services().database.session() as session:
        plans.stop(session, services().queue, path.experiment_id)
    return answer_experiment(path.experiment_id)


@blueprint.get("/experiments/<int:experiment_id>/board", responses={200: shapes.BoardView})
def board(path: shapes.ExperimentPath) -> Response:
    """The board over the cells finished so far."""
    with services().database.session() as session:
        experiment = records.get_experiment(session, path.experiment_id)
        panel = services().panel(experiment.dataset_id)
        tally = records.tally(session, experiment.id)
        results = plans.results_of(session, experiment, panel)
    with services().computing():
        rows = plans.board_of(plans.plan_of(experiment), panel, results)
    return answer(shapes.BoardView(state=experiment.state, rows=rows, **tally))


@blueprint.post("/experiments/<int:experiment_id>/forecasts", responses={200: shapes.ForecastsView})
def forecasts(path: shapes.ExperimentPath, body: shapes.ForecastsBody) -> Response:
    """Each contender's forecast of one series from an origin, with the state of the last fold learned by then."""
    with services().database.session() as session:
        experiment = records.get_experiment(session, path.experiment_id)
        panel = services().panel(experiment.dataset_id)
        series_index(panel, body.series)
        plan = plans.plan_of(experiment)
        places = plan.folds.resolve(panel)
        learned = [index for index, place in enumerate(places) if place.cutoff <= body.origin]
        wanted = body.contenders or [entry.name for entry in plan.contenders]
        cells = [
            cell
            for cell in plan.cells(panel, get_dataset(session, experiment.dataset_id).hash)
            if learned and cell.fold == learned[-1] and body.series in cell.series and cell.name in wanted
        ]
        results = records.load_results(session, cells)
    time = epochs(panel.axis, np.array([body.origin - 1]))[0]
    if not learned:
        first = str(panel.axis.local(np.array([places[0].cutoff - 1]))[0]).replace("T", " ")
        note = f"No fold had learned by then; the first cutoff is {first}."
        return answer(shapes.ForecastsView(origin=body.origin, time=time, forecasts=[], note=note))
    with services().computing():
        views = [_forecast(panel, result, body) for result in results]
    order = {name: number for number, name in enumerate(wanted)}
    views.sort(key=lambda view: order[view.contender])
    return answer(shapes.ForecastsView(origin=body.origin, time=time, forecasts=views))


def _forecast(panel: Panel, result: CellResult, body: shapes.ForecastsBody) -> shapes.ForecastView:
    place = result.cell.place
    row = result.cell.series.index(body.series)
    stored = np.flatnonzero(result.origins == body.origin)
    times = epochs(panel.axis, body.origin + place.gap + np.arange(place.horizon))
    view = shapes.ForecastView(
        contender=result.cell.name, fold=result.cell.fold, stored=len(stored) > 0, times=times, mean=[], flat_mean=[]
    )  # fmt: skip
    if len(stored):
        view.mean = result.mean[row, stored[0]].tolist()
        view.flat_mean = result.flat_mean[row, stored[0]].tolist()
        if stored[0] == 0:
            view.levels = list(LEVELS)
            view.lower = result.ranges[:, 0, row].tolist()
            view.upper = result.ranges[:, 1, row].tolist()
        return view
    alone = panel.select([body.series])
    known = alone.between(place.learn_start, body.origin)
    mean, flat = result.fitted(known).means(known, np.array([body.origin]), place.gap + place.horizon)
    view.mean = mean[0, 0, place.gap :].tolist()
    view.flat_mean = flat[0, 0, place.gap :].tolist()
    return view


@blueprint.get("/experiments/<int:experiment_id>/experiment.toml")
def experiment_file(path: shapes.ExperimentPath) -> Response:
    """The experiment as a file the command line runs, with the same numbers."""
    with services().database.session() as session:
        experiment = records.get_experiment(session, path.experiment_id)
        panel = services().panel(experiment.dataset_id)
        document = file_document(session, experiment, panel)
    headers = {"Content-Disposition": 'attachment; filename="experiment.toml"'}
    return Response(tomli_w.dumps(document), content_type="application/toml; charset=utf-8", headers=headers)


def file_document(session: Session, experiment: Experiment, panel: Panel) -> dict[str, Any]:
    """The experiment file's content; its data is the dataset as exported in CSV."""
    dataset = get_dataset(session, experiment.dataset_id)
    plan = _without_none(plans.plan_of(experiment).model_dump(mode="json"))
    recipe = recipe_of(panel).model_dump(mode="json", exclude_defaults=True)
    data = {"file": f"{file_name(dataset.name)}.csv", "dataset": dataset.hash, "recipe": _without_none(recipe)}
    document: dict[str, Any] = {"schema_version": 1, "name": experiment.name, **plan, "data": data}
    document["outlook"] = {"horizon": plan["folds"]["horizon"]}
    return document


def _without_none(value: Any) -> Any:
    if isinstance(value, dict):
        return {name: _without_none(each) for name, each in value.items() if each is not None}
    if isinstance(value, list):
        return ["choose" if each is None else _without_none(each) for each in value]
    return value


def _fold_view(place: Fold) -> shapes.FoldView:
    return shapes.FoldView(
        learn_start=place.learn_start, cutoff=place.cutoff, score_start=place.score_start, score_stop=place.score_stop
    )  # fmt: skip


def answer_experiment(experiment_id: int, status: int = 200) -> Response:
    with services().database.session() as session:
        experiment = records.get_experiment(session, experiment_id)
        brief = experiment_brief(session, experiment)
        failures = records.failures_of(session, experiment_id)
    panel = services().panel(experiment.dataset_id)
    plan = plans.plan_of(experiment)
    contenders = []
    for entry in plan.contenders:
        forecaster = entry.forecaster
        way = forecaster.strategy if isinstance(forecaster, WindowForecaster) else "own"
        contenders.append(
            shapes.ContenderView(
                name=entry.name, label=forecaster.label, family=forecaster.family, chain=entry.contender.chain.text,
                way=way, document=entry.model_dump(mode="json"),
            )
        )  # fmt: skip
    view = shapes.ExperimentView(
        **brief.model_dump(), seed=plan.seed, baseline=plan.baseline, metrics=list(plan.metrics),
        horizon=plan.folds.horizon, gap=plan.folds.gap, folds=[_fold_view(p) for p in plan.folds.resolve(panel)],
        contenders=contenders, failures=failures, seconds_left=_seconds_left(experiment, brief),
    )  # fmt: skip
    return answer(view, status)


def _seconds_left(experiment: Experiment, brief: shapes.ExperimentBrief) -> float | None:
    """Time so far, scaled by the cells that are left."""
    finished = brief.done + brief.failed
    if experiment.state != "running" or experiment.started is None or not finished:
        return None
    passed = (datetime.now(UTC) - experiment.started).total_seconds()
    return passed / finished * (brief.cells - finished)
