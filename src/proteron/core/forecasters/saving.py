"""Fitted contenders as files: JSON and named arrays in one archive, nothing that runs when it is read."""

import json
from dataclasses import asdict
from pathlib import Path
from typing import Any

from proteron.core.archives import archive_bytes, read_archive
from proteron.core.documents import canonical_json
from proteron.core.forecasters.contender import Contender, FittedContender
from proteron.core.panel import Covariate, Mask, Occasion, Panel
from proteron.core.timeline import TimeAxis

_SCHEMA = 1
_STATE, _COLUMN = "state.", "column."
_OF_PANEL = ("values", "offsets", "starts", "marks")


def save_fitted(fitted: FittedContender, path: Path | str) -> Path:
    """Write a fitted contender with what it knew, so that it forecasts elsewhere to the bit; returns the path."""
    target = Path(path)
    target.write_bytes(fitted_bytes(fitted))
    return target


def fitted_bytes(fitted: FittedContender) -> bytes:
    """The file of `save_fitted`: an NPZ archive without pickled objects, arrays and a JSON document beside them."""
    known = fitted.known
    document = {
        "schema_version": _SCHEMA, "contender": fitted.contender.document(), "until": fitted.until,
        "chain": fitted.chain.document(), "keys": fitted.state.keys, "facts": fitted.state.facts,
        "panel": {
            "axis": known.axis.document(), "keys": known.keys, "unit": known.unit,
            "columns": [{"name": c.name, "role": c.role, "labels": c.labels} for c in known.covariates],
            "masks": [asdict(mask) for mask in known.masks], "occasions": [asdict(each) for each in known.occasions],
        },
    }  # fmt: skip
    kept = {**fitted.state.arrays, **({} if fitted.guards is None else fitted.guards.arrays())}
    arrays: dict[str, Any] = {f"{_STATE}{name}": array for name, array in kept.items()}
    arrays |= {name: getattr(known, name) for name in _OF_PANEL}
    for place, column in enumerate(known.covariates):
        arrays |= {f"{_COLUMN}{place}.values": column.values, f"{_COLUMN}{place}.offsets": column.offsets}
    return archive_bytes(_text(document), arrays)


def _text(document: Any) -> str:
    """JSON that keeps missing numbers as such."""
    return canonical_json(json.loads(json.dumps(document, default=lambda value: value.item())))


def load_fitted(path: Path | str | bytes) -> FittedContender:
    """Read what `save_fitted` wrote, by its path or its bytes; raises `InputError` for anything else, or for another
    version of a method."""
    return read_archive(path, "fitted contender", _SCHEMA, _fitted)


def _fitted(document: dict[str, Any], arrays: dict[str, Any]) -> FittedContender:
    told = document["panel"]
    axis = TimeAxis.from_document(told["axis"])
    columns = tuple(
        Covariate(each["name"], each["role"], arrays[f"{_COLUMN}{place}.values"], arrays[f"{_COLUMN}{place}.offsets"],
                  tuple(each["labels"]))
        for place, each in enumerate(told["columns"])
    )  # fmt: skip
    known = Panel(
        axis, tuple(told["keys"]), arrays["values"], arrays["offsets"], arrays["starts"], columns, arrays["marks"],
        told["unit"], tuple(Mask(**each) for each in told["masks"]),
        tuple(Occasion(**each) for each in told["occasions"]),
    )  # fmt: skip
    kept = {name.removeprefix(_STATE): array for name, array in arrays.items() if name.startswith(_STATE)}
    contender = Contender.parse(document["contender"])
    return contender.restored(known, int(document["until"]), document["chain"], document["facts"], kept)
