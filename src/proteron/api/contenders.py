"""Contenders: which suit a series, and what one of them learned in a fold."""

from dataclasses import replace

from flask_openapi3 import APIBlueprint
from werkzeug.wrappers import Response

from proteron.api import contender_shapes as facts_of
from proteron.api import shapes
from proteron.api.services import answer, series_index, services
from proteron.core.forecasters.explain import (
    OneStep,
    Picture,
    fit_pictures,
    joint_picture,
    one_step,
    residual_checks,
)
from proteron.core.forecasters.local import LocalForecaster
from proteron.core.forecasters.registry import reasons_against
from proteron.core.judge import CellResult
from proteron.core.panel import Panel
from proteron.records import experiments as records
from proteron.records.database import NotFoundError
from proteron.runner import plans

_TRIED = 40
_COEFFICIENTS = 300

blueprint = APIBlueprint("contenders", __name__, url_prefix="/api/v1")


@blueprint.get("/datasets/<int:dataset_id>/suited", responses={200: facts_of.SuitedView, 404: shapes.Problem})
def suited(path: shapes.DatasetPath, query: facts_of.SuitedQuery) -> Response:
    """Which kinds of contender do not suit a series as of a cutoff, with their reasons; settings as they begin."""
    panel = services().panel(path.dataset_id)
    return answer(facts_of.SuitedView(reasons=reasons_against(panel, series_index(panel, query.series), query.until)))


@blueprint.get("/experiments/<int:experiment_id>/facts", responses={200: facts_of.FactsView, 404: shapes.Problem})
def facts(path: shapes.ExperimentPath, query: facts_of.FactsQuery) -> Response:
    """What one contender learned in one fold: summary, coefficients, pictures, checks, training curves."""
    with services().database.session() as session:
        experiment = records.get_experiment(session, path.experiment_id)
        panel = services().panel(experiment.dataset_id)
        series_index(panel, query.series)
        cells = [
            cell
            for cell in plans.cells_of(session, experiment, panel)
            if cell.name == query.contender and cell.fold == query.fold and query.series in cell.series
        ]
        results = records.load_results(session, cells)
    if not results:
        raise NotFoundError("This cell has no result yet.")
    with services().computing():
        return answer(_facts(results[0], panel, query.series))


def _facts(result: CellResult, panel: Panel, series: int) -> facts_of.FactsView:
    fitted, place, key = result.fitted(panel), result.cell.place, panel.keys[series]
    forecaster, learned = result.cell.contender.forecaster, fitted.state.facts
    known = panel.select([series]).between(place.learn_start, place.cutoff)
    steps = one_step(replace(fitted, known=known), panel, key, place.learn_start, place.score_stop)
    pictures = forecaster.pictures(fitted.state, fitted.chain.apply(known.learnable()), key)
    checks: list[facts_of.CheckView] = []
    if isinstance(forecaster, LocalForecaster):
        joint = joint_picture(fitted, panel, key, place.learn_start, place.horizon)
        pictures += [joint] if joint else []
        if forecaster.family != "baseline":
            checks = [
                facts_of.CheckView(what=what, holds=not test.rejected, p_value=test.p_value, verdict=test.verdict)
                for what, test in residual_checks(steps, panel.axis.step.season)
            ]
    return facts_of.FactsView(
        summary=forecaster.summary(fitted.state, key),
        seconds=result.seconds,
        series=len(result.cell.series),
        memory=result.memory,
        bytes=sum(array.nbytes for array in fitted.state.arrays.values()),
        coefficients=[
            facts_of.CoefficientView(**vars(each))
            for each in forecaster.coefficient_table(fitted.state, key)[:_COEFFICIENTS]
        ],
        criteria=forecaster.criteria(fitted.state, key),
        one_step=_one_step_view(steps),
        tried=[
            facts_of.TriedView(
                label=each.get("form") or each["orders"] + (" with constant" if each["constant"] else ""),
                criterion=each.get("criterion", each.get("aicc")),
                reason=each.get("reason", ""),
            )
            for each in learned.get("series", {}).get(key, learned).get("tried", [])[:_TRIED]
        ],
        pictures=[_picture_view(each) for each in [*pictures, *fit_pictures(steps)]],
        checks=checks,
        loss=learned.get("loss", []),
        validation_loss=learned.get("validation_loss", []),
        kept_epoch=learned.get("kept_epoch"),
        windows=learned.get("windows"),
        stages=[stage.title for stage in fitted.chain.stages],
    )


def _one_step_view(steps: OneStep) -> facts_of.OneStepView:
    """Errors one step ahead inside what was learned and after it, against those of the last value there."""
    after = steps.places >= steps.cutoff
    return facts_of.OneStepView(
        inside=steps.error(after=False), after=steps.error(after=True), last_value=steps.error_of_last_value,
        points_inside=int((~after).sum()), points_after=int(after.sum()),
    )  # fmt: skip


def _picture_view(picture: Picture) -> facts_of.PictureView:
    return facts_of.PictureView(
        title=picture.title,
        x_label=picture.x_label,
        curves=[
            facts_of.PictureCurve(label=each.label, x=each.x.tolist(), y=each.y.tolist(), kind=each.kind)
            for each in picture.curves
        ],
        marks=[facts_of.PictureMark(x=x, label=label) for x, label in picture.marks],
    )
