"""The web's way to the services: what is opened once per process, and how answers are written."""

from typing import Any

from flask import current_app
from pydantic import BaseModel
from werkzeug.wrappers import Response

from proteron.api.events import Hub
from proteron.core.errors import SettingsError
from proteron.core.flatten import Chain
from proteron.core.panel import Panel
from proteron.services.resources import Resources


def services() -> Resources:
    found: Resources = current_app.extensions["proteron"]
    return found


def hub() -> Hub:
    """The listener of this process that feeds every event stream."""
    reach = services()
    opened: Hub = reach.open("hub", lambda: Hub(reach.url, reach.settings.streams))
    return opened


def answer(shape: BaseModel, status: int = 200) -> Response:
    """A typed answer as JSON; NaN becomes null."""
    return Response(shape.model_dump_json(), status, content_type="application/json")


def chain_of(stages: list[dict[str, Any]], name: str = "") -> Chain:
    """A chain from posted stages; raises `SettingsError` naming what is wrong with them."""
    return Chain.from_document({"stages": stages, "name": name})


def series_index(panel: Panel, series: int) -> int:
    """Raise `SettingsError` unless the panel has such a series."""
    if not 0 <= series < len(panel):
        raise SettingsError(f"There are {len(panel)} series; there is no number {series}.", field="series")
    return series
