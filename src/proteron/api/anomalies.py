"""Anomalies: a scan, its scores, a threshold, and flags to judge."""

import numpy as np
from flask_openapi3 import APIBlueprint
from werkzeug.wrappers import Response

from proteron.api import shapes
from proteron.api.lines import line
from proteron.api.services import answer, series_index, services
from proteron.api.walkforward import answer_experiment, start_experiment
from proteron.core.anomalies import Scores, budget_threshold, flags_above, residual_scores, scan_folds
from proteron.core.errors import SettingsError
from proteron.records import experiments as records
from proteron.records.findings import flags_of, judge_flag, replace_flags
from proteron.records.models import AnomalyFlag
from proteron.runner import plans

blueprint = APIBlueprint("anomalies", __name__, url_prefix="/api/v1")


@blueprint.post("/projects/<int:project_id>/scans", responses={201: shapes.ExperimentView, 422: shapes.Problem})
def new_scan(path: shapes.ProjectPath, body: shapes.NewScan) -> Response:
    """Score every step once, one step ahead and out of sample, with a contender of an experiment."""
    with services().database.session() as session:
        source = records.get_experiment(session, body.experiment_id)
    plan = plans.plan_of(source)
    entries = [entry for entry in plan.contenders if entry.name == body.contender]
    if not entries:
        raise SettingsError(f"There is no contender “{body.contender}” in this experiment.", field="contender")
    panel = services().panel(source.dataset_id)
    scan = plans.ExperimentPlan(
        seed=plan.seed, folds=scan_folds(panel), metrics=("mae",), baseline=body.contender, contenders=tuple(entries)
    )
    name = f"scan by {body.contender}"
    experiment_id = start_experiment(path.project_id, source.dataset_id, "scan", name, scan, run=True)
    return answer_experiment(experiment_id, 201)


def _scores(experiment_id: int) -> Scores:
    with services().database.session() as session:
        experiment = records.get_experiment(session, experiment_id)
        panel = services().panel(experiment.dataset_id)
        return residual_scores(panel, plans.results_of(session, experiment, panel))


@blueprint.get("/experiments/<int:experiment_id>/scores", responses={200: shapes.ScoresView})
def scores(path: shapes.ExperimentPath, query: shapes.ScoresQuery) -> Response:
    """Expected values and scores of one series over a span."""
    found = _scores(path.experiment_id)
    index = series_index(found.panel, query.series)
    expected, score = found.series(index)
    axis, first = found.panel.axis, int(found.panel.starts[index])
    highest = float(np.nanmax(score)) if np.isfinite(score).any() else None
    span = (query.start, query.stop, query.width)
    return answer(
        shapes.ScoresView(
            expected=line(axis, first, expected, *span), score=line(axis, first, score, *span), highest=highest
        )
    )


@blueprint.put("/experiments/<int:experiment_id>/flags", responses={200: shapes.FlagsView, 422: shapes.Problem})
def set_threshold(path: shapes.ExperimentPath, body: shapes.ThresholdBody) -> Response:
    """Flag one series above a threshold, or within a budget of flags per week."""
    if (body.threshold is None) == (body.budget_per_week is None):
        raise SettingsError("Give either a threshold or a budget per week.", field="threshold")
    found = _scores(path.experiment_id)
    index = series_index(found.panel, body.series)
    score = found.series(index)[1]
    per_week = 604800 / found.panel.axis.step.nominal_seconds
    threshold = body.threshold
    if threshold is None:
        threshold = budget_threshold(score, per_week, body.budget_per_week or 1.0)
    flags = flags_above(found, index, threshold) if np.isfinite(threshold) else []
    with services().database.session() as session:
        stored = replace_flags(session, path.experiment_id, index, flags)
        weeks = np.isfinite(score).sum() / per_week
        return answer(
            shapes.FlagsView(
                threshold=threshold, per_week=len(flags) / weeks if weeks else None, flags=[_view(f) for f in stored]
            )
        )


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
