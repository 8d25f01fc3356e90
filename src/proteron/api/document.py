"""The API's own document, made true: problems as they are sent, files and streams with their kinds, tags by room."""

from typing import Any

from flask_openapi3 import APIBlueprint, OpenAPI

from proteron.api.glossary import explain
from proteron.core.intake import EXPORTS
from proteron.core.table_files import FORMATS

_PROBLEM = {"$ref": "#/components/schemas/Problem"}
_PROBLEM_CONTENT = {"application/problem+json": {"schema": _PROBLEM}}
_TABLES = ("application/vnd.apache.arrow.stream", "application/vnd.apache.parquet", "application/x-npz", "text/csv")
_EXPERIMENT = "/api/v1/experiments/{experiment_id}"
_DATASET, _FITTED = "/api/v1/datasets/{dataset_id}", "/api/v1/fitted-chains/{fitted_id}"
# Operations that answer with a file or a stream: their media types.
FILES: dict[str, tuple[str, ...]] = {
    f"{_DATASET}/account.json": ("application/json",),
    f"{_DATASET}/data.csv": ("text/csv",),
    f"{_DATASET}/export": tuple(sorted({each.media_type.partition(";")[0] for each in EXPORTS.values()})),
    f"{_DATASET}/fitted-chains/{{fitted_id}}/flat.csv": ("text/csv",),
    f"{_DATASET}/windows/card": ("application/json",),
    f"{_DATASET}/windows/table": _TABLES,
    f"{_FITTED}.json": ("application/json",),
    "/api/v1/watched/{watched_id}/state": ("application/zip",),
    f"{_EXPERIMENT}/board.csv": ("text/csv",),
    f"{_EXPERIMENT}/board.json": ("application/json",),
    f"{_EXPERIMENT}/experiment.toml": ("application/toml",),
    f"{_EXPERIMENT}/forecasts.parquet": ("application/vnd.apache.parquet",),
    f"{_EXPERIMENT}/report.html": ("text/html",),
    f"{_EXPERIMENT}/learned.npz": ("application/zip",),
    f"{_EXPERIMENT}/learned.onnx.zip": ("application/zip",),
    "/api/v1/scans/{scan_id}/table": ("text/csv", "application/json", "application/vnd.apache.parquet"),
    "/api/v1/outlooks/{outlook_id}/table": tuple(sorted({each.partition(";")[0] for each in FORMATS.values()})),
    "/api/v1/outlooks/{outlook_id}/learned": ("application/zip",),
    "/api/v1/projects/{project_id}/events": ("text/event-stream",),
}
ROOMS = {
    "projects": "Projects, their choices, and what is told of them",
    "kept": "Names, copies, deletion and its undoing", "datasets": "Datasets and their versions",
    "intake": "What is brought, looked at and read", "profile": "What a series is, as of a cutoff",
    "flatten": "Chains of reversible stages", "chains": "Chains that are kept", "windows": "Supervised tables",
    "walkforward": "Experiments and their boards", "duel": "Two entrants compared",
    "prospects": "What an experiment would be, before it is one",
    "glance": "Evidence at a glance",
    "seals": "Folds that nobody has seen, and who has looked",
    "takeaway": "What is taken away of an experiment",
    "contenders": "What suits, and what was learned",
    "anomalies": "Scans, scores and flags", "watched": "What is watched point by point",
    "outlook": "Final forecasts", "handover": "Final forecasts as files and on demand, and how they fared",
    "server": "The server itself",
}  # fmt: skip


class DocumentedAPI(OpenAPI):
    """The application whose document says what it does."""

    def register_api(self, api: APIBlueprint, **options: Any) -> None:
        """Take a room up; operations of one address may come from several rooms."""
        before = {path: self.paths[path] for path in api.paths if path in self.paths}
        super().register_api(api, **options)
        for path, item in before.items():
            added = {name: each for name, each in self.paths[path] if each is not None}
            self.paths[path] = item.model_copy(update=added)

    def generate_spec_json(self) -> None:
        """Write the document, then bring it to what is really answered."""
        super().generate_spec_json()  # type: ignore[no-untyped-call]
        make_true(self.spec_json)


def make_true(document: dict[str, Any]) -> None:
    """Problems in their own media type, one for 422; every operation with its success, and a tag of its room."""
    for path, operations in document["paths"].items():
        for operation in operations.values():
            responses = operation["responses"]
            for status in list(responses):
                if status[0] in "45":
                    responses[status]["content"] = _PROBLEM_CONTENT
            responses["default"] = {"description": "Any other problem", "content": _PROBLEM_CONTENT}
            if path in FILES:
                kinds = {kind: {"schema": _schema_of(kind)} for kind in FILES[path]}
                responses["200"] = {"description": "The file" if "events" not in path else "Events", "content": kinds}
            room = operation["operationId"].partition("_")[0]
            operation["tags"] = [room if room in ROOMS else "server"]
    _shape(document["components"]["schemas"])
    _explain(document)
    for path in ("/api/v1/uploads", "/api/v1/projects/{project_id}/watched"):
        document["paths"][path]["post"]["requestBody"] = {
            "description": "The file itself.", "required": True,
            "content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}},
        }  # fmt: skip
    document["tags"] = [{"name": name, "description": text} for name, text in ROOMS.items()]


# Free-form objects whose shape is known all the same: settings are checked where they are used, in words, and models
# with two dozen schemas in every body would cost each start a second.
_STAGE, _PLAN = ("Choices", "chain"), ("Choices", "plan")
_KNOWN: dict[str, tuple[str, str]] = {
    "chain": _STAGE, "stages": _STAGE, "stage": _STAGE, "plan": _PLAN, "design": ("NewExperiment", "folds"),
}  # fmt: skip
_WHOLE = {("Project", "choices"): "Choices", ("ContenderView", "document"): "ContenderEntry",
          ("VariantsView", "contenders"): "ContenderEntry", ("BroughtView", "contender"): "ContenderEntry"}  # fmt: skip


def _shape(schemas: dict[str, Any]) -> None:
    """Put what is known of free-form objects in their places."""

    def core_of(place: tuple[str, str]) -> dict[str, Any]:
        found = schemas[place[0]]["properties"][place[1]]
        found = next((each for each in found.get("anyOf", ()) if each.get("type") != "null"), found)
        found = found.get("items", found)
        return {name: each for name, each in found.items() if name in ("oneOf", "discriminator", "$ref", "allOf")}

    for shape, schema in schemas.items():
        for name, each in schema.get("properties", {}).items():
            whole = _WHOLE.get((shape, name))
            known = {"$ref": f"#/components/schemas/{whole}"} if whole else None
            if known is None and name in _KNOWN and shape != "Catalogue":
                known = core_of(_KNOWN[name])
            for place in _free_in(each) if known else ():
                del place["type"], place["additionalProperties"]
                place.update(known or {})


def _free_in(schema: dict[str, Any]) -> list[dict[str, Any]]:
    """The objects of any form in a property: itself, its alternatives, the items of its lists."""
    if schema.get("type") == "object" and schema.get("additionalProperties") is True:
        return [schema]
    inner = [*schema.get("anyOf", ()), *([schema["items"]] if isinstance(schema.get("items"), dict) else [])]
    return [free for each in inner for free in _free_in(each)]


def _explain(document: dict[str, Any]) -> None:
    """Say of every property and parameter what it means, where its own shape does not."""
    for shape, schema in document["components"]["schemas"].items():
        for name, each in schema.get("properties", {}).items():
            explain(shape, name, each)
    for operations in document["paths"].values():
        for operation in operations.values():
            for parameter in operation.get("parameters", ()):
                said = explain("", parameter["name"], parameter["schema"])
                if said is not None:
                    parameter.setdefault("description", said)


def _schema_of(kind: str) -> dict[str, Any]:
    """JSON is an object, text is text, all else bytes."""
    if kind == "application/json":
        return {"type": "object"}
    return {"type": "string"} if kind.startswith("text/") else {"type": "string", "format": "binary"}
