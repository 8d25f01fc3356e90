"""Chains to start from, chains with a name, and fitted chains that are kept, taken away and used again."""

import json
from typing import Any

from flask_openapi3 import APIBlueprint
from werkzeug.wrappers import Response

from proteron.api import flatten_shapes as rooms
from proteron.api import shapes
from proteron.api.services import answer, chain_of, services
from proteron.core.errors import InputError, ProteronError
from proteron.core.flatten import Calendar, FittedChain
from proteron.core.flatten.presets import presets
from proteron.core.intake.exports import csv_pieces
from proteron.core.panel import Panel
from proteron.records import chains as records
from proteron.records.datasets import get_dataset
from proteron.records.models import FittedChainRecord
from proteron.records.projects import get_project
from proteron.services.names import file_name

blueprint = APIBlueprint("chains", __name__, url_prefix="/api/v1")
_SCHEMA = 1


@blueprint.get("/projects/<int:project_id>/chains", responses={200: rooms.ChainsView})
def list_chains(path: shapes.ProjectPath, query: rooms.PresetQuery) -> Response:
    """Presets that suit the project's dataset as of `until`, each with its reason, and the chains saved by name."""
    found = []
    with services().database.session() as session:
        dataset = get_project(session, path.project_id).choices.get("dataset_id")
        saved = [
            rooms.SavedChain(id=each.id, revision=each.revision, name=each.name, stages=each.document["stages"])
            for each in records.saved_of(session, path.project_id, "chains")
        ]
    if dataset:
        panel = services().panel(dataset)
        known = panel.known(query.until)
        for preset in presets(Calendar(panel.axis, panel.occasions), known):
            stages = [stage.document() for stage in preset.stages]
            found.append(rooms.PresetView(name=preset.name, why=preset.why, stages=stages))
    return answer(rooms.ChainsView(presets=found, saved=saved))


@blueprint.post("/projects/<int:project_id>/chains", responses={201: rooms.SavedChain})
def save_chain(path: shapes.ProjectPath, body: rooms.SaveChainBody) -> Response:
    """Keep a chain under a name; the same name again replaces it."""
    document = chain_of(body.stages, body.name).model_dump(mode="json")
    with services().database.session() as session:
        get_project(session, path.project_id)
        saved = records.save(session, path.project_id, "chains", body.name.strip(), document)
        view = rooms.SavedChain(id=saved.id, revision=saved.revision, name=saved.name, stages=document["stages"])
    return answer(view, 201)


@blueprint.get("/datasets/<int:dataset_id>/fitted-chains", responses={200: rooms.FittedList})
def list_fitted(path: shapes.DatasetPath) -> Response:
    """Fitted chains kept with this version of the dataset."""
    with services().database.session() as session:
        get_dataset(session, path.dataset_id)
        found = [_brief(each) for each in records.fitted_chains(session, path.dataset_id)]
    return answer(rooms.FittedList(fitted=found))


@blueprint.post("/datasets/<int:dataset_id>/fitted-chains", responses={201: rooms.FittedBrief})
def keep_fitted(path: shapes.DatasetPath, body: rooms.FitBody) -> Response:
    """Fit a chain on every series as of a cutoff and keep what it learned with the dataset's version."""
    panel = services().panel(path.dataset_id)
    with services().computing():
        fitted = services().chain(path.dataset_id, chain_of(body.chain), body.until)
    return answer(_keep(path.dataset_id, panel, body.name, fitted), 201)


@blueprint.post("/datasets/<int:dataset_id>/fitted-chains/import", responses={201: rooms.FittedBrief})
def import_fitted(path: shapes.DatasetPath, body: rooms.ImportBody) -> Response:
    """Take up a fitted chain that was exported; its series and step must be those of the dataset."""
    panel = services().panel(path.dataset_id)
    return answer(_keep(path.dataset_id, panel, str(body.document.get("name", "")), _read(body.document, panel)), 201)


@blueprint.get("/fitted-chains/<int:fitted_id>.json")
def export_fitted(path: rooms.FittedPath) -> Response:
    """A fitted chain as JSON: dataset, hash, cutoff, settings and everything it learned."""
    with services().database.session() as session:
        found = records.get_fitted_chain(session, path.fitted_id)
        text, name = json.dumps(found.document, ensure_ascii=False), found.name
    headers = {"Content-Disposition": f'attachment; filename="{file_name(name)}-fitted.json"'}
    return Response(text + "\n", content_type="application/json; charset=utf-8", headers=headers)


@blueprint.get("/datasets/<int:dataset_id>/fitted-chains/<int:fitted_id>/flat.csv")
def apply_fitted(path: rooms.AppliedPath) -> Response:
    """A dataset flattened by a fitted chain, also one that came later, as CSV in long form."""
    panel = services().panel(path.dataset_id)
    with services().database.session() as session:
        document = records.get_fitted_chain(session, path.fitted_id).document
    with services().computing():
        flat = _read(document, panel).apply(panel)
    headers = {"Content-Disposition": 'attachment; filename="flat.csv"'}
    return Response(csv_pieces(flat), content_type="text/csv; charset=utf-8", headers=headers)


def _read(document: dict[str, Any], panel: Panel) -> FittedChain:
    """A fitted chain for use on `panel`; raises `InputError` saying what does not fit."""
    try:
        if document.get("schema_version") != _SCHEMA:
            raise InputError(f"A fitted chain has “schema_version”: {_SCHEMA}.", field="document")
        said = {"start": document["start"], "step": document["step"]}
        axis = document["fitted"].setdefault("axis", said | {"zone": panel.zone})
        if axis | said != axis:
            raise InputError("The chain's axis is told in two ways that do not agree.", field="document")
        fitted = FittedChain.from_document(document["fitted"], panel.axis, panel.occasions)
    except ProteronError:
        raise
    except (KeyError, TypeError, ValueError, AttributeError, IndexError) as error:
        raise InputError(f"This is not a fitted chain: {type(error).__name__} at {error}.", field="document") from error
    absent = [key for key in panel.keys if key not in fitted.keys]
    if absent:
        raise InputError(f"The chain was not fitted on “{absent[0]}”.", field="document")
    if any(len(states) != len(fitted.stages) for states in fitted.states) or len(fitted.states) != len(fitted.keys):
        raise InputError("The chain has stages without anything learned.", field="document")
    return fitted


def _keep(dataset_id: int, panel: Panel, name: str, fitted: FittedChain) -> rooms.FittedBrief:
    with services().database.session() as session:
        dataset = get_dataset(session, dataset_id)
        document = {
            "schema_version": _SCHEMA, "name": name, "dataset": dataset.hash, "step": panel.step,
            "start": str(panel.axis.start), "chain_hash": fitted.chain.hash, "fitted": fitted.document(),
        }  # fmt: skip
        record = records.store_fitted_chain(session, dataset_id, name or fitted.chain.text, document)
        session.flush()
        session.refresh(record)
        return _brief(record)


def _brief(record: FittedChainRecord) -> rooms.FittedBrief:
    fitted = record.document["fitted"]
    return rooms.FittedBrief(
        id=record.id, dataset_id=record.dataset_id, name=record.name, chain=record.document["chain_hash"],
        hash=record.document["dataset"], until=fitted["until"], stages=len(fitted["chain"]["stages"]),
        series=len(fitted["keys"]), created=record.created.isoformat(),
    )  # fmt: skip
