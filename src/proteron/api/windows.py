"""Windows: plans, a slice of the table, its columns, what was left out, the leak check, the table to take away."""

import json
import threading
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import asdict
from itertools import chain as chained
from typing import TypeVar

import numpy as np
from flask import request
from flask_openapi3 import APIBlueprint
from werkzeug.wrappers import Response

from proteron.api import shapes
from proteron.api import window_shapes as forms
from proteron.api.lines import epochs
from proteron.api.services import answer, chain_of, series_index, services
from proteron.core.errors import LimitError, SettingsError
from proteron.core.flatten import Chain
from proteron.core.leak_check import leak_check
from proteron.core.panel import Panel
from proteron.core.timeline import Ints
from proteron.core.windows import REASONS, WORDS, LeftOut, Table, WindowPlan, read_plan, write_plan
from proteron.core.windows.columns import column_facts
from proteron.core.windows.presets import plan_presets
from proteron.core.windows.taking import Format, data_card, table_bytes
from proteron.records.chains import save, saved_of
from proteron.records.datasets import get_dataset
from proteron.records.models import Saved
from proteron.records.projects import get_project

blueprint = APIBlueprint("windows", __name__, url_prefix="/api/v1")
_CELLS_AT_MOST = 400_000_000
_SPAN_AT_MOST = 50_000
_FORMATS: dict[str, tuple[Format, str]] = {
    "application/vnd.apache.arrow.stream": ("arrow", "arrows"),
    "application/vnd.apache.parquet": ("parquet", "parquet"),
    "text/csv": ("csv", "csv"),
    "application/x-npz": ("npz", "npz"),
}
_TableKey = tuple[int, int | None, int | None, str, str]
_Key = TypeVar("_Key")
_Made = TypeVar("_Made")
_lock = threading.Lock()
_tables: OrderedDict[_TableKey, Table] = OrderedDict()
_orders: OrderedDict[tuple[_TableKey, str], Ints | None] = OrderedDict()
_lost: OrderedDict[_TableKey, LeftOut] = OrderedDict()


@blueprint.post("/datasets/<int:dataset_id>/windows", responses={200: forms.WindowsView, 422: shapes.Problem})
def windows(path: shapes.DatasetPath, body: forms.WindowsBody) -> Response:
    """Rows `offset` … of the table, and where each column comes from; `find` gives the row of an origin."""
    with services().computing():
        table = _table(path.dataset_id, body)
        order = _order(path.dataset_id, body, table)
        positions = table.positions if order is None else table.positions[order]
        found = int(np.abs(positions - body.find).argmin()) if body.find is not None and len(positions) else None
        offset = (found or 0) // max(body.limit, 1) * body.limit if body.offset is None else body.offset
        part: slice | Ints = slice(offset, offset + body.limit)
        if order is not None:
            part = order[part]
        cells = np.concatenate([table.features[part], table.targets[part]], axis=1)
        owners = [feature for feature in body.window_plan.features for _ in feature.names]
        sources = [
            forms.SourceView(
                name=name, kind=owner.kind, first=max(first, -table.panel.end), last=last, whole=owner.whole_past
            )
            for (name, first, last), owner in zip(body.window_plan.sources(), owners, strict=True)
        ]
        start, values = _span(table.panel, body.span)
        return answer(
            forms.WindowsView(
                text=write_plan(body.window_plan),
                total=len(positions), names=list(table.names), target_names=list(table.target_names), sources=sources,
                look_back=body.window_plan.look_back, dropped=table.dropped, offset=offset,
                positions=table.positions[part].tolist(), times=epochs(table.panel.axis, table.positions[part]),
                series=table.series[part].tolist(), rows=cells.tolist(), found=found,
                span_start=start, span_values=values,
            )
        )  # fmt: skip


@blueprint.post(
    "/datasets/<int:dataset_id>/windows/columns", responses={200: forms.ColumnFactsView, 422: shapes.Problem}
)
def columns(path: shapes.DatasetPath, body: forms.ColumnFactsBody) -> Response:
    """Facts of every column over the rows whose targets are known at `until`."""
    with services().computing():
        table = _table(path.dataset_id, body)
        if body.target >= len(table.target_names):
            raise SettingsError(f"The plan has {len(table.target_names)} targets.", field="target")
        whole = len(table)
        table = table.between(0, table.panel.known(body.until) - max(body.window_plan.horizon))
        facts = column_facts(table, body.target)
    return answer(
        forms.ColumnFactsView(
            rows=whole, looked_at=len(table), target=table.target_names[body.target],
            columns=[forms.ColumnFactView.model_validate(asdict(each)) for each in facts],
        )
    )  # fmt: skip


@blueprint.post("/datasets/<int:dataset_id>/windows/left-out", responses={200: forms.LeftOutView, 422: shapes.Problem})
def left_out(path: shapes.DatasetPath, body: forms.LeftOutBody) -> Response:
    """Origins that give no row, of one reason or all, and how many of each reason every series has."""
    with services().computing():
        panel, _ = _flat_panel(path.dataset_id, body)
        body.window_plan.check(panel)
        lost = _remembered(_lost, _key(path.dataset_id, body), lambda: body.window_plan.rows_left_out(panel))
        chosen = np.arange(len(lost.reasons))
        if body.reason is not None:
            if body.reason not in REASONS:
                raise SettingsError(f"The reasons are: {', '.join(REASONS)}.", field="reason")
            chosen = np.flatnonzero(lost.reasons == REASONS.index(body.reason))
        part = chosen[body.offset : body.offset + body.limit]
        counts = [
            np.bincount(lost.series[lost.reasons == code], minlength=len(panel)).tolist()
            for code in range(len(REASONS))
        ]
        return answer(
            forms.LeftOutView(
                total=len(chosen), reasons=list(REASONS), keys=list(panel.keys), counts=counts, offset=body.offset,
                positions=lost.positions[part].tolist(), times=epochs(panel.axis, lost.positions[part]),
                series=lost.series[part].tolist(), why=[lost.why(row) for row in part.tolist()],
            )
        )  # fmt: skip


@blueprint.post(
    "/datasets/<int:dataset_id>/windows/presets", responses={200: forms.PlanPresetsView, 422: shapes.Problem}
)
def presets(path: shapes.DatasetPath, body: forms.PlanPresetsBody) -> Response:
    """Plans to begin with for one series, each with the reason that lies in what is known at `until`."""
    panel = services().panel(path.dataset_id)
    with services().computing():
        found = plan_presets(panel, series_index(panel, body.series), body.until, tuple(sorted(set(body.horizon))))
    return answer(
        forms.PlanPresetsView(
            presets=[
                forms.PlanPresetView(
                    title=each.title, reason=each.reason, text=write_plan(each.plan), plan=each.plan.document()
                )
                for each in found
            ]
        )
    )


@blueprint.get("/projects/<int:project_id>/plans", responses={200: forms.SavedPlans, 404: shapes.Problem})
def list_plans(path: shapes.ProjectPath) -> Response:
    """The plans that were given a name in a project."""
    with services().database.session() as session:
        get_project(session, path.project_id)
        saved = [_saved_plan(each) for each in saved_of(session, path.project_id, "plans")]
    return answer(forms.SavedPlans(saved=saved))


@blueprint.post("/projects/<int:project_id>/plans", responses={201: forms.SavedPlan, 404: shapes.Problem})
def save_plan(path: shapes.ProjectPath, body: forms.SavePlanBody) -> Response:
    """Keep a plan under a name; the same name again replaces it."""
    with services().database.session() as session:
        get_project(session, path.project_id)
        return answer(
            _saved_plan(save(session, path.project_id, "plans", body.name.strip(), body.plan.document())), 201
        )


def _saved_plan(record: Saved) -> forms.SavedPlan:
    plan = WindowPlan.parse(record.document)
    return forms.SavedPlan(
        id=record.id, revision=record.revision, name=record.name, text=write_plan(plan), plan=plan.document()
    )  # fmt: skip


@blueprint.post("/plans/text", responses={200: forms.PlanTextView, 422: shapes.Problem})
def read_plan_text(body: forms.PlanTextBody) -> Response:
    """The plan of a text and the text of a plan in its own form; what cannot be done is quoted with a reason."""
    plan = read_plan(body.text) if body.text is not None else WindowPlan.parse(body.plan or {})
    words = list(WORDS)
    if body.dataset_id is not None:
        panel = services().panel(body.dataset_id)
        plan.check(panel)
        words += [f"{each.name} is" if each.role == "static" else f"{each.name} at" for each in panel.covariates]
        words += sorted({f"occasion {each.name}" for each in panel.occasions})
    return answer(forms.PlanTextView(plan=plan.document(), text=write_plan(plan), words=words))


@blueprint.post("/datasets/<int:dataset_id>/leak-check", responses={200: forms.LeakView, 422: shapes.Problem})
def check_leaks(path: shapes.DatasetPath, body: forms.LeakBody) -> Response:
    """Corrupt the future of sampled origins, recompute chain and rows, compare bit for bit."""
    panel = services().panel(path.dataset_id)
    with services().computing():
        outcome = leak_check(panel, body.window_plan, chain_of(body.chain), origins=body.origins, seed=body.seed)
    return answer(forms.LeakView(passed=outcome.passed, evidence=outcome.evidence))


@blueprint.post("/datasets/<int:dataset_id>/windows/table")
def take_table(path: shapes.DatasetPath, body: forms.TakeBody) -> Response:
    """The whole table as Arrow stream, Parquet, CSV or NPZ, by content negotiation; sent in pieces as it is cut."""
    wanted = request.accept_mimetypes.best_match(list(_FORMATS)) or "text/csv"
    kind, ending = _FORMATS[wanted]
    panel, _ = _flat_panel(path.dataset_id, body)
    body.window_plan.check(panel)
    if kind == "npz" or body.window_plan.needs_whole_series:  # not cut in pieces of any size
        _refuse_huge(len(panel.values), body.window_plan)
    pieces = table_bytes(body.window_plan, panel, kind, body.shares)
    with services().computing():
        first = next(pieces, b"")  # what is wrong shows here, before an answer has begun
    headers = {"Content-Disposition": f'attachment; filename="windows.{ending}"'}
    return Response(chained([first], pieces), content_type=wanted, headers=headers)


@blueprint.post("/datasets/<int:dataset_id>/windows/card")
def table_card(path: shapes.DatasetPath, body: forms.TakeBody) -> Response:
    """The data card of a table: dataset, plan, chain, columns with what they read, units, shape."""
    panel, chain = _flat_panel(path.dataset_id, body)
    with services().database.session() as session:
        dataset = get_dataset(session, path.dataset_id).hash
    with services().computing():
        rows = sum(len(piece) for piece in body.window_plan.batches(panel))
    text = json.dumps(data_card(body.window_plan, panel, chain, dataset, rows), indent=1, ensure_ascii=False)
    headers = {"Content-Disposition": 'attachment; filename="windows-card.json"'}
    return Response(text + "\n", content_type="application/json", headers=headers)


def _flat_panel(dataset_id: int, body: forms.TableBody) -> tuple[Panel, Chain]:
    """The panel, or one series of it, behind the chain as fitted at the cutoff."""
    panel = services().panel(dataset_id)
    chain = chain_of(body.chain)
    if body.series is not None:
        panel = panel.select([series_index(panel, body.series)])
    if chain.active:
        panel = chain.fit(panel, body.until).apply(panel)
    return panel, chain


def _key(dataset_id: int, body: forms.TableBody) -> _TableKey:
    chain = chain_of(body.chain)
    return (dataset_id, body.until if body.chain else None, body.series, body.window_plan.hash, chain.hash)


def _remembered(kept: OrderedDict[_Key, _Made], key: _Key, make: Callable[[], _Made]) -> _Made:
    """What `make` gives, or gave lately; the last three are kept."""
    with _lock:
        if key in kept:
            kept.move_to_end(key)
            return kept[key]
    made = make()
    with _lock:
        kept[key] = made
        while len(kept) > 3:
            kept.popitem(last=False)
    return made


def _table(dataset_id: int, body: forms.TableBody) -> Table:
    """The table of one series or all, on flat values where there is a chain."""

    def cut() -> Table:
        panel = services().panel(dataset_id)
        points = len(panel.values) if body.series is None else int(panel.lengths[series_index(panel, body.series)])
        _refuse_huge(points, body.window_plan)
        return body.window_plan.cut(_flat_panel(dataset_id, body)[0])

    return _remembered(_tables, _key(dataset_id, body), cut)


def _order(dataset_id: int, body: forms.WindowsBody, table: Table) -> Ints | None:
    """Which rows of the table are asked for, in order; None for all as they are."""
    if not body.sort and not body.where:
        return None

    def choose() -> Ints:
        rows = np.arange(len(table))
        for each in body.where:
            cells = _cells(table, each.column)[rows]
            low, high = (-np.inf if each.low is None else each.low), (np.inf if each.high is None else each.high)
            rows = rows[(cells >= low) & (cells <= high)]
        if body.sort:
            cells = _cells(table, body.sort.column)[rows]
            rows = rows[np.argsort(-cells if body.sort.descending else cells, kind="stable")]  # missing cells last
        return rows

    asked = json.dumps([body.sort and body.sort.model_dump(), [each.model_dump() for each in body.where]])
    return _remembered(_orders, (_key(dataset_id, body), asked), choose)


def _cells(table: Table, column: str) -> np.ndarray:
    """One column by name, the origin as its grid position."""
    if column == "origin":
        return table.positions.astype(np.float64)
    if column in table.names:
        return table.features[:, table.names.index(column)]
    if column in table.target_names:
        return table.targets[:, table.target_names.index(column)]
    raise SettingsError(f"The table has no column “{column}”.", field="column")


def _span(panel: Panel, span: tuple[int, int, int] | None) -> tuple[int, list[float | None]]:
    """Values of a series between the grid positions asked for, and the first position that is there."""
    if span is None:
        return 0, []
    index = series_index(panel, span[0])
    start = int(panel.starts[index])
    first = min(max(span[1], start), start + int(panel.lengths[index]))
    last = min(max(span[2], first), first + _SPAN_AT_MOST)
    return first, panel.series(index)[first - start : last - start].tolist()


def _refuse_huge(points: int, plan: WindowPlan) -> None:
    cells = points // plan.stride * (len(plan.names) + len(plan.horizon))
    if cells > _CELLS_AT_MOST:
        raise LimitError(
            f"This table would have about {cells:,} cells; the limit here is {_CELLS_AT_MOST:,}. "
            "Choose one series, a longer stride, or cut it in Python.",
            field="plan",
        )
