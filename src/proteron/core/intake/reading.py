"""From sources and a recipe to a panel, with findings and an account of what was done."""

import warnings
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pyarrow as pa

from proteron.core.errors import InputError, LimitError, ProteronError, SettingsError, UnsettledWarning
from proteron.core.intake.bucketing import bucket_rows
from proteron.core.intake.delimited import Progress
from proteron.core.intake.filling import fill_panel
from proteron.core.intake.findings import Finding, Ledger
from proteron.core.intake.limits import Limits
from proteron.core.intake.occasions import with_calendar
from proteron.core.intake.placing import Placed, place
from proteron.core.intake.raw import MARKS, RawTable, ReaderSettings
from proteron.core.intake.recipe import Recipe
from proteron.core.intake.resampling import coarsen, resample
from proteron.core.intake.roles import ROLES, Role, RoleGuess, guess_roles
from proteron.core.intake.rows import read_rows
from proteron.core.intake.series_checks import check_series
from proteron.core.intake.sources import Given, read_raw
from proteron.core.intake.stray import without_stray
from proteron.core.panel import FILLED, FROM_BOTH_SIDES, Covariate, Panel
from proteron.core.timeline import zone_info
from proteron.core.words import counted

SERIES_JOINT = " · "


@dataclass(frozen=True)
class TableReading:
    """A full reading: the panel, what was found, and what was done, replayable."""

    panel: Panel
    findings: tuple[Finding, ...]
    account: dict[str, Any]

    @property
    def unsettled(self) -> tuple[Finding, ...]:
        """Findings that change values and for which no remedy was chosen."""
        return tuple(finding for finding in self.findings if not finding.settled)


def read_table(
    source: Given | Sequence[Given],
    roles: Mapping[str, Role] | None = None,
    step: str | None = None,
    zone: str | None = None,
    unit: str | None = None,
    limits: Limits | None = None,
    recipe: Recipe | Mapping[str, Any] | None = None,
    progress: Progress | None = None,
) -> TableReading:
    """Read one or several files into a panel; what the recipe does not say is found out and said.

    Proposed remedies are applied where none is chosen; every one is in `findings`. Raises `InputError`,
    `SettingsError` or `LimitError`, naming the column and lines, when no panel can be made.
    """
    chosen = Recipe.parse(dict(recipe)) if isinstance(recipe, Mapping) else recipe or Recipe()
    named = {"step": step, "zone": zone, "unit": unit}
    chosen = chosen.model_copy(
        update={name: value for name, value in named.items() if value is not None}
        | {"roles": {**chosen.roles, **(roles or {})}}
    )
    zone_info(chosen.zone)
    with understood():
        return read_recipe(
        read_raw(source, chosen.reader, limits, chosen.combine, chosen.join_on, progress), chosen, progress
    )  # fmt: skip


def read_panel(
    source: Given | Sequence[Given],
    time: str | None = None,
    value: str | Sequence[str] | None = None,
    key: str | Sequence[str] | None = None,
    **rest: Any,
) -> Panel:
    """`read_table` with columns named directly; returns the panel alone.

    Warns (`UnsettledWarning`) of every finding that changes values and for which no remedy was chosen.
    """
    named: dict[str, Role] = {}
    for columns, role in ((time, "time"), (key, "key"), (value, "target")):
        for column in [columns] if isinstance(columns, str) else columns or ():
            named[column] = role  # type: ignore[assignment]
    given = dict(rest.pop("roles", None) or {})
    reading = read_table(source, roles={**given, **named} or None, **rest)
    for finding in reading.unsettled:
        warnings.warn(f"{finding.message} Settle it by remedies={{{finding.id!r}: …}}.", UnsettledWarning, stacklevel=2)
    return reading.panel


@contextmanager
def understood() -> Iterator[None]:
    """Whatever a broken file provokes below becomes a sentence."""
    try:
        yield
    except ProteronError:
        raise
    except MemoryError as error:
        raise LimitError("Reading this needs more memory than there is; nothing was stored.", field="file") from error
    except (ArithmeticError, ValueError, TypeError, LookupError, RecursionError, OSError, pa.ArrowException) as error:
        said = str(error).splitlines()[0][:160] if str(error) else type(error).__name__
        raise InputError(f"This file cannot be understood: {said}.", field="file") from error


def settle_roles(raw: RawTable, roles: Mapping[str, Role], guesses: Sequence[RoleGuess]) -> dict[str, Role]:
    """Given roles over guessed ones; a given time, key or target replaces the guess of that role."""
    settled = {guess.column: guess.role for guess in guesses}
    for column, role in roles.items():
        if column not in settled:
            raise InputError(f"There is no column “{column}”; there are: {', '.join(raw.names[:20])}.", field="roles")
        if role not in ROLES:
            raise SettingsError(f"“{role}” is not a role; there are: {', '.join(ROLES)}.", field="roles")
    for role, instead in (("time", "ignore"), ("target", "observed"), ("key", "ignore")):
        if role in roles.values():
            settled = {c: instead if r == role and c not in roles else r for c, r in settled.items()}  # type: ignore[misc]
    settled |= roles
    if "target" not in settled.values():  # the guessed one became something else
        following = next(
            (g.column for g in guesses if g.column not in roles and g.role == "observed" and not g.category), None
        )
        settled |= {following: "target"} if following else {}
    return settled


def read_recipe(raw: RawTable, recipe: Recipe, progress: Progress | None = None) -> TableReading:
    """Assemble the panel; see `read_table`."""
    tell = progress or (lambda stage, share: None)
    guesses = guess_roles(raw, _reader(raw, recipe))
    roles = settle_roles(raw, recipe.roles, guesses)
    categories = {guess.column: guess.category for guess in guesses} | recipe.categories
    ledger = Ledger(recipe.remedies, recipe.checked)
    tell("understanding", 0.0)
    rows = read_rows(raw, roles, categories, recipe, ledger)
    if not recipe.checked:
        rows = without_stray(rows, raw, ledger).without_unused_keys()
    count, raw = raw.columns.num_rows, raw.outline()
    pa.default_memory_pool().release_unused()
    if recipe.events is not None:
        axis, rows = bucket_rows(rows, recipe, ledger)
        recipe_step = recipe.model_copy(update={"step": str(axis.step)})
        placed = place(raw, rows, recipe_step, Ledger({}))
    else:
        placed = place(raw, rows, recipe, ledger)
    panel = _panel(placed, recipe.unit)
    del rows, placed
    tell("checking", 0.3)
    panel = shape_panel(panel, recipe, ledger)
    with ThreadPoolExecutor(1) as pool:  # most often nothing is remedied, and this hash is the last word
        pool.submit(lambda: panel.hash)
        checked = panel if recipe.checked else check_series(panel, ledger, _filling_words(recipe))
    panel = checked
    panel = fill_panel(panel, recipe.filling, recipe.filling_of)
    panel = with_calendar(panel, recipe)
    _check_choices(recipe, ledger)
    tell("checking", 1.0)
    account = _account(raw, count, recipe, roles, categories, panel, ledger)
    return TableReading(panel, tuple(ledger.found), account)


def _filling_words(recipe: Recipe) -> str:
    """How gaps are filled, empty where they stay."""
    methods = dict.fromkeys(f.method for f in (recipe.filling, *recipe.filling_of.values()) if f.method != "leave")
    return f"filled where {' or '.join(methods).replace('_', ' ')} reaches" if methods else ""


def _reader(raw: RawTable, recipe: Recipe) -> ReaderSettings:
    delimiter = raw.facts.get("delimiter")
    return recipe.reader.model_copy(update={"delimiter": delimiter}) if delimiter else recipe.reader


def _check_choices(recipe: Recipe, ledger: Ledger) -> None:
    """A remedy for something that is no longer found is said, not silently passed over."""
    found = {finding.id for finding in ledger.found} | {finding.code for finding in ledger.found}
    for name in sorted(set(recipe.remedies) - found):
        ledger.add(
            "not found again",
            "note",
            f"“{name}” was to be treated by “{recipe.remedies[name]}”, but is not there.",
            about=name,
        )


def _panel(placed: Placed, unit: str) -> Panel:
    """One series per key and target; columns beside them on the same cells."""
    rows = placed.rows
    targets = rows.named("target")
    keys = rows.keys
    names = keys if len(targets) == 1 else [f"{key}{SERIES_JOINT}{t}" if key else t for t in targets for key in keys]
    copies = len(targets)
    spread = [placed.spread(rows.columns[name]) for name in targets]
    values = np.concatenate(spread) if copies > 1 else spread[0]
    offsets = placed.offsets
    if copies > 1:
        offsets = np.concatenate([[0], np.cumsum(np.tile(placed.lengths, copies))]).astype(np.int64)
    columns = tuple(
        _covariate(placed, name, role, copies, offsets) for name, role in rows.roles.items() if role != "target"
    )
    series = tuple(name or targets[0] for name in names)
    panel = Panel(placed.axis, series, values, offsets, np.tile(placed.starts, copies), columns, unit=unit)
    return _trimmed(panel) if rows.marks is None else _marked(panel, placed, copies)


def _covariate(placed: Placed, name: str, role: Any, copies: int, offsets: Any) -> Covariate:
    cells = placed.spread(placed.rows.columns[name])
    if role == "static":
        firsts = placed.offsets
        for index in range(len(placed.lengths)):
            part = cells[firsts[index] : firsts[index + 1]]
            known = part[~np.isnan(part)]
            part[:] = known[0] if len(known) else np.nan
    values = np.tile(cells, copies) if copies > 1 else cells
    return Covariate(name, role, values, offsets, placed.rows.labels.get(name, ()))


def _marked(panel: Panel, placed: Placed, copies: int) -> Panel:
    """The panel as it was when it was written: filled points marked, steps ahead left to the columns."""
    assert placed.rows.marks is not None
    said = np.tile(placed.spread(placed.rows.marks), copies)
    ahead = said == MARKS.index("ahead")
    bits = FILLED * (said == MARKS.index("filled")) | (FILLED | FROM_BOTH_SIDES) * (
        said == MARKS.index("filled across")
    )
    panel = replace(panel, marks=bits.astype(np.uint8))
    return _cut_ends(
        panel, [int(n - ahead[panel.offsets[i] : panel.offsets[i + 1]].sum()) for i, n in enumerate(panel.lengths)]
    )


def _trimmed(panel: Panel) -> Panel:
    """Steps at the end that have known-ahead values but no target yet belong to the columns, not to the series."""
    if not any(column.role == "known_ahead" for column in panel.covariates):
        return panel
    ends = []
    for index in range(len(panel)):
        known = np.flatnonzero(~np.isnan(panel.series(index)))
        ends.append(int(known[-1]) + 1 if len(known) else int(panel.lengths[index]))
    return _cut_ends(panel, ends)


def _cut_ends(panel: Panel, ends: list[int]) -> Panel:
    """Series of the lengths `ends`; known-ahead columns keep theirs."""
    if (np.array(ends) == panel.lengths).all():
        return panel
    kept = np.concatenate([np.arange(panel.offsets[i], panel.offsets[i] + end) for i, end in enumerate(ends)])
    offsets = np.concatenate([[0], np.cumsum(ends)]).astype(np.int64)
    columns = tuple(
        c if c.role == "known_ahead" else replace(c, values=c.values[kept], offsets=offsets) for c in panel.covariates
    )
    return replace(panel, values=panel.values[kept], marks=panel.marks[kept], offsets=offsets, covariates=columns)


def shape_panel(panel: Panel, recipe: Recipe, ledger: Ledger | None = None) -> Panel:
    """Series left out, summed up, or brought to another step; what that left out goes into the ledger."""
    if recipe.exclude:
        unknown = [key for key in recipe.exclude if key not in panel.keys]
        if unknown:
            raise SettingsError(f"There is no series “{unknown[0]}” to leave out.", field="exclude")
        left = [i for i, key in enumerate(panel.keys) if key not in set(recipe.exclude)]
        if not left:
            raise SettingsError("Every series is left out.", field="exclude")
        panel = panel.select(left)
    if recipe.coarser is not None:
        panel = coarsen(panel, recipe.coarser)
    if recipe.resampling is not None:
        panel = resample(panel, recipe.resampling, ledger)
    return panel


def _account(
    raw: RawTable,
    rows: int,
    recipe: Recipe,
    roles: Mapping[str, Role],
    categories: Mapping[str, bool],
    panel: Panel,
    ledger: Ledger,
) -> dict[str, Any]:
    """What was read and decided: the recipe to replay, the facts to compare the next delivery with."""
    remedies = {finding.id: finding.chosen for finding in ledger.found if finding.remedies}
    step = recipe.step if recipe.events or recipe.resampling else panel.step
    decided = recipe.model_copy(
        update={"roles": dict(roles), "step": step, "remedies": {**recipe.remedies, **remedies},
                "categories": {name: True for name, value in categories.items() if value}}
    )  # fmt: skip
    return {
        "schema_version": 1,
        "recipe": decided.document(),
        "reader": raw.format,
        **{name: value for name, value in raw.facts.items() if value is not None},
        "rows": rows,
        "columns": {name: str(raw.columns[name].type) for name in raw.names},
        "roles": {name: roles[name] for name in raw.names},
        **account_facts(panel),
    }


def account_facts(panel: Panel) -> dict[str, Any]:
    """What the next delivery is compared with: grid, extent, range, keys, hash."""
    times = panel.axis.times(np.array([int(panel.starts.min()), panel.end - 1]))
    low, high = np.nanmin(panel.values, initial=np.inf), np.nanmax(panel.values, initial=-np.inf)
    return {
        "step": panel.step, "zone": panel.zone, "unit": panel.unit, "series": len(panel), "points": len(panel.values),
        "first": str(times[0]) + "Z", "last": str(times[1]) + "Z",
        "lowest": float(low) if np.isfinite(low) else None, "highest": float(high) if np.isfinite(high) else None,
        "missing": int(np.isnan(panel.values).sum()), "keys": list(panel.keys[:1000]), "hash": panel.hash,
    }  # fmt: skip


def compare_accounts(before: Mapping[str, Any], now: Mapping[str, Any]) -> list[str]:
    """What differs between two deliveries, in sentences; empty when nothing does."""
    said: list[str] = []
    old, new = before.get("columns", {}), now.get("columns", {})
    said += [f"New column “{name}”." for name in new if name not in old]
    said += [f"Column “{name}” is gone." for name in old if name not in new]
    said += [f"Column “{n}” was {old[n]} and is {new[n]}." for n in new if n in old and old[n] != new[n]]
    for name, words in (
        ("reader", "format"),
        ("encoding", "encoding"),
        ("delimiter", "delimiter"),
        ("step", "step"),
        ("zone", "time zone"),
    ):
        if before.get(name) != now.get(name):
            said.append(f"The {words} was {before.get(name)} and is {now.get(name)}.")
    said += _changed_keys(before.get("keys", ()), now.get("keys", ()))
    for name, words in (
        ("rows", "rows"),
        ("points", "points"),
        ("missing", "missing points"),
        ("first", "first time"),
        ("last", "last time"),
    ):
        if before.get(name) != now.get(name):
            said.append(f"{words.capitalize()}: {_shown(before.get(name))} before, {_shown(now.get(name))} now.")
    return said + _changed_range(before, now)


def _changed_keys(before: Sequence[str], now: Sequence[str]) -> list[str]:
    """Series that came and went, in sentences."""
    old, new = set(before), set(now)
    fresh, lost = [key for key in now if key not in old], [key for key in before if key not in new]
    said = [f"{len(fresh)} new series: {', '.join(fresh[:5])}."] if fresh else []
    return said + ([f"{counted(len(lost), 'series is', 'series are')} gone: {', '.join(lost[:5])}."] if lost else [])


def _changed_range(before: Mapping[str, Any], now: Mapping[str, Any]) -> list[str]:
    """Values that reach further than half the range beyond what they did, in a sentence."""
    ends = [account.get(end) for account in (before, now) for end in ("lowest", "highest")]
    if None in ends:
        return []
    low, high, lowest, highest = (float(end) for end in ends if end is not None)
    reach = (high - low) * 0.5
    if lowest >= low - reach and highest <= high + reach:
        return []
    return [f"Values ranged from {low:g} to {high:g} and range from {lowest:g} to {highest:g}."]


def _shown(value: Any) -> str:
    return f"{value:,}" if isinstance(value, int) else str(value)
