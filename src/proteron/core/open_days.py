"""Which days are open: weekends, public holidays by country, and single closed dates."""

import re
from collections.abc import Sequence
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from proteron.core.errors import SettingsError

Days = NDArray[np.datetime64]

_YEARS = range(1950, 2101)  # public holidays are named in these; outside of them only weekends are closed
_REGION = re.compile(r"[A-Za-z]{2,3}(-[A-Za-z0-9]{1,6})?")
_DATE = re.compile(r"\d{4}-\d\d-\d\d")


def named_closed(regions: str, dates: str) -> tuple[str, ...]:
    """Regions such as “PT, US-NY” and dates such as “2024-12-24”, in one order; raises `SettingsError`."""
    wanted = [each.upper() for each in re.split(r"[,\s]+", regions.strip()) if each]
    days = [each for each in re.split(r"[,\s]+", dates.strip()) if each]
    for region in wanted:
        if not _REGION.fullmatch(region):
            raise SettingsError(f"“{region}” is not a country such as “PT” or a part of one as “US-NY”.", field="step")
    for day in days:
        _day(day)
    closed = (*dict.fromkeys(wanted), *sorted(set(days)))
    open_days(closed)
    return closed


def closed_text(closed: Sequence[str]) -> str:
    """What `named_closed` read, as it is written behind “business day”."""
    regions = [each for each in closed if not _DATE.fullmatch(each)]
    dates = [each for each in closed if _DATE.fullmatch(each)]
    return (f" of {', '.join(regions)}" if regions else "") + (f" except {', '.join(dates)}" if dates else "")


def _day(text: str) -> np.datetime64:
    try:
        if _DATE.fullmatch(text):
            return np.datetime64(text, "D")
    except ValueError:
        pass
    raise SettingsError(f"“{text}” is not a date such as 2024-12-24.", field="step")


@lru_cache(maxsize=32)
def open_days(closed: tuple[str, ...]) -> np.busdaycalendar:
    """The calendar of open days; raises `SettingsError` for a country or a part of one that is not known.

    The weekend is Saturday and Sunday, or that of the first country named.
    """
    from holidays import country_holidays

    weekend, days = {5, 6}, []
    for place, name in enumerate(closed):
        if _DATE.fullmatch(name):
            days.append(_day(name))
            continue
        country, _, part = name.partition("-")
        try:
            found = country_holidays(country, subdiv=part or None, years=_YEARS)
        except NotImplementedError as error:
            raise SettingsError(f"No holidays are known for “{name}”.", field="step") from error
        days += [np.datetime64(day, "D") for day in found]
        weekend = set(found.weekend) if place == 0 else weekend
    mask = [weekday not in weekend for weekday in range(7)]
    return np.busdaycalendar(weekmask=mask, holidays=np.array(days, dtype="datetime64[D]"))


def days_onwards(first: np.datetime64, counts: NDArray[np.int64], closed: tuple[str, ...]) -> Days:
    """The open days `counts` (any shape) open days from `first`, which is moved on where it is closed itself."""
    return np.busday_offset(first.astype("datetime64[D]"), counts, roll="forward", busdaycal=open_days(closed))


def open_days_until(first: np.datetime64, day: np.datetime64, closed: tuple[str, ...]) -> int:
    """How many open days the last one at or before `day` lies behind open `first`; negative before it."""
    return int(np.busday_count(first, day + np.timedelta64(1, "D"), busdaycal=open_days(closed))) - 1


def open_at_or_before(day: np.datetime64, closed: tuple[str, ...]) -> np.datetime64:
    """The last open day at or before `day`."""
    (found,) = np.busday_offset(np.array([day]), 0, roll="backward", busdaycal=open_days(closed))
    return np.datetime64(found, "D")
