"""Errors as RFC 9457 problem documents with a stable type, a sentence and the field."""

from http import HTTPStatus

import structlog
from flask import Flask, Response
from pydantic import ValidationError
from werkzeug.exceptions import HTTPException

from proteron.api.shapes import Problem
from proteron.core.documents import settings_error
from proteron.core.errors import ProteronError

_STATUS = {"not_found": 404, "conflict": 409, "changed": 412, "limit": 413, "busy": 503}
log = structlog.get_logger()


def problem_of(error: ProteronError) -> Problem:
    status = _STATUS.get(error.code, 422)
    title = error.code.replace("_", " ")
    return Problem(
        type=f"/problems/{error.code}", title=title, status=status, detail=error.message, field=error.field,
        changed=getattr(error, "changed", None),
    )  # fmt: skip


def respond(problem: Problem) -> Response:
    left_out = {"changed"} if problem.changed is None else None
    return Response(problem.model_dump_json(exclude=left_out), problem.status, content_type="application/problem+json")


def validation_problem(error: ValidationError) -> Response:
    """What flask-openapi3 answers when path, query or body do not fit their model."""
    return respond(problem_of(settings_error(error)))


def install(app: Flask, upload_bytes: int) -> None:
    """Answer every error with a problem document."""

    @app.errorhandler(ProteronError)
    def _ours(error: ProteronError) -> Response:
        return respond(problem_of(error))

    @app.errorhandler(HTTPException)
    def _http(error: HTTPException) -> Response:
        status = error.code or 500
        title = HTTPStatus(status).phrase.lower()
        detail = error.description or title
        if status == 413:
            detail = f"The request is larger than the limit of {upload_bytes:,} bytes; nothing was stored."
        return respond(Problem(type=f"/problems/http-{status}", title=title, status=status, detail=detail))

    @app.errorhandler(MemoryError)
    def _memory(error: MemoryError) -> Response:
        return respond(
            Problem(type="/problems/limit", title="limit", status=413, detail="This needs more memory than there is.")
        )

    @app.errorhandler(Exception)
    def _unexpected(error: Exception) -> Response:
        log.exception("unexpected", error=str(error))
        detail = "Something unexpected went wrong here; the server's log has the details. Nothing half-made was stored."
        return respond(Problem(type="/problems/unexpected", title="unexpected", status=500, detail=detail))
