"""What the process beside the web server does: look at what was brought, and make datasets of it."""

import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

from proteron.core.documents import content_hash
from proteron.core.errors import InputError, ProteronError
from proteron.core.intake import (
    Limits,
    RawTable,
    Recipe,
    RoleGuess,
    Source,
    TableReading,
    guess_roles,
    read_calendar,
    read_raw,
    read_recipe,
    read_table,
    settle_roles,
    understood,
)
from proteron.records.connections import fetch, load_connections
from proteron.records.database import NotFoundError, notify
from proteron.records.datasets import save_dataset
from proteron.records.projects import choose, get_project
from proteron.runner.child import here

_HEAD_ROWS = 120
_TELL_EVERY = 0.15


class _Kept:
    """The raw table read last, so that changed roles and remedies do not read the file again."""

    key = ""
    raw: RawTable | None = None
    guesses: tuple[RoleGuess, ...] = ()

    @classmethod
    def let_go(cls) -> RawTable:
        """Hand the table over, so that its memory can go while it is read."""
        raw, cls.raw = cls.raw, None
        assert raw is not None
        return raw


class UnsettledError(InputError):
    """Findings that change values wait for a choice."""

    code = "unsettled"


def ready() -> bool:
    """Load what reading needs, so that no first file waits for it."""
    days = (f"2024-01-{day:02d},{day % 7 + day / 10}\n" for day in range(1, 31) if day != 9)
    read_table(("time,a\n" + "".join(days)).encode())
    return True


def look(
    paths: Sequence[tuple[str, str]], recipe: Mapping[str, Any], limits: Limits, project_id: int | None
) -> dict[str, Any]:
    """What the files would become under a recipe: columns, sampled rows, findings, the panel or a problem."""
    chosen = Recipe.parse(dict(recipe))
    raw, guesses = _raw(paths, chosen, limits, project_id)
    roles = settle_roles(raw, chosen.roles, guesses)
    reading: TableReading | None = None
    problem: ProteronError | None = None
    try:
        with understood():
            reading = read_recipe(raw, chosen)
    except ProteronError as error:
        problem = error
    rows = list(range(min(raw.columns.num_rows, _HEAD_ROWS)))
    for finding in reading.findings if reading else ():
        rows += [row for row in finding.rows if row >= _HEAD_ROWS]
    rows = sorted(set(rows))
    return {
        "rows": raw.columns.num_rows, "format": raw.format, "facts": raw.facts, "first_line": raw.first_line,
        "per_line": raw.per_line,
        "columns": [
            {"name": g.column, "role": roles[g.column], "reason": g.reason, "confidence": g.confidence,
             "given": g.column in chosen.roles, "type": str(raw.columns[g.column].type),
             "category": chosen.categories.get(g.column, g.category)}
            for g in guesses
        ],
        "sample_rows": rows, "sample": raw.cells(rows), "problem": problem, "reading": reading,
    }  # fmt: skip


def make(
    paths: Sequence[tuple[str, str]], recipe: Mapping[str, Any], limits: Limits, project_id: int, name: str
) -> tuple[int, list[str]]:
    """Read, store as the project's next version, and let the project stand on it; returns its number.

    Raises `UnsettledError` while findings that change values wait for a choice.
    """
    tell = _teller(project_id)
    chosen = Recipe.parse(dict(recipe))
    _raw(paths, chosen, limits, project_id)
    with understood():
        reading = read_recipe(_Kept.let_go(), chosen, tell)
    unsettled = reading.unsettled
    if unsettled:
        raise UnsettledError(f"{unsettled[0].message} Choose what to do: {_choices(unsettled[0])}.", field="remedies")
    with here().database.session() as session:
        get_project(session, project_id)
        dataset = save_dataset(session, project_id, name, reading, progress=tell)
        choose(session, project_id, {"dataset_id": dataset.id})
        number = dataset.id
    return number, [finding.message for finding in reading.findings]


def forecasts(path: str, name: str, limits: Limits, dataset_id: int) -> dict[str, Any]:
    """Forecasts of a dataset that were made elsewhere, as a contender's settings, and what became of the rows."""
    from proteron.core.brought import read_forecasts  # contenders are large, and no other reading needs them

    with here().database.session() as session:
        panel = here().panels.get(session, dataset_id)
    with understood():
        found = read_forecasts(Source(name, Path(path)), panel, name, limits)
    return {
        "forecaster": found.contender.forecaster.document(), "rows": found.rows, "used": found.used,
        "notes": list(found.notes),
    }  # fmt: skip


def _choices(finding: Any) -> str:
    return ", ".join(remedy.label for remedy in finding.remedies)


def calendar(path: str) -> list[dict[str, Any]]:
    """Occasions of an uploaded calendar."""
    return [span.document() for span in read_calendar(Path(path))]


def bring(connections: str, name: str, query: str | None, path: str, limit: int) -> None:
    """Rows of a configured connection into an upload."""
    fetch(load_connections(Path(connections)), name, query, Path(path), limit)


def _raw(
    paths: Sequence[tuple[str, str]], recipe: Recipe, limits: Limits, project_id: int | None
) -> tuple[RawTable, tuple[RoleGuess, ...]]:
    key = content_hash(
        [list(map(list, paths)), recipe.reader.document(), recipe.combine, list(recipe.join_on), limits.rows]
    )
    if _Kept.key != key or _Kept.raw is None:
        _Kept.raw, _Kept.key = None, ""
        sources = [Source(name, Path(path)) for path, name in paths]
        tell = _teller(project_id) if project_id is not None else None
        if not all(Path(path).exists() for path, _ in paths):
            raise NotFoundError("This upload is gone; bring the file again.", field="file")
        with understood():
            raw = read_raw(sources, recipe.reader, limits, recipe.combine, recipe.join_on, tell)
            guesses = tuple(guess_roles(raw, recipe.reader))
        _Kept.key, _Kept.raw, _Kept.guesses = key, raw, guesses
    return _Kept.raw, _Kept.guesses


def _teller(project_id: int | None) -> Callable[[str, float], None]:
    """Tells the project's pages how far the reading is, a few times a second."""
    last: list[Any] = [-1.0, ""]

    def tell(stage: str, share: float) -> None:
        now = time.monotonic()
        if project_id is None or (stage == last[1] and now - last[0] < _TELL_EVERY):
            return
        last[:] = [now, stage]
        with here().database.session() as session:
            notify(session, {"project": project_id, "intake": stage, "share": round(share, 3)})

    return tell
