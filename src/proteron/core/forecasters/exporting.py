"""Learned contenders for other runtimes: an ONNX graph, and as JSON what must be done before and after it."""

import io
import json
from pathlib import Path
from typing import Any
from zipfile import ZIP_DEFLATED, ZipFile

import numpy as np

from proteron.core.documents import canonical_json
from proteron.core.errors import InputError
from proteron.core.forecasters.contender import FittedContender
from proteron.core.forecasters.exchange.graph import Asked, Graph
from proteron.core.forecasters.window_forecaster import WindowForecaster, write_instead
from proteron.core.windows import WindowPlan

_SCHEMA = 1
_INPUTS = {
    "features": "rows of the plan, cut from flat values less their series' level, over its spread; NaN where missing",
    "level": "of the row's series",
    "spread": "of the row's series",
}
_OUTPUTS = {
    "mean": "forecasts in flat units; the chain leads back to original ones",
    "quantiles": "of the shares, rising, in flat units",
    "deviation": "the standard one of a normal distribution around the mean, in flat units",
}


def graph_of(fitted: FittedContender) -> tuple[bytes, dict[str, Any]]:
    """The ONNX file of a fitted contender, and the document that stands beside it.

    Raises `InputError` for one that has no graph: only networks and trees on windows do.
    """
    learner, state = fitted.contender.forecaster, fitted.state
    if not isinstance(learner, WindowForecaster) or not learner.has_graph:
        raise InputError(
            f"{learner.title} has no graph of operators: only networks and trees on windows have.", field="forecaster"
        )
    graph, plan = Graph(), state.facts["plan"]
    names = WindowPlan.parse(plan).names
    features = write_instead(graph, "features", np.array(state.facts["instead"]))
    told = learner.write_graph(state, Asked(graph, len(names), features, "level", "spread"))
    inputs = {"features": ("rows", len(names)), "level": ("rows", 1), "spread": ("rows", 1)}
    document = {
        "schema_version": _SCHEMA, "contender": fitted.contender.document(), "until": fitted.until,
        "axis": fitted.known.axis.document(), "chain": fitted.chain.document(), "plan": plan,
        "features": list(names), "series": {
            key: {name: _number(state.arrays[name][row]) for name in ("level", "spread")}
            for row, key in enumerate(state.keys)
        },
        "shares": list(state.facts.get("shares", [])) if "quantiles" in told else [],
        "inputs": {name: {"shape": inputs[name], "is": text} for name, text in _INPUTS.items()},
        "outputs": {name: {"shape": told[name][1], "is": text} for name, text in _OUTPUTS.items() if name in told},
    }  # fmt: skip
    made = graph.bytes(list(inputs.items()), [(name, inner, shape) for name, (inner, shape) in told.items()])
    return made, json.loads(canonical_json(document))


def export_onnx(fitted: FittedContender, path: Path | str) -> tuple[Path, Path]:
    """Write the graph to `path` (.onnx), and the document beside it (.json); returns both paths."""
    made, document = graph_of(fitted)
    target = Path(path)
    beside = target.with_suffix(".json")
    target.write_bytes(made)
    beside.write_text(_written(document), encoding="utf-8")
    return target, beside


def zipped_onnx(fitted: FittedContender, name: str) -> bytes:
    """Both files of `export_onnx` in a ZIP archive."""
    made, document = graph_of(fitted)
    out = io.BytesIO()
    with ZipFile(out, "w", ZIP_DEFLATED) as archive:
        archive.writestr(f"{name}.onnx", made)
        archive.writestr(f"{name}.json", _written(document))
    return out.getvalue()


def _number(value: float) -> float | None:
    """As JSON has it: what is not known of a series without values is null."""
    return float(value) if np.isfinite(value) else None


def _written(document: dict[str, Any]) -> str:
    return json.dumps(document, indent=1, ensure_ascii=False) + "\n"
