"""What an experiment would be, before it is one: its folds, its cells, which are there, and about how long it takes.

And what one fit of a contender costs on the data at hand, which is measured.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from time import monotonic

from sqlalchemy import select
from sqlalchemy.orm import Session

from proteron.core.errors import InputError, StoppedError
from proteron.core.experiment import ContenderEntry
from proteron.core.forecasters import Contender, Work
from proteron.core.judge import Cell, Fold, Folds, expand, folds_text
from proteron.core.judge.cells import Clock
from proteron.core.panel import Panel
from proteron.records.models import CellRecord

_AGAIN_BELOW = 1.0  # seconds: a first fit as short as this may have spent them on loading
_LONGEST = 20.0  # seconds after which it is only said that a fit takes longer


@dataclass(frozen=True)
class Prospect:
    """An experiment before it runs; `seconds` is None where nothing is known of what a missing cell costs."""

    design: Folds
    text: str
    folds: Sequence[Fold]
    sealed: Sequence[Fold]
    points: int
    cells: int
    there: int
    seconds: float | None


def prospect_of(
    session: Session, panel: Panel, dataset: str, design: Folds, entries: Sequence[ContenderEntry], seed: int,
    levels: Sequence[float], rates: Mapping[str, float], workers: int,
) -> Prospect:  # fmt: skip
    """What `entries` on a design of folds come to; `rates` are seconds for a unit of work that were measured, by name.

    What earlier cells of the same contender took goes before that. Raises `TooShortError` or `SettingsError` where the
    folds do not fit.
    """
    folds, sealed = design.resolve(panel), design.resolve_sealed(panel)
    cells = expand(panel, {entry.name: entry.contender for entry in entries}, folds, seed, dataset, levels)
    done = _done(session, cells)
    missing = [cell for cell in cells if cell.key not in done]
    points = sum(len(fold.origins) * int(fold.chosen.sum()) for fold in folds) * len(panel)
    seconds = _seconds(session, missing, rates, workers)
    return Prospect(design, folds_text(design, panel.axis.step), folds, sealed, points, len(cells), len(done), seconds)


def _done(session: Session, cells: Sequence[Cell]) -> set[str]:
    keys = [cell.key for cell in cells]
    return set(session.scalars(select(CellRecord.key).where(CellRecord.key.in_(keys), CellRecord.state == "done")))


def _seconds(session: Session, cells: Sequence[Cell], rates: Mapping[str, float], workers: int) -> float | None:
    """About how long cells take: none longer than the longest of them, all of them shared by the workers."""
    hashes = {cell.name: cell.contender.hash for cell in cells}
    past = _past_rates(session, set(hashes.values()))
    found = {name: past.get(key, rates.get(name)) for name, key in hashes.items()}
    if any(rate is None for rate in found.values()):
        return None
    each = [cell.work * (found[cell.name] or 0.0) for cell in cells]
    return max(max(each, default=0.0), sum(each) / workers)


def _past_rates(session: Session, hashes: set[str]) -> dict[str, float]:
    """Seconds for a unit of work of contenders (by hash) that have been computed before."""
    query = select(CellRecord.contender, CellRecord.seconds, CellRecord.work).where(
        CellRecord.contender.in_(hashes), CellRecord.state == "done"
    )
    seconds, work = dict[str, float](), dict[str, float]()
    for contender, took, amount in session.execute(query):
        seconds[contender] = seconds.get(contender, 0.0) + took
        work[contender] = work.get(contender, 0.0) + amount
    return {contender: seconds[contender] / work[contender] for contender in work if work[contender]}


@dataclass(frozen=True)
class Cost:
    """What one fit took, in seconds; None where it takes longer than `limit`. `rate` is for a unit of a cell's work."""

    seconds: float | None
    limit: float
    rate: float | None


def cost_of_fit(contender: Contender, panel: Panel, index: int, until: int, limit: float = _LONGEST) -> Cost:
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
