"""The API's document is true: an automated client made from it meets no server error and nothing undocumented."""

import json
from typing import Any

import pytest
import schemathesis
from hypothesis import HealthCheck, Phase, given, settings
from schemathesis.checks import not_a_server_error
from schemathesis.specs.openapi.checks import (
    content_type_conformance,
    response_headers_conformance,
    response_schema_conformance,
    status_code_conformance,
)  # fmt: skip
from test_api import application, client, dataset, project, send  # noqa: F401
from test_contract import judged  # noqa: F401

from proteron.api.glossary import WORDS

CHECKS = (not_a_server_error, status_code_conformance, content_type_conformance, response_schema_conformance,
          response_headers_conformance)  # fmt: skip
EXAMPLES = 4  # of every operation; a bounded part of what was run once by the ten thousand


def operations(application) -> list[Any]:  # noqa: F811
    """Every operation of the document but the stream, which does not end."""
    schema = schemathesis.openapi.from_dict(json.loads(json.dumps(application.api_doc)))
    schema.app = application
    found = [each.ok() for each in schema.get_all_operations()]
    return [each for each in found if not each.path.endswith("/events")]


def test_ten_thousand_requests_are_answered_as_documented(application, judged) -> None:  # type: ignore[no-untyped-def] # noqa: F811
    """Generated paths, queries and bodies; two of three with ids that are there."""
    real = {"project_id": judged.project, "dataset_id": judged.dataset, "other_id": judged.dataset, "series": 0,
            "experiment_id": judged.experiment, "fitted_id": judged.fitted, "chain_id": judged.chain,
            "upload_id": judged.upload, "plan_id": judged.chain}  # fmt: skip
    asked = 0
    for operation in operations(application):

        @settings(max_examples=EXAMPLES, deadline=None, suppress_health_check=list(HealthCheck),
                  phases=[Phase.generate], derandomize=True, database=None)  # fmt: skip
        @given(case=operation.as_strategy())
        def answered(case: Any) -> None:
            nonlocal asked
            asked += 1
            if asked % 3 and case.path_parameters:
                known = {name: real[name] for name in case.path_parameters if name in real}
                case.path_parameters.update(known)
            response = case.call(base_url="http://127.0.0.1:8765")
            case.validate_response(response, checks=CHECKS)
            if case.method == "DELETE" and response.status_code == 200:  # what follows is to find it there
                case.operation.app.test_client().post(
                    f"{case.formatted_path}/restore", base_url="http://127.0.0.1:8765"
                )

        answered()
    assert asked >= 3 * 60


def test_every_property_and_parameter_is_described_and_no_word_is_told_in_vain(application) -> None:  # noqa: F811
    document = application.api_doc
    shapes = document["components"]["schemas"]
    told = {
        (shape, name): each for shape, schema in shapes.items() for name, each in schema.get("properties", {}).items()
    }
    parameters = [each for operations in document["paths"].values() for operation in operations.values()
                  for each in operation.get("parameters", ())]  # fmt: skip
    assert [place for place, each in told.items() if not each.get("description")] == []
    assert [each["name"] for each in parameters if not each.get("description")] == []
    names = {name for _, name in told} | {each["name"] for each in parameters}
    assert [w for w in WORDS if (tuple(w.split(".")) not in told if "." in w else w not in names)] == []
    assert told["SeriesView", "missing"]["minimum"] == 0
    assert told["BoardView", "skill_metric"]["description"] == WORDS["skill_metric"]


def test_what_has_a_known_shape_is_not_free_form(application) -> None:  # noqa: F811
    shapes = application.api_doc["components"]["schemas"]
    assert "oneOf" in shapes["FlattenBody"]["properties"]["chain"]["items"]
    assert shapes["WindowsBody"]["properties"]["plan"]["$ref"].endswith("/WindowPlan")
    assert shapes["Project"]["properties"]["choices"]["$ref"].endswith("/Choices")
    free = {(shape, name) for shape, schema in shapes.items() for name, each in schema.get("properties", {}).items()
            if '"additionalProperties": true' in json.dumps(each)}  # fmt: skip
    assert free == {
        ("Catalogue", "stages"), ("Catalogue", "forecasters"), ("Catalogue", "folds"), ("Catalogue", "plan"),  # schemas
        ("DatasetView", "account"), ("NewDataset", "account"), ("PreviewBody", "account"), ("Preview", "facts"),
        ("ImportBody", "document"), ("LeakView", "evidence"), ("Problem", "changed"),
        ("Member", "contender"),  # a contender whose forecaster may be what this is a part of
    }  # fmt: skip


def test_the_document_says_of_every_operation_how_it_goes_well_and_badly(application) -> None:  # noqa: F811
    document = application.api_doc
    assert document["openapi"].startswith("3.1")
    rooms = {tag["name"] for tag in document["tags"]}
    for path, found in document["paths"].items():
        for method, operation in found.items():
            where = (method, path)
            responses = operation["responses"]
            assert any(status.startswith("2") for status in responses), where
            assert set(operation["tags"]) <= rooms, where
            problems = {status: each for status, each in responses.items() if status[0] not in "23"}
            assert "default" in problems, where
            for each in problems.values():
                assert list(each["content"]) == ["application/problem+json"], where
                assert each["content"]["application/problem+json"]["schema"] == {"$ref": "#/components/schemas/Problem"}
            if method in ("post", "put", "patch") and not path.endswith(("/run", "/stop", "/restore")):
                assert operation.get("requestBody"), where


@pytest.mark.parametrize("name", ["a\0b", "half \ud800", "\udfff"])
def test_what_no_text_can_hold_is_refused_wherever_it_stands(client, name: str) -> None:  # type: ignore[no-untyped-def] # noqa: F811
    local = {"base_url": "http://127.0.0.1:8765"}
    nested = {"plan": {"more": [{"column": name}]}}
    for answer in (client.post("/api/v1/projects", json={"name": name}, **local),
                   client.patch("/api/v1/projects/1/choices", json=nested, **local)):  # fmt: skip
        assert answer.status_code == 422
        assert "cannot hold the character NUL or half a character" in answer.json["detail"]
    by_path = client.get("/api/v1/experiments/1/facts?contender=a%00b", **local)
    assert (by_path.status_code, by_path.content_type) == (422, "application/problem+json")
    whole = client.post("/api/v1/projects", json={"name": "𝄞 whole"}, **local)
    assert whole.status_code in (201, 409)


@pytest.mark.parametrize(
    ("path", "body"),
    [
        ("/datasets/{0}/windows/columns", {"target": -1, "plan": {}}),
        ("/datasets/{0}/windows", {"offset": -1, "plan": {}}),
        ("/datasets/{0}/leak-check", {"seed": -1, "plan": {}}),
        ("/datasets/{0}/windows", {"limit": 2001, "plan": {}}), ("/datasets/{0}/features", {"until": 0}),
        ("/datasets/{0}/features", {"until": 2**80}), ("/datasets/{0}/series/0/profile", {"until": -(2**80)}),
    ],
)  # fmt: skip
def test_numbers_keep_their_bounds(client, judged, path: str, body: dict) -> None:  # type: ignore[no-untyped-def] # noqa: F811
    answer = client.post("/api/v1" + path.format(judged.dataset), json=body, base_url="http://127.0.0.1:8765")
    assert answer.status_code == 422
    assert answer.json["field"] == next(iter(body))
    nothing = client.post(f"/api/v1/datasets/{judged.dataset}/series/0/profile", json={"until": -5},
                          base_url="http://127.0.0.1:8765")  # fmt: skip
    assert (nothing.status_code, nothing.json["known"]) == (200, 0)


@pytest.mark.parametrize("path", ["/api/openapi.json"])
def test_the_document_is_served(client, path: str) -> None:  # type: ignore[no-untyped-def] # noqa: F811
    served = client.get(path, base_url="http://127.0.0.1:8765")
    assert served.status_code == 200
    assert set(served.json["paths"]) == set(client.application.api_doc["paths"])
