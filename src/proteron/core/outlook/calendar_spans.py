"""Grid positions gathered into days, weeks, months: by the clock and calendar of the panel's zone."""

import numpy as np

from proteron.core.errors import SettingsError
from proteron.core.timeline import Instants, Ints, Step, TimeAxis

_CLOCK = {"second": 1, "minute": 60, "hour": 3600}
_MONTHS = {"month": 1, "quarter": 3, "year": 12}
_MONDAY = np.datetime64("1970-01-05", "D")


def span_starts(axis: TimeAxis, positions: Ints, by: Step) -> Instants:
    """The local time at which the day, week, … of each grid position begins, (n,).

    Several days or weeks are counted from Monday 5 January 1970, several months from January, hours and less from
    midnight. Raises `SettingsError` where `by` is shorter than the grid's step, or of business days.
    """
    if by.nominal_seconds < axis.step.nominal_seconds * (1 - 1e-9):
        raise SettingsError(f"The step is {axis.step}; it cannot be told by {by}, which is shorter.", field="by")
    local = axis.local(positions)
    day = local.astype("datetime64[D]")
    if by.unit in _CLOCK:
        width = by.count * _CLOCK[by.unit]
        if 86400 % width:
            raise SettingsError("Hours, minutes and seconds make up a day without rest.", field="by")
        into = (local - day).astype(np.int64)
        return np.asarray(day.astype("datetime64[s]") + (into // width * width).astype("timedelta64[s]"))
    if by.unit in ("day", "week"):
        width = by.count * (7 if by.unit == "week" else 1)
        whole = (day - _MONDAY).astype(np.int64) // width * width
        return np.asarray((_MONDAY + whole).astype("datetime64[s]"))
    if by.unit not in _MONTHS:
        raise SettingsError("Told by hours, days, weeks, months, quarters or years.", field="by")
    months = local.astype("datetime64[M]").astype(np.int64)
    width = by.count * _MONTHS[by.unit]
    if (width > 12 and width % 12 == 0) or 12 % width == 0:
        return np.asarray((months // width * width).astype("datetime64[M]").astype("datetime64[s]"))
    raise SettingsError("Months make up a year without rest.", field="by")
