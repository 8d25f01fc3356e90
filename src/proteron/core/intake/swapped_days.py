"""Day and month, which way round: judged by the calendar, where both readings are dates."""

import numpy as np

from proteron.core.timeline import Instants


def way_round(day_first: Instants, month_first: Instants) -> tuple[int, bool]:
    """Which of two readings (n,) of the same cells is meant, 0 or 1, and whether the other stays plausible.

    The one whose spacing changes less often; of two even ones, the one that has nothing but first days of months.
    """
    uneven = [_uneven(reading) for reading in (day_first, month_first)]
    best = int(uneven[1] < uneven[0])
    if uneven[0] == uneven[1]:
        return int(_are_firsts(month_first) and not _are_firsts(day_first)), True
    return best, 2 * uneven[best] >= uneven[1 - best]


def _uneven(local: Instants) -> int:
    """How many gaps between sorted times differ from the usual one; gaps between the same days of months in months."""
    known = np.unique(local[~np.isnat(local)])
    if len(known) < 3:
        return 0
    gaps = np.diff(_months(known)) if _are_monthly(known) else np.diff(known.astype(np.int64))
    return len(gaps) - int(np.unique(gaps, return_counts=True)[1].max())


def _are_monthly(known: Instants) -> bool:
    """One moment of each month: the same day of it, or its last."""
    days, months = known.astype("datetime64[D]"), known.astype("datetime64[M]")
    if len(np.unique(months)) < len(months):
        return False
    into = known - months.astype("datetime64[s]")
    last = (days + 1) == (months + 1).astype("datetime64[D]")
    return bool((into == into[0]).all() or last.all())


def _months(known: Instants) -> np.ndarray:
    return known.astype("datetime64[M]").astype(np.int64)


def _are_firsts(local: Instants) -> bool:
    known = local[~np.isnat(local)]
    return bool((known.astype("datetime64[D]") == known.astype("datetime64[M]").astype("datetime64[D]")).all())
