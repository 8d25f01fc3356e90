"""Windows: a slice of the table, the leak check, the table to take away."""

import json
import tempfile
from collections import OrderedDict
from collections.abc import Iterator
from pathlib import Path

import numpy as np
from flask import request
from flask_openapi3 import APIBlueprint
from werkzeug.wrappers import Response

from proteron.api import shapes
from proteron.api.lines import epochs
from proteron.api.services import answer, chain_of, series_index, services
from proteron.core.errors import LimitError
from proteron.core.flatten import Chain
from proteron.core.leak_check import leak_check
from proteron.core.panel import Panel
from proteron.core.windows import WORDS, Table, WindowPlan, read_plan, write_plan
from proteron.core.windows.taking import Format, data_card, write_table
from proteron.records.datasets import get_dataset

blueprint = APIBlueprint("windows", __name__, url_prefix="/api/v1")
_CELLS_AT_MOST = 400_000_000
_tables: OrderedDict[tuple[int, int | None, int | None, str, str], Table] = OrderedDict()
_FORMATS: dict[str, tuple[Format, str]] = {
    "application/vnd.apache.arrow.stream": ("arrow", "arrows"),
    "application/vnd.apache.parquet": ("parquet", "parquet"),
    "text/csv": ("csv", "csv"),
    "application/x-npz": ("npz", "npz"),
}


@blueprint.post("/datasets/<int:dataset_id>/windows", responses={200: shapes.WindowsView, 422: shapes.Problem})
def windows(path: shapes.DatasetPath, body: shapes.WindowsBody) -> Response:
    """Rows `offset` … of the table, and where each column comes from; `find` gives the row of an origin."""
    with services().computing():
        table = _table(path.dataset_id, body)
        part = slice(body.offset, body.offset + body.limit)
        cells = np.concatenate([table.features[part], table.targets[part]], axis=1)
        found = None
        if body.find is not None and len(table):
            found = int(np.abs(table.positions - body.find).argmin())
        owners = [feature for feature in body.window_plan.features for _ in feature.names]
        sources = [
            shapes.SourceView(
                name=name, kind=owner.kind, first=max(first, -table.panel.end), last=last, whole=owner.whole_past
            )
            for (name, first, last), owner in zip(body.window_plan.sources(), owners, strict=True)
        ]
        return answer(
            shapes.WindowsView(
                text=write_plan(body.window_plan),
                total=len(table), names=list(table.names), target_names=list(table.target_names), sources=sources,
                look_back=body.window_plan.look_back, dropped=table.dropped, offset=body.offset,
                positions=table.positions[part].tolist(), times=epochs(table.panel.axis, table.positions[part]),
                rows=cells.tolist(), found=found,
            )
        )  # fmt: skip


@blueprint.post("/plans/text", responses={200: shapes.PlanTextView, 422: shapes.Problem})
def read_plan_text(body: shapes.PlanTextBody) -> Response:
    """The plan a text stands for, and the text in its own form; what cannot be read is quoted with a reason."""
    plan = read_plan(body.text)
    return answer(shapes.PlanTextView(plan=plan.document(), text=write_plan(plan), words=list(WORDS)))


@blueprint.post("/datasets/<int:dataset_id>/leak-check", responses={200: shapes.LeakView, 422: shapes.Problem})
def check_leaks(path: shapes.DatasetPath, body: shapes.LeakBody) -> Response:
    """Corrupt the future of sampled origins, recompute chain and rows, compare bit for bit."""
    panel = services().panel(path.dataset_id)
    with services().computing():
        outcome = leak_check(panel, body.window_plan, chain_of(body.chain), origins=body.origins, seed=body.seed)
    return answer(shapes.LeakView(passed=outcome.passed, evidence=outcome.evidence))


@blueprint.post("/datasets/<int:dataset_id>/windows/table")
def take_table(path: shapes.DatasetPath, body: shapes.TakeBody) -> Response:
    """The whole table as Arrow stream, Parquet, CSV or NPZ, by content negotiation; written and sent in pieces."""
    wanted = request.accept_mimetypes.best_match(list(_FORMATS)) or "text/csv"
    kind, ending = _FORMATS[wanted]
    panel, _ = _flat_panel(path.dataset_id, body)
    if kind == "npz" or body.window_plan.needs_whole_series:  # not written in pieces of any size
        _refuse_huge(len(panel.values), body.window_plan)
    folder = tempfile.TemporaryDirectory()
    file = Path(folder.name) / "table"
    with services().computing():
        write_table(body.window_plan, panel, file, kind, body.shares)

    def pieces() -> Iterator[bytes]:
        with folder, file.open("rb") as content:
            while piece := content.read(1 << 20):
                yield piece

    headers = {"Content-Disposition": f'attachment; filename="windows.{ending}"'}
    return Response(pieces(), content_type=wanted, headers=headers)


@blueprint.post("/datasets/<int:dataset_id>/windows/card")
def table_card(path: shapes.DatasetPath, body: shapes.TakeBody) -> Response:
    """The data card of a table: dataset, plan, chain, columns with what they read, units, shape."""
    panel, chain = _flat_panel(path.dataset_id, body)
    with services().database.session() as session:
        dataset = get_dataset(session, path.dataset_id).hash
    with services().computing():
        rows = sum(len(piece) for piece in body.window_plan.batches(panel))
    text = json.dumps(data_card(body.window_plan, panel, chain, dataset, rows), indent=1, ensure_ascii=False)
    headers = {"Content-Disposition": 'attachment; filename="windows-card.json"'}
    return Response(text + "\n", content_type="application/json", headers=headers)


def _flat_panel(dataset_id: int, body: shapes.WindowsBody) -> tuple[Panel, Chain]:
    """The panel, or one series of it, behind the chain as fitted at the cutoff."""
    panel = services().panel(dataset_id)
    chain = chain_of(body.chain)
    if body.series is not None:
        panel = panel.select([series_index(panel, body.series)])
    if chain.active:
        until = panel.end if body.until is None else min(body.until, panel.end)
        panel = chain.fit(panel, until).apply(panel)
    return panel, chain


def _table(dataset_id: int, body: shapes.WindowsBody) -> Table:
    """The table of one series or all, on flat values where there is a chain; the last few are kept."""
    key = (
        dataset_id,
        body.until if body.chain else None,
        body.series,
        body.window_plan.hash,
        chain_of(body.chain).hash,
    )
    if key in _tables:
        return _tables[key]
    panel = services().panel(dataset_id)
    points = len(panel.values) if body.series is None else int(panel.lengths[series_index(panel, body.series)])
    _refuse_huge(points, body.window_plan)
    panel, _ = _flat_panel(dataset_id, body)
    _tables[key] = body.window_plan.cut(panel)
    while len(_tables) > 3:
        _tables.popitem(last=False)
    return _tables[key]


def _refuse_huge(points: int, plan: WindowPlan) -> None:
    cells = points // plan.stride * (len(plan.names) + len(plan.horizon))
    if cells > _CELLS_AT_MOST:
        raise LimitError(
            f"This table would have about {cells:,} cells; the limit here is {_CELLS_AT_MOST:,}. "
            "Choose one series, a longer stride, or cut it in Python.",
            field="plan",
        )
