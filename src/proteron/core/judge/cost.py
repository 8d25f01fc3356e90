"""What one fit of a contender costs on the data at hand, which is measured."""

from dataclasses import dataclass
from time import monotonic

from proteron.core.errors import InputError, StoppedError
from proteron.core.forecasters import Contender, Work
from proteron.core.judge.cells import Clock
from proteron.core.panel import Panel

LONGEST = 20.0  # seconds after which it is only said that a fit takes longer
_AGAIN_BELOW = 1.0  # seconds: a first fit as short as this may have spent them on loading


@dataclass(frozen=True)
class Cost:
    """What one fit took, in seconds; None where it takes longer than `limit`. `rate` is for a unit of a cell's work."""

    seconds: float | None
    limit: float
    rate: float | None


def cost_of_fit(contender: Contender, panel: Panel, index: int, until: int, limit: float = LONGEST) -> Cost:
    """Learn once from one series as it is known at `until`, or from all where it learns from all, and take the time.

    Raises whatever the contender finds wrong with the data, `InputError` where it declines every series.
    """
    together = contender.forecaster.panel_wide or contender.forecaster.joint
    known = (panel if together else panel.select([index])).cut_at(until)
    end = monotonic() + limit
    work = Work(stop_asked=lambda: monotonic() > end, horizon=max(panel.axis.step.season, 1))
    try:
        taken = _fit(contender, known, work)
        if taken < min(_AGAIN_BELOW, limit / 2):
            taken = min(taken, _fit(contender, known, work))
    except StoppedError:
        return Cost(None, limit, None)
    points = max(1, known.end - int(known.starts.min()))
    return Cost(taken, limit, taken / (len(known) * points * contender.forecaster.cost))


def _fit(contender: Contender, known: Panel, work: Work) -> float:
    clock = Clock()
    (fitted,) = contender.fit_many([(known, None, work)])
    taken = clock.taken()[0]
    declined = contender.forecaster.declined(fitted.state)
    if len(declined) == len(known):
        raise InputError(next(iter(declined.values())), field="contender")
    return taken
