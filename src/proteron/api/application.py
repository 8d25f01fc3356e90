"""The web application: blueprints, problems, safety headers, the built front end."""

import json
import re
from pathlib import Path
from urllib.parse import unquote, urlsplit

from flask import jsonify, request
from flask_openapi3 import Info
from sqlalchemy import text
from werkzeug.exceptions import Forbidden, UnprocessableEntity
from werkzeug.wrappers import Response

import proteron
from proteron.api import (
    anomalies,
    chains,
    contenders,
    datasets,
    duel,
    flatten,
    glance,
    handover,
    intake,
    kept,
    outlook,
    problems,
    profile,
    projects,
    prospects,
    seals,
    search,
    shapes,
    takeaway,
    walkforward,
    watched,
    windows,
)
from proteron.api.document import DocumentedAPI
from proteron.api.page import serve_page
from proteron.api.services import answer, services
from proteron.records.configuration import Configuration
from proteron.records.kept import require_present
from proteron.services.resources import Resources

PAGE = Path(__file__).resolve().parents[3] / "ui" / "dist"
_NO_TEXT = re.compile("[\0\ud800-\udfff]|\\\\u0000")
_LOCAL = {"127.0.0.1", "localhost", "[::1]", "::1"}
_POLICY = (
    "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; object-src 'none'; "
    "base-uri 'none'; frame-ancestors 'none'; form-action 'self'"
)
_ROOMS = (
    projects,
    kept,
    datasets,
    intake,
    profile,
    flatten,
    chains,
    windows,
    walkforward,
    duel,
    seals,
    takeaway,
    prospects,
    search,
    glance,
    handover,
    contenders,
    anomalies,
    watched,
    outlook,
)


def create_application(settings: Configuration, url: str, page: Path = PAGE) -> DocumentedAPI:
    """Build the application; connections are opened at the first request, after forking."""
    app = DocumentedAPI(
        "proteron",
        info=Info(title="Proteron", version=proteron.__version__),
        doc_ui=False,
        doc_prefix="/api",
        doc_url="/openapi.json",
        security_schemes={},
        validation_error_callback=problems.validation_problem,
        validation_error_status=422,
        validation_error_model=shapes.Problem,
        static_folder=None,
    )
    app.config["MAX_CONTENT_LENGTH"] = settings.upload_bytes
    app.json.sort_keys = False  # type: ignore[attr-defined]
    app.extensions["proteron"] = Resources(settings, url)
    problems.install(app, settings.upload_bytes)
    for room in _ROOMS:
        app.register_api(room.blueprint)
    app.before_request(_refuse_strangers)
    app.before_request(_refuse_what_no_text_holds)
    app.before_request(_refuse_what_is_deleted)
    app.after_request(_add_headers)

    @app.route("/api/openapi.json")
    def openapi_document() -> Response:
        """The document of this API."""
        return jsonify(app.api_doc)

    @app.get("/api/v1/health", responses={200: shapes.Health})
    def health() -> Response:
        """Whether the application and its database answer."""
        with services().database.session() as session:
            session.execute(text("SELECT 1"))
        return answer(shapes.Health(status="ok", version=proteron.__version__, database="ok"))

    serve_page(app, page)
    return app


def _refuse_strangers() -> None:
    """Only this machine: no other host name may lead here, and no foreign page may write."""
    host = urlsplit(f"//{request.host}").hostname or ""
    if host not in _LOCAL:
        raise Forbidden(f"Proteron answers on this machine only, not as “{host}”.")
    origin = request.headers.get("Origin")
    if request.method not in ("GET", "HEAD", "OPTIONS") and origin and urlsplit(origin).netloc != request.host:
        raise Forbidden("Writes are accepted from Proteron's own page only.")


def _refuse_what_no_text_holds() -> None:
    """NUL, and halves of characters, are no text that can be stored; they are refused wherever they stand."""
    said = unquote(request.full_path)
    if request.is_json:
        said += json.dumps(request.get_json(silent=True), ensure_ascii=False)
    if _NO_TEXT.search(said):
        raise UnprocessableEntity("Text cannot hold the character NUL or half a character.")


def _refuse_what_is_deleted() -> None:
    """What is deleted is not there, nor anything that belongs to it, but for taking it back."""
    if request.view_args and request.blueprint != "kept":
        with services().database.look() as session:
            require_present(session, request.view_args)


def _add_headers(response: Response) -> Response:
    response.headers["Content-Security-Policy"] = _POLICY
    response.headers["X-Content-Type-Options"] = "nosniff"
    response.headers["Referrer-Policy"] = "same-origin"
    return response
