"""Occasions and masks: named spans of the calendar, from a file, from public holidays, or typed."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from proteron.core.errors import InputError, SettingsError
from proteron.core.intake.numbers import read_numbers
from proteron.core.intake.raw import ReaderSettings
from proteron.core.intake.recipe import MaskedSpan, OccasionSpan, PublicHolidays, Recipe
from proteron.core.intake.sources import Given, read_raw
from proteron.core.intake.times import read_times
from proteron.core.panel import Mask, Occasion, Panel
from proteron.core.timeline import TimeAxis, parse_moment

_YEARS_AHEAD = 2


def read_calendar(source: Given) -> tuple[OccasionSpan, ...]:
    """Occasions from a table with a name and one or two dates per row; raises `InputError` when it has none."""
    raw = read_raw(source)
    dates, name = [], None
    for column in raw.names:
        read = read_times(raw.columns[column], "UTC")
        if read is not None and not read.bad.any():
            dates.append(read.instants)
        elif name is None and not np.isfinite(read_numbers(raw.columns[column], ReaderSettings()).values).any():
            name = column
    if not dates or name is None:
        raise InputError("A calendar needs a column of names and one or two columns of dates.", field="occasions")
    first, last = dates[0], dates[1] if len(dates) > 1 else dates[0]
    texts = [str(text or "").strip() for text in raw.columns[name].to_pylist()]
    return tuple(
        OccasionSpan(name=text[:100], first=str(a)[:10], last=str(b)[:10])
        for text, a, b in zip(texts, first, last, strict=True)
        if text and not np.isnat(a) and not np.isnat(b)
    )


def public_holidays(wanted: PublicHolidays, years: Sequence[int]) -> tuple[OccasionSpan, ...]:
    """Public holidays by country; raises `SettingsError` for a country or subdivision that is not known."""
    from holidays import country_holidays

    try:
        found = country_holidays(wanted.country.upper(), subdiv=wanted.subdivision, years=list(years))
    except NotImplementedError as error:
        raise SettingsError(
            f"No holidays are known for “{wanted.country}” {wanted.subdivision or ''}.", field="holidays"
        ) from error
    return tuple(OccasionSpan(name=name[:100], first=str(day), last=str(day)) for day, name in sorted(found.items()))


def with_calendar(panel: Panel, recipe: Recipe) -> Panel:
    """The panel with its occasions and masks as the recipe says."""
    years = sorted({int(str(t)[:4]) for t in panel.axis.local(np.array([0, panel.end - 1]))})
    spans = [*recipe.occasions]
    for wanted in recipe.holidays:
        spans += public_holidays(wanted, range(years[0], years[-1] + _YEARS_AHEAD + 1))
    occasions = tuple(sorted({occasion_on(span, panel.axis) for span in spans}, key=lambda o: (o.start, o.name)))
    panel = replace(panel, occasions=occasions) if occasions else panel
    return panel.with_masks([mask_of(span, panel.axis) for span in recipe.masks]) if recipe.masks else panel


def mask_of(span: MaskedSpan, axis: TimeAxis) -> Mask:
    """A span of times as grid positions; raises `SettingsError` when it ends before it begins."""
    start = _first_at_or_after(axis, parse_moment(span.start, axis.zone))
    stop = axis.position(parse_moment(span.end, axis.zone)) + 1
    if stop <= start:
        raise SettingsError(f"The mask “{span.reason}” covers no step from {span.start} to {span.end}.", field="masks")
    return Mask(start, stop, span.reason, span.learning, span.scoring, span.series)


def occasion_on(span: OccasionSpan, axis: TimeAxis) -> Occasion:
    """Whole local days, the last one included."""
    first = parse_moment(span.first[:10], axis.zone)
    day = np.datetime64((span.last or span.first)[:10], "D") + 1
    start = axis.position(first) if axis.step.nominal_seconds > 86400 else _first_at_or_after(axis, first)
    stop = _first_at_or_after(axis, parse_moment(str(day), axis.zone))
    return Occasion(span.name, start, max(stop, start + 1))


def _first_at_or_after(axis: TimeAxis, instant: np.datetime64) -> int:
    return axis.position(instant - np.timedelta64(1, "s")) + 1
