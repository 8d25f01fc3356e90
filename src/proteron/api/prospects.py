"""What an experiment would be: its folds, its cells, its cost, and contenders varied over ranges of settings."""

from flask_openapi3 import APIBlueprint
from werkzeug.wrappers import Response

from proteron.api import prospect_shapes as views
from proteron.api import shapes
from proteron.api.services import answer, series_index, services
from proteron.api.walkforward import fold_view
from proteron.core.judge import read_folds, vary
from proteron.records.datasets import get_dataset
from proteron.services.prospects import cost_in_trial, prospect_of

blueprint = APIBlueprint("prospects", __name__, url_prefix="/api/v1")


@blueprint.post(
    "/datasets/<int:dataset_id>/prospect",
    responses={200: views.ProspectView, 404: shapes.Problem, 422: shapes.Problem},
)
def prospect(path: shapes.DatasetPath, body: views.ProspectBody) -> Response:
    """Where the folds lie, how many cells there would be, how many are there already, and about how long it takes."""
    panel = services().panel(path.dataset_id)
    design = body.folds if body.line is None else read_folds(body.line, panel.axis.step)
    with services().computing(), services().database.session() as session:
        found = prospect_of(
            session, panel, get_dataset(session, path.dataset_id).hash, design, body.contenders, body.seed, body.levels,
            body.rates, services().settings.workers,
        )  # fmt: skip
    return answer(
        views.ProspectView(
            design=found.design.document(), line=found.text, folds=[fold_view(each) for each in found.folds],
            sealed=[fold_view(each) for each in found.sealed], points=found.points, cells=found.cells,
            there=found.there, seconds=found.seconds,
        )
    )  # fmt: skip


@blueprint.post("/datasets/<int:dataset_id>/cost", responses={200: views.CostView, 422: shapes.Problem})
def cost(path: shapes.DatasetPath, body: views.CostBody) -> Response:
    """What one fit costs here: it is made, as of a cutoff, and its time taken. Nothing of it is kept."""
    panel = services().panel(path.dataset_id)
    series = series_index(panel, body.series)
    found = cost_in_trial(services(), body.contender, path.dataset_id, series, body.until)
    return answer(views.CostView(**vars(found)))


@blueprint.post("/variants", responses={200: views.VariantsView, 422: shapes.Problem})
def variants(body: views.VariantsBody) -> Response:
    """A contender with ranges of its settings: every combination as a contender of its own."""
    entry = body.contender
    found = vary(entry.name, entry.contender, body.values)
    entries = [entry.model_copy(update={"name": name, "forecaster": each.forecaster}) for name, each in found.items()]
    return answer(views.VariantsView(contenders=[each.model_dump(mode="json") for each in entries]))
