"""A dataset changed into its next version: series left out or summed, gaps filled, spans masked; and two compared."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from pydantic import Field

from proteron.core.documents import Settings
from proteron.core.errors import SettingsError
from proteron.core.intake.filling import fill_panel
from proteron.core.intake.occasions import with_calendar
from proteron.core.intake.reading import TableReading, account_facts, shape_panel
from proteron.core.intake.recipe import Coarser, Filling, MaskedSpan, OccasionSpan, PublicHolidays, Recipe, Resampling
from proteron.core.panel import FILLED, Panel


class Edit(Settings):
    """Changes to a dataset; they are applied in this order."""

    unmask: tuple[int, ...] = Field((), description="Masks to take off, by their place in the list.")
    unfill: bool = Field(False, description="Take filled values out again first.")
    exclude: tuple[str, ...] = ()
    coarser: Coarser | None = None
    resampling: Resampling | None = None
    filling: Filling = Filling()
    filling_of: dict[str, Filling] = Field(default_factory=dict)
    masks: tuple[MaskedSpan, ...] = ()
    occasions: tuple[OccasionSpan, ...] = ()
    holidays: tuple[PublicHolidays, ...] = ()


def edit_panel(panel: Panel, edit: Edit, account: Mapping[str, Any]) -> TableReading:
    """The changed panel, with an account that continues the one it came from.

    Raises `SettingsError` when a change does not fit the panel, or changes nothing.
    """
    before = panel.hash
    if edit.unmask:
        panel = _unmasked(panel, edit.unmask)
    if edit.unfill:
        filled = (panel.marks & FILLED) > 0
        keep = panel.marks & np.uint8(255 - FILLED - 8)
        panel = replace(panel, values=np.where(filled, np.nan, panel.values), marks=keep)
    same = {"exclude", "coarser", "resampling", "filling", "filling_of", "masks", "occasions", "holidays"}
    recipe = Recipe.model_validate({name: getattr(edit, name) for name in same})
    kept, masks = panel.occasions, panel.masks
    panel = shape_panel(panel, recipe)
    if (edit.resampling or edit.coarser) and masks:
        raise SettingsError("Take the masks off before changing the step or the keys.", field="masks")
    panel = fill_panel(panel, recipe.filling, recipe.filling_of)
    panel = with_calendar(panel, recipe)
    if edit.occasions or edit.holidays:
        panel = replace(panel, occasions=tuple(dict.fromkeys((*kept, *panel.occasions))))
    if panel.hash == before:
        raise SettingsError("These changes change nothing.", field="edit")
    steps = [*account.get("edits", ()), edit.document()]
    return TableReading(panel, (), {**account, **account_facts(panel), "edits": steps})


def _unmasked(panel: Panel, places: tuple[int, ...]) -> Panel:
    if any(not 0 <= place < len(panel.masks) for place in places):
        raise SettingsError(f"There are {len(panel.masks)} masks, counted from 0.", field="unmask")
    left = [mask for place, mask in enumerate(panel.masks) if place not in set(places)]
    bare = replace(panel, marks=panel.marks & np.uint8(1 | 8), masks=())
    return bare.with_masks(left)


@dataclass(frozen=True)
class SeriesChange:
    """How one series differs between two versions."""

    key: str
    change: str
    changed: int
    first: int
    last: int


@dataclass(frozen=True)
class Comparison:
    """How two versions differ: series, values on common times, sentences."""

    series: tuple[SeriesChange, ...]
    sentences: tuple[str, ...]


def compare_panels(before: Panel, after: Panel, sentences: list[str]) -> Comparison:
    """Series gone, new or changed; positions are on the later version's grid."""
    if before.step != after.step or before.zone != after.zone:
        return Comparison((), tuple(sentences))
    apart = float((before.axis.start - after.axis.start) / np.timedelta64(1, "s"))
    shift = round(apart / after.axis.step.nominal_seconds)
    changes = [
        SeriesChange(key, "gone", int(before.lengths[before.index(key)]), 0, 0)
        for key in before
        if key not in set(after)
    ]
    known = set(before)
    for index, key in enumerate(after.keys):
        start, length = int(after.starts[index]), int(after.lengths[index])
        if key not in known:
            changes.append(SeriesChange(key, "new", length, start, start + length))
            continue
        old = before.index(key)
        first = min(start, int(before.starts[old]) + shift)
        stop = max(start + length, int(before.starts[old] + before.lengths[old]) + shift)
        a, b = np.full(stop - first, np.nan), np.full(stop - first, np.nan)
        begin = int(before.starts[old]) + shift - first
        a[begin : begin + int(before.lengths[old])] = before.series(old)
        b[start - first : start - first + length] = after.series(index)
        marks_a, marks_b = np.zeros(stop - first, np.uint8), np.zeros(stop - first, np.uint8)
        marks_a[begin : begin + int(before.lengths[old])] = before.series_marks(old)
        marks_b[start - first : start - first + length] = after.series_marks(index)
        values = ~((a == b) | (np.isnan(a) & np.isnan(b)))
        at = np.flatnonzero(values | (marks_a != marks_b))
        if len(at):
            kind = "values" if values.any() else "marks"
            changes.append(SeriesChange(key, kind, len(at), first + int(at[0]), first + int(at[-1]) + 1))
    return Comparison(tuple(changes), tuple(sentences))
