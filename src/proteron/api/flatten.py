"""Flatten: the chain's lanes as of the cutoff, from raw to flat."""

from typing import Any

import numpy as np
from flask_openapi3 import APIBlueprint
from werkzeug.wrappers import Response

from proteron.api import shapes
from proteron.api.lines import line
from proteron.api.profile import run_tests, test_view, verdict_of
from proteron.api.services import answer, series_index, services
from proteron.core.flatten import Chain, FittedChain
from proteron.core.panel import Floats, Panel

blueprint = APIBlueprint("flatten", __name__, url_prefix="/api/v1")
_TESTED_POINTS = 4000


@blueprint.post("/datasets/<int:dataset_id>/series/<int:series>/flatten", responses={200: shapes.FlattenView})
def flatten(path: shapes.SeriesPath, body: shapes.FlattenBody) -> Response:
    """Every stage's output and removed part over a span, learned from what is known at `until` only."""
    panel = services().panel(path.dataset_id)
    index = series_index(panel, path.series)
    with services().computing():
        one = panel.select([index])
        fitted = Chain(body.chain).fit(one, min(body.until, panel.end))
        return answer(_view(one, fitted, body))


def _view(panel: Panel, fitted: FittedChain, body: shapes.FlattenBody) -> shapes.FlattenView:
    first = int(panel.starts[0])
    lanes = fitted.lanes(panel, 0)
    known = int(panel.known_lengths(body.until)[0])
    span = (body.start, body.stop, body.width)
    positions = panel.positions(0)
    stages = []
    steps = zip(fitted.stages, fitted.states_of(panel.keys[0]), lanes[:-1], lanes[1:], strict=True)
    for stage, state, entered, left in steps:
        removed = stage.removed(state, positions, panel.axis)
        tests = run_tests(left[:known][-_TESTED_POINTS:], panel.axis.step.season)
        stages.append(
            shapes.StageView(
                kind=stage.document()["kind"],
                title=stage.title,
                output=line(panel.axis, first, left, *span),
                removed=None if removed is None else line(panel.axis, first, removed, *span),
                arrays=_learned(state.arrays),
                notes=list(state.notes),
                variance_share=None if removed is None else _share(entered[:known], left[:known]),
                tests=[test_view(test) for test in tests],
                verdict=verdict_of(tests),
            )
        )
    return shapes.FlattenView(
        observed=line(panel.axis, first, panel.series(0), *span), stages=stages, round_trip=_round_trip(panel, fitted)
    )


def _learned(arrays: Any) -> dict[str, Any]:
    """What a stage learned; long arrays such as differencing heads are counted, not sent."""
    out: dict[str, Any] = {}
    for name, array in arrays.items():
        values = np.asarray(array)
        out[name] = values.tolist() if values.size <= 2000 else f"{values.size:,} values"
    return out


def _share(entered: Floats, left: Floats) -> float | None:
    """Share of the variance of known points that a stage took out."""
    both = np.isfinite(entered) & np.isfinite(left)
    total = entered[both].var() if both.any() else 0.0
    return float(1 - left[both].var() / total) if total > 0 else None


def _round_trip(panel: Panel, fitted: FittedChain) -> float | None:
    """Largest relative error of undo after apply over every point."""
    if not fitted.stages:
        return 0.0
    back = fitted.undo(fitted.apply(panel)).values
    size = np.maximum(np.abs(panel.values), 1e-300)
    errors = np.abs(back - panel.values) / size
    return float(np.nanmax(errors)) if np.isfinite(errors).any() else None
