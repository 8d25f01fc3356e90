"""What an experiment would be, before it is one: its folds, its cells, which are there, and about how long it takes."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from proteron.core.experiment import ContenderEntry
from proteron.core.judge import Cell, Fold, Folds, expand, folds_text
from proteron.core.judge.cost import LONGEST, Cost
from proteron.core.panel import Panel
from proteron.records.models import CellRecord
from proteron.runner.sidecar import TooLongError
from proteron.services.resources import Resources

_GRACE = 5.0  # seconds in which a fit may stop by itself


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


def cost_in_trial(reach: Resources, entry: ContenderEntry, dataset_id: int, series: int, until: int) -> Cost:
    """What one fit costs, tried in a process of its own; one that does not stop when it is asked to is ended."""
    try:
        found: Cost = reach.trial.call("cost", entry, dataset_id, series, until, seconds=LONGEST + _GRACE)
    except TooLongError:
        return Cost(None, LONGEST, None)
    return found
