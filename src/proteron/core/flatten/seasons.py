"""How seasons are named and drawn."""

import numpy as np

from proteron.core.flatten.stage import Calendar
from proteron.core.timeline import CalendarField, Ints, calendar_codes

_NAMES = {3600.0: "hour", 86400.0: "day", 7 * 86400.0: "week"}
_OPEN_NAMES = {5.0: "week", 21.0: "month", 252.0: "year"}
_YEAR = 365.25 * 86400
_WEEKDAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
_MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")


def season_name(period: float, calendar: Calendar) -> str:
    """What a cycle of `period` steps is called: day, week, year, or its number of steps."""
    step = calendar.axis.step
    if step.unit == "business_day":
        return _OPEN_NAMES.get(period * step.count, f"{period:g} steps")
    seconds = period * step.nominal_seconds
    for length, name in _NAMES.items():
        if abs(seconds - length) < 1e-6 * length:
            return name
    if abs(seconds - _YEAR) < 0.004 * _YEAR:
        return "year"
    return f"{period:g} steps"


def too_short(period: float, known: int, calendar: Calendar) -> str:
    """The note about a season that cannot be learned: how much is known and what would be needed."""
    name = season_name(period, calendar)
    article = "A cycle of" if name.endswith("steps") else "A"
    return (
        f"{article} {name} ({period:,.5g} steps) cannot be learned: {known / period:.1f} cycles known, 2 are needed. "
        "Left in what remains."
    )


def field_labels(field: CalendarField) -> tuple[str, ...] | None:
    """Names of a calendar field's codes, where they have names."""
    if field == "weekday":
        return _WEEKDAYS
    if field == "month":
        return _MONTHS
    if field == "hour_of_week":
        return tuple(f"{day} {hour}" for day in _WEEKDAYS for hour in range(24))
    return None


def phase_labels(period: int, first: int, calendar: Calendar) -> tuple[tuple[str, ...], Ints]:
    """Labels of a cycle's phases in calendar order, and the order that puts phases from `first` into it."""
    name = season_name(period, calendar)
    field: CalendarField | None = None
    if name == "day" and calendar.axis.step.unit == "hour":
        field = "hour_of_day"
    elif name == "week" and not calendar.axis.step.closed:  # holidays shift the phases against the weekdays
        field = "hour_of_week" if calendar.axis.step.unit == "hour" else "weekday"
    elif name == "year" and calendar.axis.step.unit in ("month", "quarter"):
        field = "month" if calendar.axis.step.unit == "month" else "quarter"
    if field is None:
        return tuple(str(phase) for phase in range(period)), np.arange(period)
    codes = calendar_codes(field, calendar.axis.local(np.arange(first, first + period)))
    order = np.argsort(codes, kind="stable")
    names = field_labels(field)
    return tuple(names[code] if names else str(code) for code in codes[order]), order
