"""The page: its files, compressed, and what its first room will ask for, told to the browser at once."""

import gzip
import json
import re
from functools import lru_cache
from pathlib import Path
from typing import Any

from flask import Flask, request, send_from_directory
from sqlalchemy.exc import SQLAlchemyError
from werkzeug.exceptions import NotFound
from werkzeug.wrappers import Response

from proteron.api.services import services
from proteron.records.database import NotFoundError
from proteron.records.projects import get_project

_ROOM = re.compile(r"p/(\d{1,9})/(\w+)")
_PACKED = (".js", ".css", ".svg")
_SMALL = 1000
_KEPT_FILES = 128
_FOREVER = "public, max-age=31536000, immutable"


def serve_page(app: Flask, page: Path) -> None:
    """Answer every address outside the API with the page built in `page`, or a file of it."""

    @app.route("/", defaults={"path": ""})
    @app.route("/<path:path>")
    def front_end(path: str) -> Response:
        if path.startswith("api/"):
            raise NotFound("There is no such address in the API.")
        if path.startswith("assets/"):
            return _asset(page, path)
        if not (page / "index.html").exists():
            raise NotFound("The front end is not built; run ./run once.")
        found = _ROOM.fullmatch(path)
        links = _hints(page, int(found[1]), found[2]) if found else []
        text = _read(page / "index.html", (page / "index.html").stat().st_mtime_ns)
        response = Response(text.replace("</head>", "".join(links) + "</head>", 1), content_type="text/html")
        response.headers["Cache-Control"] = "no-cache"
        return response


def _asset(page: Path, path: str) -> Response:
    """A file whose name holds its hash, compressed where the browser takes it."""
    response: Response = send_from_directory(page, path)
    file = page / path
    packed = _packed(file, file.stat().st_mtime_ns) if file.suffix in _PACKED else None
    if packed is not None:
        if request.accept_encodings["gzip"] > 0:
            response = Response(packed, content_type=response.content_type)
            response.headers["Content-Encoding"] = "gzip"
        response.headers["Vary"] = "Accept-Encoding"
    response.headers["Cache-Control"] = _FOREVER
    return response


@lru_cache(_KEPT_FILES)
def _packed(file: Path, _version: int) -> bytes | None:
    """The file compressed, or None where that is not worth it."""
    content = file.read_bytes()
    return gzip.compress(content, 9) if len(content) > _SMALL else None


@lru_cache(4)
def _read(file: Path, _version: int) -> str:
    return file.read_text()


def _hints(page: Path, project_id: int, room: str) -> list[str]:
    """Links to the code of a room and to the answers that every room begins with, so that all are fetched at once."""
    manifest = page / ".vite" / "manifest.json"
    code = _code(manifest, manifest.stat().st_mtime_ns, room) if manifest.exists() else ()
    return [
        *code,
        *(f'<link rel="preload" as="fetch" crossorigin href="/api/v1/{each}">' for each in _asked(project_id, room)),
    ]


def _asked(project_id: int, room: str) -> list[str]:
    """What a room of a project asks for first; nothing where there is no such project."""
    try:
        with services().database.session() as session:
            choices = get_project(session, project_id).choices
    except (NotFoundError, SQLAlchemyError):
        return []
    dataset = [f"datasets/{choices['dataset_id']}"] if choices.get("dataset_id") else []
    judged = f"experiments/{choices.get('experiment_id')}"
    board = [judged, f"{judged}/board"] if room == "walkforward" and choices.get("experiment_id") else []
    return ["projects", f"projects/{project_id}", "catalogue", *dataset, *board]


@lru_cache(16)
def _code(manifest: Path, _version: int, room: str) -> tuple[str, ...]:
    """Links to the modules and styles of a room, those of the modules they import included."""
    parts: dict[str, Any] = json.loads(manifest.read_text())
    entry = next((name for name in parts if name.lower().startswith(f"src/rooms/{room}/{room}room.")), None)
    seen: dict[str, None] = {}
    waiting = [entry] if entry else []
    while waiting:
        name = waiting.pop()
        if name not in seen and not parts[name].get("isEntry"):
            seen[name] = None
            waiting.extend(parts[name].get("imports", []))
    scripts = [f'<link rel="modulepreload" href="/{parts[name]["file"]}">' for name in seen]
    styles = dict.fromkeys(sheet for name in seen for sheet in parts[name].get("css", []))
    return (*scripts, *(f'<link rel="preload" as="style" crossorigin href="/{sheet}">' for sheet in styles))
