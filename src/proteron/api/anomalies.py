"""Anomalies: a scan is an experiment one step ahead; flags follow from its scores and a threshold as of the cutoff."""

from flask_openapi3 import APIBlueprint
from werkzeug.wrappers import Response

from proteron.api import shapes
from proteron.api.lines import line
from proteron.api.services import answer, series_index, services
from proteron.api.walkforward import answer_experiment
from proteron.records import experiments as records
from proteron.records.flags import flags_of, judge_flag
from proteron.records.models import AnomalyFlag
from proteron.services import anomalies

blueprint = APIBlueprint("anomalies", __name__, url_prefix="/api/v1")


@blueprint.post("/projects/<int:project_id>/scans", responses={201: shapes.ExperimentView, 422: shapes.Problem})
def new_scan(path: shapes.ProjectPath, body: shapes.NewScan) -> Response:
    """Score every step once, one step ahead and out of sample, with a contender of an experiment."""
    scan_id = anomalies.start_scan(services(), path.project_id, body.experiment_id, body.contender)
    return answer_experiment(scan_id, 201)


@blueprint.get("/experiments/<int:experiment_id>/scores", responses={200: shapes.ScoresView})
def scores(path: shapes.ExperimentPath, query: shapes.ScoresQuery) -> Response:
    """Expected values and scores of one series over a span."""
    found = anomalies.scores_of(services(), path.experiment_id)
    index = series_index(found.panel, query.series)
    expected, score = found.series(index)
    axis, first = found.panel.axis, int(found.panel.starts[index])
    span = (query.start, query.stop, query.width)
    return answer(
        shapes.ScoresView(
            expected=line(axis, first, expected, *span),
            score=line(axis, first, score, *span),
            highest=found.highest(index, query.until),
        )
    )


@blueprint.put("/experiments/<int:experiment_id>/flags", responses={200: shapes.FlagsView, 422: shapes.Problem})
def set_threshold(path: shapes.ExperimentPath, body: shapes.ThresholdBody) -> Response:
    """Flag one series above a threshold, or within a budget of flags per week learned by `until`."""
    with services().database.session() as session:
        panel = services().panel(records.get_experiment(session, path.experiment_id).dataset_id)
    index = series_index(panel, body.series)
    found = anomalies.flag_series(
        services(), path.experiment_id, index, body.threshold, body.budget_per_week, body.until
    )
    flags = [_view(flag) for flag in found.flags]
    return answer(shapes.FlagsView(threshold=found.threshold, per_week=found.per_week, flags=flags))


@blueprint.get("/experiments/<int:experiment_id>/flags", responses={200: shapes.FlagsView})
def list_flags(path: shapes.ExperimentPath, query: shapes.FlagsQuery) -> Response:
    """Stored flags of a scan, of one series or all."""
    with services().database.session() as session:
        records.get_experiment(session, path.experiment_id)
        flags = [_view(flag) for flag in flags_of(session, path.experiment_id, query.series)]
    return answer(shapes.FlagsView(threshold=None, per_week=None, flags=flags))


@blueprint.patch("/flags/<int:flag_id>", responses={200: shapes.FlagView, 404: shapes.Problem})
def set_verdict(path: shapes.FlagPath, body: shapes.VerdictBody) -> Response:
    """Confirm, dismiss or reopen a flag."""
    with services().database.session() as session:
        return answer(_view(judge_flag(session, path.flag_id, body.verdict)))


def _view(flag: AnomalyFlag) -> shapes.FlagView:
    return shapes.FlagView(
        id=flag.id, series=flag.series, start=flag.start, stop=flag.stop, time=flag.time.timestamp(),
        score=flag.score, kind=flag.kind, verdict=flag.verdict,
    )  # fmt: skip
