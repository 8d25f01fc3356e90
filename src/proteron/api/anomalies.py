"""Anomalies: scans, flags within a budget and as of a moment, verdicts, drills, and what is made of them."""

from typing import Any

import numpy as np
from flask_openapi3 import APIBlueprint
from werkzeug.wrappers import Response

from proteron.api import anomaly_shapes as views
from proteron.api import shapes
from proteron.api.datasets import dataset_view
from proteron.api.lines import epochs, finite, line
from proteron.api.projects import scan_brief
from proteron.api.services import answer, series_index, services
from proteron.api.walkforward import answer_experiment
from proteron.core.anomalies import Budget, Flag
from proteron.core.anomalies.triage import Precision
from proteron.core.panel import Panel
from proteron.core.table_files import FORMATS, written
from proteron.records import findings
from proteron.records import scans as records
from proteron.records.findings import Said
from proteron.records.models import Verdict
from proteron.records.projects import get_project
from proteron.services.anomalies import scans, uses, verdicts
from proteron.services.anomalies.shown import Shown, drill_of, show

blueprint = APIBlueprint("anomalies", __name__, url_prefix="/api/v1")
_SCAN = "/scans/<int:scan_id>"
_ANSWERS: dict[Any, Any] = {404: shapes.Problem, 422: shapes.Problem}


@blueprint.post("/projects/<int:project_id>/scans", responses={201: views.ScanView, **_ANSWERS})
def new_scan(path: shapes.ProjectPath, body: views.NewScan) -> Response:
    """Look a dataset through for anomalies; the project then stands on the scan."""
    settings = scans.ScanSettings.model_validate(body.model_dump(exclude={"dataset_id"}))
    return _answer(scans.start_scan(services(), path.project_id, body.dataset_id, settings), 201)


@blueprint.get(_SCAN, responses={200: views.ScanView, 404: shapes.Problem})
def view_scan(path: views.ScanPath) -> Response:
    """How a scan was asked for, how far it is, its budget, and how far its drill is."""
    return _answer(path.scan_id)


@blueprint.post(f"{_SCAN}/stop", responses={200: views.ScanView, 404: shapes.Problem})
def stop_scan(path: views.ScanPath) -> Response:
    """Stop a scan promptly; what is scored stays."""
    with services().database.session() as session:
        scans.stop(session, services().queue, path.scan_id)
    return _answer(path.scan_id)


@blueprint.post(f"{_SCAN}/run", responses={200: views.ScanView, 404: shapes.Problem, 409: shapes.Problem})
def run_scan(path: views.ScanPath) -> Response:
    """Go on with a scan that was stopped, or failed."""
    scans.resume(services(), path.scan_id)
    return _answer(path.scan_id)


@blueprint.put(f"{_SCAN}/budget", responses={200: views.ScanView, **_ANSWERS})
def set_budget(path: views.ScanPath, body: views.BudgetBody) -> Response:
    """Say how many flags are wanted, or above which score."""
    verdicts.set_budget(services(), path.scan_id, Budget(**body.model_dump()))
    return _answer(path.scan_id)


@blueprint.get(f"{_SCAN}/flags", responses={200: views.FlagsView, 404: shapes.Problem})
def list_flags(path: views.ScanPath, query: views.FlagsQuery) -> Response:
    """Flags of all series within the budget, as far as they were raised by a moment, with what was said of them."""
    shown = show(services(), path.scan_id, query.until)
    flags = _flags(shown, shown.flags, shown.said, shown.together())
    explained = _flags(shown, shown.explained, [None] * len(shown.explained), [1] * len(shown.explained))
    labels = [
        views.SpanLabelView(key=s.key, start=s.start, stop=s.stop, verdict=s.verdict, kind=s.kind, note=s.note)
        for s in shown.loose
    ]  # fmt: skip
    return answer(
        views.FlagsView(
            threshold=shown.threshold, per_week=shown.per_week, flags=flags,
            explained=explained, labels=labels, precision=_precision(shown.precision), beyond=shown.beyond,
        )
    )  # fmt: skip


@blueprint.get(f"{_SCAN}/scores", responses={200: views.ScoresView, **_ANSWERS})
def scores(path: views.ScanPath, query: views.ScoresQuery) -> Response:
    """Expected values and scores of one series over a span; empty where nothing is scored yet."""
    with services().database.session() as session:
        scan = records.get_scan(session, path.scan_id)
        panel = services().panel(scan.dataset_id)
        index = series_index(panel, query.series)
        found = findings.load_scores(session, scan.id, index) or (np.zeros(0), np.zeros(0))
    first, span = int(panel.starts[index]), (query.start, query.stop, query.width)
    expected, score = (line(panel.axis, first, values, *span) for values in found)
    return answer(views.ScoresView(expected=expected, score=score))


@blueprint.get(f"{_SCAN}/curves", responses={200: views.CurvesView, 404: shapes.Problem})
def curves(path: views.ScanPath) -> Response:
    """What every threshold costs and finds: flags a week, a drill's recall, and what verdicts and labels tell."""
    shown = show(services(), path.scan_id)
    with services().computing():
        curve = [views.CurvePointView(**vars(each)) for each in shown.curve()]
        labelled = [
            views.LabelledView(
                threshold=each.threshold, precision=_precision(each.precision), recall=finite(each.recall)
            )
            for each in shown.labelled
        ]
    return answer(views.CurvesView(curve=curve, labelled=labelled, advised=shown.advised))


@blueprint.get(f"{_SCAN}/alike", responses={200: views.OpenFlagsView, **_ANSWERS})
def alike(path: views.ScanPath, query: views.AlikeQuery) -> Response:
    """Flags like one of them: of the same kind, slot, side and length; itself first."""
    shown = show(services(), path.scan_id)
    wanted = shown.alike(query.key, query.start)
    said = dict(zip(map(id, shown.flags), shown.said, strict=True))
    return answer(
        views.OpenFlagsView(flags=_flags(shown, wanted, [said[id(each)] for each in wanted], [1] * len(wanted)))
    )


@blueprint.get(f"{_SCAN}/verdicts", responses={200: views.HistoryView, 404: shapes.Problem})
def history(path: views.ScanPath) -> Response:
    """What was said of the scan's data, by whom and when."""
    with services().database.session() as session:
        found = findings.verdicts_of(session, records.get_scan(session, path.scan_id))
        return answer(views.HistoryView(verdicts=[_verdict(each) for each in found]))


@blueprint.post(f"{_SCAN}/verdicts", responses={201: views.VerdictView, **_ANSWERS})
def judge(path: views.ScanPath, body: views.VerdictBody) -> Response:
    """Call spans right, wrong or open again, say how far they reach, label them, and leave a note; flagged spans or
    others."""
    spans = [(each.key, each.start, each.stop) for each in body.spans]
    made = verdicts.judge(services(), path.scan_id, spans, body.verdict, body.kind, body.note, body.by, body.adjusted)
    return answer(_verdict(made), 201)


@blueprint.delete(f"{_SCAN}/verdicts/last", responses={200: views.VerdictView, 404: shapes.Problem})
def undo(path: views.ScanPath) -> Response:
    """Take back what was said last."""
    return answer(_verdict(verdicts.undo(services(), path.scan_id)))


@blueprint.post(f"{_SCAN}/use", responses={201: shapes.DatasetView, **_ANSWERS})
def use(path: views.ScanPath, body: views.UseBody) -> Response:
    """Mask flagged spans, or put what was expected in their place, in the next version of the data."""
    with services().computing():
        made = uses.use(services(), path.scan_id, body.way, body.which)
    return answer(dataset_view(made), 201)


@blueprint.post(f"{_SCAN}/compare", responses={201: shapes.ExperimentView, **_ANSWERS})
def compare(path: views.ScanPath, body: views.CompareBody) -> Response:
    """Have every contender of an experiment judged with and without what is flagged as of each cutoff, side by side."""
    return answer_experiment(uses.compare(services(), path.scan_id, body.experiment_id), 201)


@blueprint.get(f"{_SCAN}/drill", responses={200: views.DrillView, 404: shapes.Problem})
def view_drill(path: views.ScanPath) -> Response:
    """What would have been found of planted faults at the present threshold."""
    shown = show(services(), path.scan_id)
    drilled, found = shown.scan.drill or {}, drill_of(shown.scan)
    view = views.DrillView(
        state=drilled.get("state"), progress=drilled.get("share", 1.0 if found else 0.0), reason=drilled.get("reason"),
        threshold=shown.threshold, planted=0, recall=[], unverified=None, echoes=0, named=None, late=None, latest=None,
        text=[], shapes=drilled.get("settings", {}).get("shapes", {}),
    )  # fmt: skip
    if found is None:
        return answer(view)
    with services().computing():
        at = found.at(shown.threshold)
        view.recall = [
            views.RecallView(
                kind=kind, size=size, typical=finite(each.typical), planted=each.planted, found=each.found,
                share=each.share, low=each.low, high=each.high,
                named=None if each.named is None or not each.found else each.named / each.found,
                delay=finite(each.delay),
            )
            for kind, sizes in at.recall.items() for size, each in sizes.items()
        ]  # fmt: skip
        view.planted, view.echoes, view.text = len(at.planted), at.echoes, at.sentences
        view.unverified, view.named = at.unverified, finite(at.named)
        view.late, view.latest = finite(at.late()), finite(at.late(0.9))
    return answer(view)


@blueprint.post(f"{_SCAN}/drill", responses={202: views.ScanView, 409: shapes.Problem, **_ANSWERS})
def drill(path: views.ScanPath, body: views.DrillBody) -> Response:
    """Plant faults in the series as they would be without their own flags, and look for them."""
    scans.start_drill(services(), path.scan_id, body.repeats, body.seed, body.shapes)
    return _answer(path.scan_id, 202)


@blueprint.delete(f"{_SCAN}/drill", responses={200: views.ScanView, 404: shapes.Problem})
def stop_drill(path: views.ScanPath) -> Response:
    """Stop a drill; nothing is kept of it."""
    with services().database.session() as session:
        scans.stop_drill(session, services().queue, path.scan_id)
    return _answer(path.scan_id)


@blueprint.get(f"{_SCAN}/table")
def table(path: views.ScanPath, query: views.TableQuery) -> Response:
    """The flags as a file: one row each."""
    found = uses.table_of(show(services(), path.scan_id))
    headers = {"Content-Disposition": f'attachment; filename="flags.{query.format}"'}
    return Response(written(found, query.format), content_type=FORMATS[query.format], headers=headers)


@blueprint.get("/projects/<int:project_id>/open-flags", responses={200: views.OpenFlagsView, 404: shapes.Problem})
def open_flags(path: shapes.ProjectPath) -> Response:
    """What the scan that the project stands on has raised and nobody has judged, the newest first."""
    with services().database.session() as session:
        scan_id = get_project(session, path.project_id).choices.get("scan_id")
    if scan_id is None:
        return answer(views.OpenFlagsView(flags=[]))
    shown = show(services(), scan_id)
    rows = _flags(shown, shown.flags, shown.said, shown.together())
    return answer(views.OpenFlagsView(flags=[each for each in reversed(rows) if each.verdict == "open"]))


# views


def _answer(scan_id: int, status: int = 200) -> Response:
    with services().database.session() as session:
        scan = records.get_scan(session, scan_id)
        done = records.scanned(session, [scan_id])[scan_id]
    drilled = scan.drill or {}
    return answer(
        views.ScanView(
            **scan_brief(scan, done).model_dump(), budget=views.BudgetBody(**scan.budget), drill=drilled.get("state"),
            drill_share=drilled.get("share"), drill_reason=drilled.get("reason"),
        ),
        status,
    )  # fmt: skip


def _precision(found: Precision) -> views.PrecisionView:
    low, high = found.interval
    return views.PrecisionView(
        right=found.right, judged=found.judged, share=finite(found.share), low=low, high=high
    )  # fmt: skip


def _verdict(made: Verdict) -> views.VerdictView:
    told = made.document
    return views.VerdictView(
        id=made.id, verdict=told["verdict"], kind=told["kind"], note=told["note"], by=made.made_by,
        made=made.made.isoformat(), spans=len(told["spans"]),
    )  # fmt: skip


def _flags(shown: Shown, flags: list[Flag], said: list[Said | None], beside: list[int]) -> list[views.FlagView]:
    panel: Panel = shown.panel
    place = {key: index for index, key in enumerate(panel.keys)}
    looked_back = shown.scan.document["mode"] != "as_of"
    rows = []
    for flag, of, count in zip(flags, said, beside, strict=True):
        start, stop = shown.span(flag)
        time, last, raised = epochs(panel.axis, np.array([start, stop - 1, shown.starts[flag.key] + flag.raised_at]))
        rows.append(
            views.FlagView(
                series=place[flag.key], key=flag.key, start=start, stop=stop, time=time, last=last,
                raised=None if looked_back else raised, kind=flag.kind, named=of.kind if of else None,
                score=flag.score, observed=finite(flag.observed), expected=finite(flag.expected),
                once_in=finite(flag.once_in), together=count, occasion=flag.occasion, what=flag.what(panel.unit),
                sentence=flag.sentence,
                verdict=of.verdict if of else "open", note=of.note if of else "", by=of.by if of else "",
                judged_at=of.at.isoformat() if of else None,
            )
        )  # fmt: skip
    return rows
