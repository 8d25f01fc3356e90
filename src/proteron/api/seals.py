"""Seals: folds at the end that nobody has seen, until they are looked at."""

from flask_openapi3 import APIBlueprint
from werkzeug.wrappers import Response

from proteron.api import shapes
from proteron.api.services import answer, services
from proteron.api.walkforward import answer_experiment
from proteron.core.errors import SettingsError
from proteron.core.judge import BoardRow, optimism
from proteron.records import experiments as records
from proteron.services import boards, experiments

blueprint = APIBlueprint("seals", __name__, url_prefix="/api/v1")


@blueprint.post(
    "/experiments/<int:experiment_id>/seal",
    responses={200: shapes.ExperimentView, 404: shapes.Problem, 409: shapes.Problem, 422: shapes.Problem},
)
def break_seal(path: shapes.ExperimentPath, body: shapes.SealBody) -> Response:
    """Break the seal for a contender: it and the baseline are judged on the sealed folds. It is counted for good."""
    experiments.break_seal(services(), path.experiment_id, body.contender)
    return answer_experiment(path.experiment_id)


@blueprint.get(
    "/experiments/<int:experiment_id>/seal",
    responses={200: shapes.SealedView, 404: shapes.Problem, 422: shapes.Problem},
)
def view_seal(path: shapes.ExperimentPath, query: shapes.DeceptionsQuery) -> Response:
    """How often the seal was broken on this data, by whom, and how those fared whose seal is broken here."""
    with services().database.session() as session:
        experiment = records.get_experiment(session, path.experiment_id)
        with services().computing():
            panel = services().panel(experiment.dataset_id)
            found = boards.sealed_of(session, experiment, panel, query.metric)
            if found is None:
                raise SettingsError("No fold of this experiment is sealed.", field="experiment_id")
            opened = boards.board_of(session, experiment, panel, query.metric)
        breakings = [
            shapes.SealBreakingView(
                contender=each.contender, broken=each.broken, here=each.experiment_id == experiment.id
            )
            for each in found.breakings
        ]  # fmt: skip

    def row_view(row: BoardRow) -> shapes.SealedRowView:
        assert found is not None and found.board is not None
        return shapes.SealedRowView(
            contender=row.contender, skill=row.skill, skill_low=row.skill_low, skill_high=row.skill_high,
            optimism=optimism(opened, found.board, row.contender),
        )  # fmt: skip

    rows = [row_view(row) for row in found.board or () if not row.baseline]
    return answer(
        shapes.SealedView(folds=len(found.folds), sentence=found.sentence, breakings=breakings, rows=rows)
    )  # fmt: skip
