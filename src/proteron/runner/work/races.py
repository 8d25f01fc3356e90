"""Searches: what comes next is decided here from what cells have found, and computed as cells like any others."""

from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING

from sqlalchemy.orm import Session

from proteron.records import experiments as records
from proteron.records import searches
from proteron.records.datasets import get_dataset
from proteron.records.models import Experiment
from proteron.runner.slot import TOOK_TOO_LONG

if TYPE_CHECKING:
    from proteron.core.forecasters import Contender
    from proteron.core.judge import Cell
    from proteron.core.panel import Panel
    from proteron.core.search import Contest, Step


def contest_of(session: Session, experiment: Experiment, panel: "Panel") -> "Contest":
    """The race of an experiment with all that its cells have found; not run yet."""
    from proteron.core.experiment import Judging
    from proteron.core.judge import skill_metric_of
    from proteron.core.search import CellOutcome, Contest, SearchSettings
    from proteron.core.search.scores import loss_of
    from proteron.records.results import from_doubles

    judging = Judging.parse(experiment.document)
    settings = SearchSettings.parse(experiment.search)
    baseline = judging.chosen_baseline
    contest = Contest(
        panel, settings, judging.folds, judging.seed, (baseline, judging.entrants[baseline]), judging.metrics,
        judging.levels, tuple((experiment.race or {}).get("taken", ())),
        get_dataset(session, experiment.dataset_id).hash,
    )  # fmt: skip
    horizon = judging.folds.horizon
    for each in searches.fates(session, experiment.id, loss_of(skill_metric_of(judging.metrics))):
        at = searches.at_of(experiment, each.finished)
        losses = None if each.losses is None else from_doubles(each.losses, each.series, each.origins, horizon)
        stalled = each.reason.startswith(TOOK_TOO_LONG)
        contest.outcomes[each.key] = CellOutcome(losses, each.seconds, at, each.reason, stalled, each.declined)
    return contest


def advance(session: Session, experiment: Experiment, panel: "Panel", over: bool) -> bool:
    """Add the cells of what comes next to an experiment whose cells all have their fate; whether there are any.

    Where the race has come to its end, or is `over`, its best and their blend are entered.
    """
    contest = contest_of(session, experiment, panel)
    steps = contest.caught_up(over)
    if contest.scores is None and not over:
        failed = [each for each in contest.base_cells if each.key in contest.outcomes]
        if not failed:
            return True  # the baseline is still being judged
        over = True
    if steps and not over:
        records.add_cells(session, experiment.id, [cell for step in steps for cell in listed(contest, step)])
        return True
    enter_best(session, experiment, contest)
    searches.end(experiment, "done", fits=contest.race.fits, tried=len(contest.race.trials))
    return False


def listed(contest: "Contest", step: "Step") -> list["Cell"]:
    """A step's cells as they are listed: those of a part of the data under a name that no entrant has."""
    whole = contest.race.rungs[step.rung].whole
    return [each if whole else replace(each, name=f"{each.name} (part)") for each in contest.cells_of(step)]


def enter_best(session: Session, experiment: Experiment, contest: "Contest") -> list[str]:
    """Enter the best of a race, those that are blended, and their blend; answers who is entered now."""
    wanted = {each.name: each.contender for each in [*contest.race.complete[:1], *contest.members]}
    made = contest.blend()
    if made is not None:
        wanted[made[0]] = made[1]
    return enter(session, experiment, contest.panel, wanted)


def enter(session: Session, experiment: Experiment, panel: "Panel", wanted: "Mapping[str, Contender]") -> list[str]:
    """Enter contenders by name beside those of an experiment, with their cells; who is there already stays.

    A blend of other members takes the place of one of the same name.
    """
    from proteron.core.experiment import ContenderEntry, Judging

    judging = Judging.parse(experiment.document)
    known = {name: each.hash for name, each in judging.entrants.items()}
    fresh = [ContenderEntry.of(name, each) for name, each in wanted.items() if known.get(name) != each.hash]
    if not fresh:
        return list(known)
    names = {each.name for each in fresh}
    kept = [each for each in judging.contenders if each.name not in names]
    made = Judging.parse({**judging.document(), "contenders": [each.document() for each in [*kept, *fresh]]})
    searches.leave_entrants(session, experiment.id, [name for name in names if name in known])
    experiment.document = made.document()
    records.add_cells(session, experiment.id, made.cells(panel, get_dataset(session, experiment.dataset_id).hash))
    return list(made.entrants)
