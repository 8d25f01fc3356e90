"""A duel: two entrants of an experiment compared."""

import numpy as np
from flask_openapi3 import APIBlueprint
from werkzeug.wrappers import Response

from proteron.api import duel_shapes, shapes
from proteron.api.lines import epochs
from proteron.api.services import answer, series_index, services
from proteron.core.judge import Breakdown, DifferenceTest, Duel
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints
from proteron.records import experiments as records
from proteron.services import boards

_MOST_POINTS = 2000
blueprint = APIBlueprint("duel", __name__, url_prefix="/api/v1")


@blueprint.get(
    "/experiments/<int:experiment_id>/duel",
    responses={200: duel_shapes.DuelView, 404: shapes.Problem, 422: shapes.Problem},
)
def duel(path: shapes.ExperimentPath, query: duel_shapes.DuelQuery) -> Response:
    """Two entrants compared over the points that both have, by the cells finished so far."""
    with services().database.session() as session:
        experiment = records.get_experiment(session, path.experiment_id)
        with services().computing():
            panel = services().panel(experiment.dataset_id)
            series = series_index(panel, query.series)
            found, of_all, here = boards.duel_of(
                session, experiment, panel, query.one, query.other, query.metric, query.weighting, series
            )
    return answer(_duel_view(found, _savings_view(panel, *of_all), _savings_view(panel, *here)))


def _duel_view(found: Duel, of_all: duel_shapes.SavingsView, here: duel_shapes.SavingsView) -> duel_shapes.DuelView:
    low, high = found.interval or (None, None)
    return duel_shapes.DuelView(
        one=found.one, other=found.other, metric=shapes.MetricView.of(found.metric), skill=found.skill, skill_low=low,
        skill_high=high, resampled=found.resampled, sentence=found.sentence, test=_difference_view(found.test),
        steps=[
            duel_shapes.StepView(ahead=ahead, test=_difference_view(test))
            for ahead, test in zip(found.steps, found.by_step, strict=True)
        ],
        by_series=_pair_views(found.by_series), by_slot=_pair_views(found.by_slot), savings=of_all, savings_here=here,
    )  # fmt: skip


def _difference_view(test: DifferenceTest) -> duel_shapes.DifferenceView:
    return duel_shapes.DifferenceView.model_validate(test, from_attributes=True)


def _pair_views(told: Breakdown) -> list[duel_shapes.PairView]:
    labelled = zip(told.labels, *told.values.tolist(), strict=True)
    return [duel_shapes.PairView(label=label, one=one, other=other) for label, one, other in labelled]


def _savings_view(panel: Panel, positions: Ints, shares: Floats) -> duel_shapes.SavingsView:
    """Thinned to what a lane can show."""
    kept = np.unique(np.linspace(0, len(positions) - 1, min(len(positions), _MOST_POINTS)).astype(np.int64))
    return duel_shapes.SavingsView(times=epochs(panel.axis, positions[kept]), shares=shares[kept].tolist())
