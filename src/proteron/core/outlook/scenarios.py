"""Scenarios: what if columns that are known ahead, or occasions, came otherwise than given."""

from collections.abc import Iterable
from dataclasses import replace
from typing import Literal

import numpy as np
from pydantic import Field, model_validator

from proteron.core.documents import Settings
from proteron.core.errors import SettingsError
from proteron.core.intake.occasions import occasion_on
from proteron.core.intake.recipe import OccasionSpan
from proteron.core.outlook.ahead import rebuilt
from proteron.core.panel import Covariate, Floats, Occasion, Panel
from proteron.core.timeline import TimeAxis
from proteron.core.words import listed

EditKind = Literal["set", "shift", "scale", "hold"]


class ColumnEdit(Settings):
    """Values of one column ahead, from `since` to `until`, ends included; times are ISO texts, or grid positions.

    `set` to one of `values` per step or to a single one; `shift` by, or `scale` with, the first of them; `hold` goes on
    with what stood before `since`.
    """

    column: str = Field(min_length=1, description="One that is known ahead.")
    how: EditKind = Field("set", description="set, shift, scale or hold.")
    since: int | str | None = Field(None, description="First step; empty: the first ahead.")
    until: int | str | None = Field(None, description="Last step; empty: the last ahead.")
    values: tuple[float | None, ...] = Field(
        (), max_length=100_000, description="One per step or a single one; null: as it is."
    )
    key: str | None = Field(None, description="Of one series; empty: of all.")

    @model_validator(mode="after")
    def _values_fit(self) -> "ColumnEdit":
        if self.how == "hold":
            if self.values:
                raise ValueError("“hold” takes no values")
        elif not self.values:
            raise ValueError(f"“{self.how}” takes at least one value")
        elif self.how != "set" and (len(self.values) > 1 or self.values[0] is None):
            raise ValueError(f"“{self.how}” takes one number")
        if any(value is not None and not np.isfinite(value) for value in self.values):
            raise ValueError("values are numbers")
        return self


class Scenario(Settings):
    """Edits of what is known ahead, one after the other, under a name."""

    name: str = Field("scenario", min_length=1, max_length=80)
    edits: tuple[ColumnEdit, ...] = Field((), max_length=1000, description="One after the other.")
    added: tuple[OccasionSpan, ...] = Field((), max_length=1000, description="Occasions that come as well.")
    removed: tuple[str, ...] = Field((), max_length=1000, description="Names of occasions that do not come.")

    def applied(self, panel: Panel, horizon: int) -> Panel:
        """The panel with what lies `horizon` steps after its end as the scenario says; nothing known is touched.

        Raises `SettingsError` for a column that is not known ahead, a series or an occasion that there is not, and for
        times that do not lie ahead.
        """
        for edit in self.edits:
            column = _column(panel, edit.column)
            edited = _edited(panel, column, edit, horizon)
            panel = replace(panel, covariates=tuple(edited if each is column else each for each in panel.covariates))
        return replace(panel, occasions=_occasions(panel, self))


def _column(panel: Panel, name: str) -> Covariate:
    ahead = [each for each in panel.covariates if each.role == "known_ahead"]
    for each in ahead:
        if each.name == name:
            return each
    raise SettingsError(
        f"“{name}” is no column that is known ahead: {_named([each.name for each in ahead])}.", field="edits"
    )


def _named(names: Iterable[str]) -> str:
    """Names in a sentence; that there is none, where there is none."""
    each = [f"“{name}”" for name in sorted(names)]
    return listed(each, 6) if each else "there is none"


def _edited(panel: Panel, column: Covariate, edit: ColumnEdit, horizon: int) -> Covariate:
    first, last = _span(panel, edit, horizon)
    if column.labels and (edit.how in ("shift", "scale") or not _are_codes(column, edit)):
        raise SettingsError(
            f"“{column.name}” has categories: it is set to their numbers from 0, or held.", field="edits"
        )
    mine = range(len(panel)) if edit.key is None else [_series(panel, edit.key)]
    parts = [column.series(index) for index in range(len(panel))]
    for index in mine:
        begins = int(panel.starts[index])
        parts[index] = _changed(parts[index], first - begins, last - begins + 1, edit)
    return rebuilt(column, parts)


def _are_codes(column: Covariate, edit: ColumnEdit) -> bool:
    return all(value is None or value in range(len(column.labels)) for value in edit.values)


def _series(panel: Panel, key: str) -> int:
    if key not in panel.keys:
        raise SettingsError(f"There is no series “{key}” to change.", field="edits")
    return panel.index(key)


def _span(panel: Panel, edit: ColumnEdit, horizon: int) -> tuple[int, int]:
    """First and last grid position of an edit; raises `SettingsError` for what is not ahead."""
    first = panel.end if edit.since is None else _position(panel.axis, edit.since)
    last = panel.end + horizon - 1 if edit.until is None else _position(panel.axis, edit.until)
    if not panel.end <= first <= last < panel.end + horizon:
        begin, end = panel.axis.local(np.array([panel.end, panel.end + horizon - 1])).tolist()
        raise SettingsError(f"A scenario changes what is ahead: {begin} to {end}.", field="edits")
    if edit.how == "set" and len(edit.values) not in (1, last - first + 1):
        raise SettingsError(f"{len(edit.values):,} values are given for {last - first + 1:,} steps.", field="edits")
    return first, last


def _position(axis: TimeAxis, moment: int | str) -> int:
    return moment if isinstance(moment, int) else axis.position_of(moment)


def _changed(values: Floats, start: int, stop: int, edit: ColumnEdit) -> Floats:
    """One series' column with local places `start` ≤ p < `stop` as the edit says."""
    out = np.full(max(len(values), stop), np.nan)
    out[: len(values)] = values
    given = np.array([np.nan if value is None else value for value in edit.values])
    if edit.how == "set":
        out[start:stop] = np.where(np.isnan(given), out[start:stop], given)
    elif edit.how == "shift":
        out[start:stop] += given[0]
    elif edit.how == "scale":
        out[start:stop] *= given[0]
    else:
        before = out[:start][~np.isnan(out[:start])]
        out[start:stop] = before[-1] if len(before) else np.nan
    return out


def _occasions(panel: Panel, scenario: Scenario) -> tuple[Occasion, ...]:
    """Those of the panel, of which what lies ahead is as the scenario says."""
    ahead = {each.name for each in panel.occasions if each.stop > panel.end}
    for name in scenario.removed:
        if name not in ahead:
            raise SettingsError(f"No occasion “{name}” lies ahead: {_named(ahead)}.", field="removed")
    kept = []
    for each in panel.occasions:
        if each.name not in scenario.removed or each.stop <= panel.end:
            kept.append(each)
        elif each.start < panel.end:
            kept.append(replace(each, stop=panel.end))
    for span in scenario.added:
        found = occasion_on(span, panel.axis)
        if found.start < panel.end:
            raise SettingsError(f"“{span.name}” begins before what is ahead.", field="added")
        kept.append(found)
    return tuple(kept)
