"""The bank of files through the API: read, named and refused as by the library."""

import re
from collections.abc import Iterator

import pytest
from flask.testing import FlaskClient
from test_api import application, client, get, post, send  # noqa: F401
from tests.core.intake.bank import CASES, Case

import proteron as pt


@pytest.fixture(scope="module")
def project(application) -> Iterator[int]:  # noqa: F811
    opened = application.test_client()
    yield post(opened, "/projects", {"name": "bank of files"}).json["id"]


def body_of(case: Case, **more: object) -> dict[str, object]:
    return {"recipe": {**case.recipe, "zone": case.zone}, **more}


@pytest.mark.parametrize("case", CASES, ids=lambda case: case.name)
def test_a_file_is_read_as_by_the_library(client: FlaskClient, project: int, case: Case) -> None:  # noqa: F811
    upload = send(client, case.content)
    if case.refusal and upload.status_code >= 400:
        assert re.search(case.refusal, upload.json["detail"])
        return
    address = f"/uploads/{upload.json['upload_id']}"
    preview = post(client, f"{address}/preview", body_of(case, project_id=project))
    store = body_of(case, project_id=project, name=case.name)
    if case.refusal:
        made = post(client, f"{address}/dataset", store)
        assert made.status_code == 422
        assert re.search(case.refusal, made.json["detail"])
        assert re.search(case.refusal, (preview.json.get("problem") or preview.json)["detail"])
        return
    reading = pt.read_table(case.content, recipe=case.recipe or None, zone=case.zone)
    shown = preview.json
    assert (shown["step"], shown["series_count"]) == (case.step, len(case.keys))
    assert [each["id"] for each in shown["findings"]] == [each.id for each in reading.findings]
    open_ones = {each["id"]: each["chosen"] for each in shown["findings"] if not each["settled"]}
    store["recipe"]["remedies"] = {**case.recipe.get("remedies", {}), **open_ones}  # type: ignore[index]
    made = post(client, f"{address}/dataset", store)
    assert made.status_code == 201, made.json
    assert [each["key"] for each in made.json["series"]] == list(case.keys)
    assert made.json["hash"] == reading.panel.hash
