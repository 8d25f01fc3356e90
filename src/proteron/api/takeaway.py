"""What is taken away of an experiment: its file, board, forecasts and report."""

import io
import json
from collections.abc import Callable

import pyarrow.parquet as pq
import tomli_w
from flask_openapi3 import APIBlueprint
from sqlalchemy.orm import Session
from werkzeug.wrappers import Response

from proteron.api import shapes
from proteron.api.contender_shapes import FactsQuery
from proteron.api.services import series_index, services
from proteron.core.csv_tables import csv_bytes
from proteron.core.forecasters.contender import FittedContender
from proteron.core.forecasters.exporting import zipped_onnx
from proteron.core.forecasters.saving import fitted_bytes
from proteron.core.panel import Panel
from proteron.records import experiments as records
from proteron.records.models import Experiment
from proteron.services import boards, experiments
from proteron.services.forecasts import learned_of
from proteron.services.names import file_name
from proteron.services.report import report_page

blueprint = APIBlueprint("takeaway", __name__, url_prefix="/api/v1")


@blueprint.get("/experiments/<int:experiment_id>/experiment.toml")
def experiment_file(path: shapes.ExperimentPath) -> Response:
    """The experiment as a file the command line runs, with the same numbers."""
    return _file(
        path, "experiment.toml", "application/toml; charset=utf-8",
        lambda *given: tomli_w.dumps(experiments.file_document(*given)),
    )  # fmt: skip


@blueprint.get("/experiments/<int:experiment_id>/board.csv")
def board_csv(path: shapes.ExperimentPath) -> Response:
    """The board as CSV: a line per entrant."""
    return _file(
        path, "board.csv", "text/csv; charset=utf-8",
        lambda *given: csv_bytes(boards.board_of(*given).to_arrow()),
    )  # fmt: skip


@blueprint.get("/experiments/<int:experiment_id>/board.json")
def board_json(path: shapes.ExperimentPath) -> Response:
    """The board with its verdict, what intervals were drawn from, and what deceives."""

    def written(session: Session, experiment: Experiment, panel: Panel) -> str:
        board = boards.board_of(session, experiment, panel)
        caution, deceptions = boards.deceptions_of(session, experiment, panel)
        sealed = boards.sealed_of(session, experiment, panel)
        document = {
            "experiment": experiment.name, "verdict": board.verdict, "caution": caution, "notes": board.notes,
            "sealed": None if sealed is None else sealed.told(board),
            "resampled": board.evidence.resampled, "deceptions": [vars(each) for each in deceptions],
            "rows": board.documents,
        }  # fmt: skip
        return json.dumps(document, indent=1, ensure_ascii=False, allow_nan=False)

    return _file(path, "board.json", "application/json", written)


@blueprint.get("/experiments/<int:experiment_id>/forecasts.parquet")
def forecasts_parquet(path: shapes.ExperimentPath) -> Response:
    """All forecasts, long: contender, key, fold, origin, step, time, mean, truth and the ends of every range."""

    def written(session: Session, experiment: Experiment, panel: Panel) -> bytes:
        out = io.BytesIO()
        pq.write_table(boards.forecasts_of(session, experiment, panel), out)
        return out.getvalue()

    return _file(path, "forecasts.parquet", "application/vnd.apache.parquet", written)


@blueprint.get("/experiments/<int:experiment_id>/report.html")
def report_html(path: shapes.ExperimentPath) -> Response:
    """One page that needs nothing else: board, verdict, pictures, settings, and how to compute it anew."""
    return _file(
        path, "report.html", "text/html; charset=utf-8", lambda *given: report_page(boards.report_of(*given))
    )  # fmt: skip


@blueprint.get("/experiments/<int:experiment_id>/learned.npz")
def learned_archive(path: shapes.ExperimentPath, query: FactsQuery) -> Response:
    """What a contender learned in a fold, with what it knew, for `load_fitted`."""
    return _learned(path, query, "npz", lambda fitted, _: fitted_bytes(fitted))


@blueprint.get("/experiments/<int:experiment_id>/learned.onnx.zip")
def learned_graph(path: shapes.ExperimentPath, query: FactsQuery) -> Response:
    """What a network or trees learned in a fold, as an ONNX graph, with chain and window plan beside it as JSON."""
    return _learned(path, query, "onnx.zip", zipped_onnx)


def _learned(
    path: shapes.ExperimentPath, query: FactsQuery, ending: str, written: Callable[[FittedContender, str], bytes]
) -> Response:
    with services().database.session() as session:
        panel = services().panel(records.get_experiment(session, path.experiment_id).dataset_id)
    series = series_index(panel, query.series)
    name = file_name(query.contender)
    fitted = learned_of(services(), path.experiment_id, query.contender, series, query.fold, query.origin)
    with services().computing():
        content = written(fitted, name)
    return _attachment(content, "application/zip", f"{name}.{ending}")


def _attachment(content: str | bytes, kind: str, name: str) -> Response:
    return Response(content, content_type=kind, headers={"Content-Disposition": f'attachment; filename="{name}"'})


def _file(
    path: shapes.ExperimentPath, name: str, kind: str, written: Callable[[Session, Experiment, Panel], str | bytes]
) -> Response:
    with services().database.session() as session:
        experiment = records.get_experiment(session, path.experiment_id)
        with services().computing():
            content = written(session, experiment, services().panel(experiment.dataset_id))
            named = name if name == "experiment.toml" else f"{file_name(experiment.name)}-{name}"
    return _attachment(content, kind, named)
