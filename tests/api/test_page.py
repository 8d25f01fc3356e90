"""The page: what it tells the browser to fetch, and its files as they are sent."""

import gzip
import json
import re
from pathlib import Path

import pytest
from flask.testing import FlaskClient

from proteron.api.application import create_application
from proteron.records.configuration import Configuration

MANIFEST = {
    "src/main.ts": {"file": "assets/main.js", "isEntry": True},
    "src/rooms/outlook/OutlookRoom.vue": {
        "file": "assets/outlook.js", "imports": ["src/main.ts", "grid"], "css": ["assets/outlook.css"],
    },
    "grid": {"file": "assets/grid.js", "css": ["assets/grid.css"]},
}  # fmt: skip


LOCAL = {"base_url": "http://127.0.0.1:8765"}


@pytest.fixture
def built(tmp_path: Path, database_url: str) -> FlaskClient:
    (tmp_path / ".vite").mkdir()
    (tmp_path / ".vite" / "manifest.json").write_text(json.dumps(MANIFEST))
    (tmp_path / "index.html").write_text("<html><head></head><body></body></html>")
    (tmp_path / "assets").mkdir()
    (tmp_path / "assets" / "main.js").write_text("let a = 1;\n" * 500)
    (tmp_path / "assets" / "tiny.js").write_text("1")
    return create_application(Configuration(home=tmp_path), database_url, tmp_path).test_client()


def hrefs(built: FlaskClient, path: str) -> list[str]:
    answer = built.get(path, **LOCAL)
    assert answer.headers["Cache-Control"] == "no-cache"
    head, body = answer.text.split("</head>")
    assert body == "<body></body></html>"
    return re.findall(r'href="([^"]*)"', head)


def test_a_room_is_fetched_at_once_with_what_it_asks_first(built: FlaskClient) -> None:
    made = built.post("/api/v1/projects", json={"name": "told at once"}, **LOCAL).json["id"]
    code = ["/assets/outlook.js", "/assets/grid.js", "/assets/outlook.css", "/assets/grid.css"]
    asked = ["/api/v1/projects", f"/api/v1/projects/{made}", "/api/v1/catalogue"]
    assert hrefs(built, f"/p/{made}/outlook") == code + asked  # what the page itself brings is not told twice
    assert hrefs(built, "/p/999999999/outlook") == code  # what is not there is not asked for
    assert hrefs(built, f"/p/{made}/elsewhere") == asked
    assert hrefs(built, "/") == []
    for address in asked:
        assert built.get(address, **LOCAL).status_code == 200


def test_files_are_sent_compressed_where_that_is_understood_and_worth_it(built: FlaskClient) -> None:
    plain = built.get("/assets/main.js", **LOCAL)
    packed = built.get("/assets/main.js", headers={"Accept-Encoding": "gzip"}, **LOCAL)
    assert packed.headers["Content-Encoding"] == "gzip" and "Content-Encoding" not in plain.headers
    assert gzip.decompress(packed.data) == plain.data and len(packed.data) < len(plain.data) / 10
    assert packed.content_type == plain.content_type and plain.headers["Vary"] == "Accept-Encoding"
    assert all("immutable" in each.headers["Cache-Control"] for each in (plain, packed))
    tiny = built.get("/assets/tiny.js", headers={"Accept-Encoding": "gzip"}, **LOCAL)
    assert tiny.data == b"1" and "Content-Encoding" not in tiny.headers
    assert built.get("/assets/none.js", **LOCAL).status_code == 404
