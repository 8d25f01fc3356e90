"""Searches: begun with an experiment or for it, gone on with, told of, and taken to the board."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from sqlalchemy.orm import Session

from proteron.core.errors import SettingsError
from proteron.core.forecasters import Contender
from proteron.core.judge import weights_of
from proteron.core.panel import Panel
from proteron.core.search import (
    Contest,
    Finalist,
    Mark,
    Moved,
    Rung,
    SearchSettings,
    Space,
    Story,
    TrialFacts,
    importance_of,
)
from proteron.core.search.luck import Luck
from proteron.records import experiments as records
from proteron.records import searches
from proteron.records.models import Experiment
from proteron.records.results import load_results
from proteron.runner.work.races import contest_of, enter
from proteron.services import boards
from proteron.services.experiments import begin_search, judging_of, space_for, start
from proteron.services.resources import Resources


@dataclass(frozen=True)
class SearchFacts:
    """How far a search is and what it has found: candidates, the course of their errors, the best so far and the
    weights of a blend of the best by series, what luck would show, and a paragraph."""

    settings: SearchSettings
    baseline: str
    state: str
    spent: float
    fits: int
    rungs: Sequence[Rung]
    trials: Sequence[TrialFacts]
    course: Sequence[Mark]
    names: Sequence[str]
    best: str | None
    best_error: float | None
    blended: Sequence[str]
    weights: Mapping[str, Sequence[float]]
    blend_name: str | None
    luck: Luck | None
    moved: Sequence[Moved]
    text: str
    entered: Sequence[str]


def begin_and_start(reach: Resources, experiment_id: int, settings: SearchSettings) -> None:
    """Have an experiment search, or go on with more budget, and the runner take it on; raises as `begin_search`."""
    with reach.database.session() as session:
        experiment = records.get_experiment(session, experiment_id, lock=True)
        begin_search(session, experiment, reach.panel(experiment.dataset_id), settings)
    start(reach.database, reach.queue, experiment_id)


def space_of(reach: Resources, experiment_id: int) -> Space:
    """What a search of an experiment would try, by what its first fold knows."""
    with reach.database.session() as session:
        experiment = records.get_experiment(session, experiment_id)
    panel = reach.panel(experiment.dataset_id)
    with reach.computing():
        return space_for(judging_of(experiment), panel)


def take(reach: Resources, experiment_id: int, names: Sequence[str]) -> None:
    """Enter candidates of a search that came to the end, and the blend of the best, on the board.

    Raises `SettingsError` for a name that is neither.
    """
    with reach.database.session() as session:
        experiment = records.get_experiment(session, experiment_id, lock=True)
        panel = reach.panel(experiment.dataset_id)
        contest = _raced(session, experiment, panel)
        there = {each.name: each.contender for each in contest.race.complete}
        made = contest.blend()
        there |= {} if made is None else dict([made])
        wanted = {name: there[name] for name in names if name in there}
        if len(wanted) < len(set(names)):
            missing = next(name for name in names if name not in there)
            raise SettingsError(f"“{missing}” has not been judged on all folds.", field="names")
        enter(session, experiment, panel, wanted)
        going = experiment.state in ("queued", "running")
    if not going:
        start(reach.database, reach.queue, experiment_id)


def _raced(session: Session, experiment: Experiment, panel: Panel) -> Contest:
    if not experiment.search:
        raise SettingsError("This experiment does not search.", field="experiment_id")
    contest = contest_of(session, experiment, panel)
    if not searches.is_running(experiment) and experiment.race and "fits" in experiment.race:
        contest.settings = contest.settings.model_copy(update={"fits": int(experiment.race["fits"])})
    contest.caught_up()
    return contest


def facts_of(reach: Resources, experiment_id: int) -> SearchFacts:
    """How far the search of an experiment is; raises `SettingsError` where it has none."""
    with reach.database.session() as session:
        experiment = records.get_experiment(session, experiment_id)
        panel = reach.panel(experiment.dataset_id)
        with reach.computing():
            return _facts(session, experiment, panel)


def _facts(session: Session, experiment: Experiment, panel: Panel) -> SearchFacts:
    contest, race_state = _raced(session, experiment, panel), (experiment.race or {}).get("state", "done")
    running = searches.is_running(experiment)
    stopped = running and experiment.state not in ("queued", "running")
    race, judging, spent = contest.race, judging_of(experiment), searches.spent(experiment)
    blended = _blended(session, experiment, panel, contest)
    trials = contest.facts(blended.mean, over=not running)
    moved, luck, best = importance_of(trials), contest.luck(), race.best
    first = next(iter(race.complete), None)
    winner, error = (None, None) if first is None else (first.name, first.error)
    if blended.error is not None:
        winner, error = blended.name, blended.error
    story = Story(
        len(trials), race.fits, spent, len(contest.folds), contest.baseline[0], winner,
        None if error is None else 1 - error, blended.mean if winner == blended.name else {}, luck, moved,
        _finalists(session, experiment, panel, [blended.name, None if first is None else first.name]),
        len(judging.folds.resolve_sealed(panel)), running,
    )  # fmt: skip
    state = "stopped" if stopped else race_state
    names, entered = [each.name for each in race.trials], list(judging.entrants)
    return SearchFacts(
        SearchSettings.parse(experiment.search), contest.baseline[0], state, spent, race.fits, race.rungs, trials,
        contest.course, names,
        None if best is None else best.name, None if best is None else best.error, blended.members,
        blended.by_series, blended.name, luck, moved, story.text, entered,
    )  # fmt: skip


@dataclass(frozen=True)
class _Blended:
    """The blend of the best so far: who, weights by series and in the mean, and its error where it is judged."""

    name: str | None = None
    members: Sequence[str] = ()
    by_series: Mapping[str, Sequence[float]] = field(default_factory=dict)
    mean: Mapping[str, float] = field(default_factory=dict)
    error: float | None = None


def _blended(session: Session, experiment: Experiment, panel: Panel, contest: Contest) -> _Blended:
    made = contest.blend()
    if made is None:
        return _Blended()
    members = [each.name for each in contest.members]
    by_series = _weights(session, experiment, panel, contest)
    mean = dict(zip(members, np.mean(list(by_series.values()), axis=0).tolist(), strict=True))
    entered = judging_of(experiment).entrants.get(made[0])
    return _Blended(made[0], members, by_series, mean, _relative(contest, made[0], entered))


def _relative(contest: Contest, name: str, entered: Contender | None) -> float | None:
    """The blend's error relative to the baseline on the search folds, where it is entered and judged."""
    made = contest.blend()
    if made is None or entered is None or entered.hash != made[1].hash or contest.scores is None:
        return None
    members = {each.name: each.contender for each in contest.members}
    cells = [each for each in contest.expanded({**members, name: made[1]}) if each.name == name]
    losses = [(each, found) for each in cells
              if each.key in contest.outcomes and (found := contest.outcomes[each.key].losses) is not None]  # fmt: skip
    return contest.scores.relative(contest.scores.of(losses)) if len(losses) == len(cells) else None


def _weights(session: Session, experiment: Experiment, panel: Panel, contest: Contest) -> dict[str, list[float]]:
    """What a blend of the best so far would weigh at the last search fold, by series."""
    made = contest.blend()
    assert made is not None
    members = {each.name: each.contender for each in contest.members}
    cell = [each for each in contest.expanded({**members, made[0]: made[1]}) if each.name == made[0]][-1]
    found = load_results(session, experiment.id, keys=cell.needs)
    by_hash = {each.hash: each for each in members.values()}
    read = [replace(each, cell=replace(each.cell, contender=by_hash[each.cell.contender.hash])) for each in found]
    weights = weights_of(panel, cell, read)
    return {key: weights[:, row].tolist() for row, key in enumerate(panel.keys)}


def _finalists(session: Session, experiment: Experiment, panel: Panel, names: Sequence[str | None]) -> list[Finalist]:
    """Skills on search folds and sealed ones of those whose seal is broken."""
    found = boards.sealed_of(session, experiment, panel)
    if found is None or found.board is None:
        return []
    opened = boards.board_of(session, experiment, panel)
    rows = {row.contender: row.skill for row in found.board}
    return [
        Finalist(name, opened.row(name).skill, rows[name])
        for name in dict.fromkeys(names)
        if name is not None and name in rows
    ]
