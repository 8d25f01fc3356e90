"""Renaming, copying, deleting and restoring of what has a name; one who acts on old knowledge is told what changed."""

from collections.abc import Callable
from typing import Any

from flask import request
from flask_openapi3 import APIBlueprint
from pydantic import BaseModel
from werkzeug.wrappers import Response

from proteron.api import shapes
from proteron.api.services import answer, services
from proteron.core.errors import SettingsError
from proteron.records import kept as records
from proteron.records.copies import copy_kept
from proteron.records.projects import get_project
from proteron.services import kept

blueprint = APIBlueprint("kept", __name__, url_prefix="/api/v1")
_PROBLEMS: dict[str | int, Any] = {404: shapes.Problem, 409: shapes.Problem, 412: shapes.Problem, 422: shapes.Problem}


def tag_of(kind: str, record_id: int, revision: int) -> str:
    """What an ETag says: which record, and how often it was changed."""
    return f"{kind}-{record_id}-{revision}"


def known_revision(kind: str, record_id: int) -> int | None:
    """The revision the sender knows, by If-Match; None where it does not say, or takes any.

    Raises `SettingsError` where it is not a tag of this record.
    """
    if not request.headers.get("If-Match") or request.if_match.star_tag:
        return None
    tag = next(iter(request.if_match.as_set()), "")
    front, _, revision = tag.rpartition("-")
    if front != f"{kind}-{record_id}" or not revision.isdecimal() or len(revision) > 18:
        raise SettingsError(f"If-Match is not an ETag of {front or 'this'}: “{tag[:60]}”.", field="If-Match")
    return int(revision)


def tagged(response: Response, kind: str, record: records.Record) -> Response:
    """The response with the record's ETag."""
    response.set_etag(tag_of(kind, record.id, record.revision))
    return response


def view_of(kind: str, record: records.Record) -> shapes.KeptView:
    deleted = record.deleted
    return shapes.KeptView(
        kind=kind, id=record.id, project_id=records.project_of(record), name=record.name, revision=record.revision,
        deleted=deleted.isoformat() if deleted else None,
        until=records.restorable_until(record).isoformat() if deleted else None,
    )  # fmt: skip


@blueprint.get("/projects/<int:project_id>/deleted", responses={200: shapes.KeptList, 404: shapes.Problem})
def deleted(path: shapes.ProjectPath) -> Response:
    """What was deleted in a project and can still be restored, the last first."""
    with services().database.session() as session:
        get_project(session, path.project_id)
        found = [view_of(kind, record) for kind, record in records.deleted_in(session, path.project_id)]
    return answer(shapes.KeptList(kept=found))


def _install(kind: records.Kind, path_model: type[BaseModel], field: str) -> None:
    """Four operations on what is kept under `kind`, its number in the path under `field`."""
    one = kind.removesuffix("s")
    address = f"/{kind}/<int:{field}>"
    into = " in its project" if kind == "experiments" else "" if kind == "projects" else " in its or another project"

    def named(text: str, name: str) -> Callable[[Any], Any]:
        def give(function: Any) -> Any:
            function.__name__, function.__doc__ = f"{name}_{one}", text
            return function

        return give

    def rename(path: path_model, header: shapes.IfMatch, body: shapes.NameBody) -> Response:  # type: ignore[valid-type]
        number = getattr(path, field)
        with services().database.session() as session:
            record = records.rename(session, kind, number, body.name, known_revision(kind, number))
            return tagged(answer(view_of(kind, record)), kind, record)

    def copy(path: path_model, body: shapes.CopyBody) -> Response:  # type: ignore[valid-type]
        number = getattr(path, field)
        with services().computing(), services().database.session() as session:
            record = copy_kept(session, kind, number, body.name, body.project_id)
            return tagged(answer(view_of(kind, record), 201), kind, record)

    def delete(path: path_model, header: shapes.IfMatch) -> Response:  # type: ignore[valid-type]
        number = getattr(path, field)
        record = kept.delete(services(), kind, number, known_revision(kind, number))
        return tagged(answer(view_of(kind, record)), kind, record)

    def restore(path: path_model) -> Response:  # type: ignore[valid-type]
        with services().database.session() as session:
            record = records.restore(session, kind, getattr(path, field))
            return tagged(answer(view_of(kind, record)), kind, record)

    tell: dict[str | int, Any] = {200: shapes.KeptView, **_PROBLEMS}
    blueprint.patch(address, responses=tell)(named(f"Rename a {one}.", "rename")(rename))
    blueprint.post(f"{address}/copy", responses={201: shapes.KeptView, **_PROBLEMS})(
        named(f"Copy a {one}{into}.", "copy")(copy)
    )
    about = f"Delete a {one}: hidden with all that belongs to it, and restorable for {records.KEPT_DAYS} days."
    blueprint.delete(address, responses=tell)(named(about, "delete")(delete))
    blueprint.post(f"{address}/restore", responses=tell)(
        named(f"Take the deletion of a {one} back.", "restore")(restore)
    )


_install("projects", shapes.ProjectPath, "project_id")
_install("datasets", shapes.DatasetPath, "dataset_id")
_install("experiments", shapes.ExperimentPath, "experiment_id")
_install("chains", shapes.ChainPath, "chain_id")
_install("plans", shapes.PlanPath, "plan_id")
