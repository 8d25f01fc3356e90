"""Contenders: which suit a series, and what one of them learned in a fold."""

import numpy as np
from flask_openapi3 import APIBlueprint
from werkzeug.wrappers import Response

from proteron.api import contender_shapes as views
from proteron.api import shapes
from proteron.api.services import answer, series_index, services
from proteron.core.forecasters.explain import OneStep
from proteron.core.forecasters.pictures import Picture
from proteron.core.forecasters.registry import reasons_against
from proteron.core.profile.hypothesis_tests import TestResult
from proteron.core.profile.moved_level import moved_level
from proteron.records import experiments as records
from proteron.services import boards
from proteron.services.forecasts import Facts, facts_of

blueprint = APIBlueprint("contenders", __name__, url_prefix="/api/v1")


@blueprint.get("/datasets/<int:dataset_id>/suited", responses={200: views.SuitedView, 404: shapes.Problem})
def suited(path: shapes.DatasetPath, query: views.SuitedQuery) -> Response:
    """Which kinds of contender do not suit a series as of a cutoff, with their reasons, and whether its level moves."""
    panel = services().panel(path.dataset_id)
    series = series_index(panel, query.series)
    known = panel.select([series]).cut_at(query.until)
    moved = moved_level(known.learnable().values, known.axis.step.season)
    return answer(views.SuitedView(reasons=reasons_against(panel, series, query.until), moved=moved))


@blueprint.get("/experiments/<int:experiment_id>/facts", responses={200: views.FactsView, 404: shapes.Problem})
def facts(path: shapes.ExperimentPath, query: views.FactsQuery) -> Response:
    """What one contender learned in a fold, or in the one that had learned by `origin`: summary, pictures, checks."""
    with services().database.session() as session:
        panel = services().panel(records.get_experiment(session, path.experiment_id).dataset_id)
    series = series_index(panel, query.series)
    return answer(_view(facts_of(services(), path.experiment_id, query.contender, series, query.fold, query.origin)))


def _view(found: Facts) -> views.FactsView:
    training = found.training
    return views.FactsView(
        fold=found.fold,
        summary=found.summary,
        safeguards=found.safeguards,
        seconds=found.seconds,
        cpu_seconds=found.cpu_seconds,
        series=found.series,
        memory=found.memory,
        bytes=found.bytes,
        coefficients=[views.CoefficientView(**vars(each)) for each in found.coefficients],
        criteria=dict(found.criteria),
        one_step=_one_step_view(found.steps),
        tried=[views.TriedView(**vars(each)) for each in found.tried],
        pictures=[_picture_view(each) for each in found.pictures],
        checks=_check_views(found.checks),
        checks_after=_check_views(found.checks_after),
        loss=list(training.loss) if training else [],
        validation_loss=list(training.validation_loss) if training else [],
        other_losses=[list(each) for each in training.others] if training else [],
        kept_epoch=training.kept_epoch if training else None,
        layers=[
            views.LayerView(**vars(each) | {"lags": [pair and list(pair) for pair in each.lags]})
            for each in found.drawn
        ],
        graph=found.graph,
        windows=training.windows if training else None,
        stages=found.stages,
    )


@blueprint.get(
    "/experiments/<int:experiment_id>/calibration",
    responses={200: views.CalibrationView, 404: shapes.Problem, 422: shapes.Problem},
)
def calibration(path: shapes.ExperimentPath, query: views.CalibrationQuery) -> Response:
    """Whether an entrant's ranges hold what they say: by level, by step ahead, and between the ends of all ranges."""
    with services().database.session() as session:
        experiment = records.get_experiment(session, path.experiment_id)
        with services().computing():
            found = boards.calibration_of(
                session, experiment, services().panel(experiment.dataset_id), query.contender
            )  # fmt: skip
    plain = {name: value.tolist() if isinstance(value, np.ndarray) else value for name, value in vars(found).items()}
    return answer(views.CalibrationView.model_validate(plain))


def _check_views(checks: list[tuple[str, TestResult]]) -> list[views.CheckView]:
    return [
        views.CheckView(what=what, holds=not test.rejected, p_value=test.p_value, verdict=test.verdict)
        for what, test in checks
    ]


def _one_step_view(steps: OneStep) -> views.OneStepView:
    """Errors one step ahead inside what was learned and after it, against those of the last value there."""
    after = steps.places >= steps.cutoff
    return views.OneStepView(
        inside=steps.error(after=False), after=steps.error(after=True), last_value=steps.error_of_last_value,
        flat_inside=steps.error(False, True), flat_after=steps.error(True, True),
        points_inside=int((~after).sum()), points_after=int(after.sum()),
    )  # fmt: skip


def _picture_view(picture: Picture) -> views.PictureView:
    return views.PictureView(
        title=picture.title,
        x_label=picture.x_label,
        curves=[
            views.PictureCurve(label=each.label, x=each.x.tolist(), y=each.y.tolist(), kind=each.kind)
            for each in picture.curves
        ],
        marks=[views.PictureMark(x=x, label=label) for x, label in picture.marks],
        names=list(picture.names),
    )
