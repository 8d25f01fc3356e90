"""The race: which candidate is tried next and on how much, given what was found so far; nothing is computed here.

Candidates start on little and go on to more as long as they are in the better half of all that got as far
(asynchronous successive halving, Li et al. 2020), step by step in rounds of a fixed size: what is asked next depends on
what was told, and neither on how fast anything was nor on how many processes compute it.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Literal

import numpy as np

from proteron.core.documents import content_hash
from proteron.core.errors import SettingsError
from proteron.core.forecasters import Contender
from proteron.core.judge.folds import Fold
from proteron.core.panel import Panel
from proteron.core.search.space import Choice, Family, Space

ROUND = 4  # steps that are decided on together
_SOME_SERIES, _MANY_SERIES = 40, 60
_SOME_POINTS, _MANY_POINTS = 3000, 6000
_DRAWS_BEFORE_LOCAL = 4
_REACH, _CLOSER = 0.25, 0.8
_FIRST = 6  # families whose usual settings come before any other chain or plan of theirs
_FAILURES = 2  # of a family without any success, after which it is left
State = Literal["waiting", "racing", "kept", "dropped", "stalled", "failed"]


@dataclass(frozen=True)
class Rung:
    """How much a candidate is tried on: the last `folds` ones, some series (none: all), and only the last `points`
    before each cutoff (none: all)."""

    folds: int
    series: tuple[int, ...] = ()
    points: int | None = None

    @property
    def whole(self) -> bool:
        """Whether its cells are those of the experiment itself."""
        return not self.series and self.points is None


@dataclass(frozen=True)
class Step:
    """One candidate, by its place among the trials, on one rung."""

    trial: int
    rung: int


@dataclass(frozen=True)
class Heard:
    """What was found on a step: error relative to the baseline, None with a reason; seconds it took."""

    error: float | None
    seconds: float
    reason: str = ""
    stalled: bool = False


@dataclass
class Trial:
    """A candidate in the race: what it is and what was heard of it, rung by rung."""

    name: str
    contender: Contender
    family: int
    choice: Choice
    heard: dict[int, Heard] = field(default_factory=dict)

    @property
    def reached(self) -> int:
        """The last rung with an error, -1 before any."""
        return max((rung for rung, each in self.heard.items() if each.error is not None), default=-1)

    @property
    def error(self) -> float | None:
        """Relative to the baseline, on the last rung reached."""
        return self.heard[self.reached].error if self.reached >= 0 else None

    @property
    def seconds(self) -> float:
        """Spent on it."""
        return sum(each.seconds for each in self.heard.values())

    @property
    def reason(self) -> str:
        """Why it has not come further."""
        return next((each.reason for each in self.heard.values() if each.reason), "")

    @property
    def stopped(self) -> bool:
        """Whether it failed or stalled."""
        return any(each.error is None for each in self.heard.values())

    @property
    def stalled(self) -> bool:
        return any(each.stalled for each in self.heard.values())


def rungs_of(panel: Panel, folds: Sequence[Fold], seed: int) -> tuple[Rung, ...]:
    """One fold, a third of all, all; before them fewer series of a large panel, and less of what is long."""
    counts = sorted({1, max(1, round(len(folds) / 3)), len(folds)})
    points = max(fold.cutoff - fold.learn_start for fold in folds)
    some: tuple[int, ...] = ()
    if len(panel) > _MANY_SERIES:
        count = min(_SOME_SERIES, len(panel) // 4)
        drawn = np.random.default_rng(seed).choice(len(panel), count, replace=False)
        some = tuple(sorted(drawn.tolist()))
    season = round(max(panel.axis.step.seasons[:2], default=1))
    fewer = max(_SOME_POINTS, 4 * season)
    less = fewer if points > max(_MANY_POINTS, 2 * fewer) else None
    first = [Rung(1, some, less)] if some or less else []
    return (*first, *(Rung(count) for count in counts))


class Race:
    """Trials in the order they were begun, and what comes next."""

    def __init__(self, space: Space, rungs: Sequence[Rung], seed: int, taken: Sequence[str] = ()) -> None:
        self.space, self.rungs, self.seed = space, tuple(rungs), seed
        self.trials: list[Trial] = []
        self.fits = 0
        self._names, self._hashes = set(taken), set[str]()
        usual = [
            (place // _FIRST, number > 0, place, each)
            for place, family in enumerate(space.families) for number, each in enumerate(family.usual())
        ]  # fmt: skip
        self._usual = [(place, each) for *_, place, each in sorted(usual, key=lambda each: each[:3])]
        self._draws = [0] * len(space.families)

    def fits_of(self, step: Step) -> int:
        """How many folds a step learns anew; those of the rung before are there already where it was a part."""
        rung = self.rungs[step.rung]
        before = self.rungs[step.rung - 1] if step.rung else None
        there = before.folds if before is not None and before.whole and rung.whole else 0
        return rung.folds - there

    def next(self, fits: int | None = None) -> list[Step]:
        """What is to be tried in the next round, within so many more fits; nothing where all is tried or spent."""
        planned: list[Step] = []
        left = fits
        while len(planned) < ROUND:
            step = self._promoted(planned) or self._begun()
            if step is None:
                break
            if left is not None:
                left -= self.fits_of(step)
                if left < 0:
                    if step.rung == 0:
                        self._forget(step)
                    break
            planned.append(step)
        return planned

    def tell(self, step: Step, heard: Heard) -> None:
        """What was found; steps of a round are told in their order."""
        self.fits += self.fits_of(step)
        self.trials[step.trial].heard[step.rung] = heard

    def left_out(self, steps: Sequence[Step]) -> None:
        """Steps that were not done after all; candidates that begin with them are as if they had not been drawn."""
        for step in sorted(steps, key=lambda each: -each.trial):
            if step.rung == 0:
                self._forget(step)

    def state_of(self, trial: Trial, over: bool = False) -> State:
        """Where a candidate stands; once the race is `over`, who has not come to the end was dropped."""
        if trial.stopped:
            return "stalled" if trial.stalled else "failed"
        if trial.reached == len(self.rungs) - 1:
            return "kept"
        if trial.reached < 0:
            return "waiting"
        return "dropped" if over or not self._among_better(trial) else "racing"

    @property
    def complete(self) -> list[Trial]:
        """Those that were tried on everything, the best first."""
        last = len(self.rungs) - 1
        found = [each for each in self.trials if not each.stopped and each.reached == last]
        return sorted(found, key=lambda each: each.heard[last].error or 0.0)

    @property
    def best(self) -> Trial | None:
        """The best of those that came farthest."""
        there = [each for each in self.trials if not each.stopped and each.reached >= 0]
        return min(there, key=lambda each: (-each.reached, each.error), default=None)

    def _at(self, rung: int) -> list[Trial]:
        """Those with an error on a rung, the best first."""
        found = [each for each in self.trials if rung in each.heard and each.heard[rung].error is not None]
        return sorted(found, key=lambda each: each.heard[rung].error or 0.0)

    def _better(self, rung: int) -> list[Trial]:
        """The better half of a rung; three go on before six are there, so that there is something to blend soon."""
        found = self._at(rung)
        return found[: max(len(found) // 2, min(len(found) - 1, 3))]

    def _among_better(self, trial: Trial) -> bool:
        return trial in self._better(trial.reached)

    def _promoted(self, planned: Sequence[Step]) -> Step | None:
        """The best candidate that is to go on, from the highest rung."""
        for rung in range(len(self.rungs) - 2, -1, -1):
            for trial in self._better(rung):
                step = Step(self.trials.index(trial), rung + 1)
                if rung + 1 not in trial.heard and step not in planned and not trial.stopped:
                    return step
        return None

    def _begun(self) -> Step | None:
        """The next candidate: first all as they are usually set, then what is drawn."""
        while self._usual:
            place, choice = self._usual.pop(0)
            if not self._left(place) and (step := self._entered(place, choice)) is not None:
                return step
        for _ in range(50):
            turn = self._family()
            if turn is None:
                return None
            if (step := self._entered(turn, self._drawn(turn))) is not None:
                return step
        return None

    def _left(self, place: int) -> bool:
        """Whether a family is not tried any more: it stalled, or failed again and again."""
        mine = [each for each in self.trials if each.family == place and each.heard]
        failed = sum(each.stopped for each in mine)
        return any(each.stalled for each in mine) or (failed >= _FAILURES and failed == len(mine))

    def _family(self) -> int | None:
        """Whose turn it is to be drawn from: the better a family's best, the more often."""
        alive = [place for place, each in enumerate(self.space.families) if each.tunable and not self._left(place)]
        if not alive:
            return None

        def best(place: int) -> tuple[int, float]:
            mine = [each for each in self.trials if each.family == place and each.error is not None]
            top = max((each.reached for each in mine), default=-1)
            return -top, min((each.error or 0.0 for each in mine if each.reached == top), default=np.inf)

        ranked = sorted(alive, key=best)
        return min(ranked, key=lambda place: (self._draws[place] + 1) * (ranked.index(place) + 1))

    def _drawn(self, place: int) -> Choice:
        """A choice of a family: even draws at first, then every other one close to its best."""
        family, number = self.space.families[place], self._draws[place]
        self._draws[place] += 1
        mine = [each for each in self.trials if each.family == place and each.error is not None]
        local = number - _DRAWS_BEFORE_LOCAL
        if not mine or local < 0 or local % 2:
            return family.drawn(number, _seed(self.seed, family, 0))
        best = min(mine, key=lambda each: (-each.reached, each.error))
        rng = np.random.default_rng(_seed(self.seed, family, number))
        return family.beside(best.choice, _REACH * _CLOSER ** (local // 2), rng)

    def _entered(self, place: int, choice: Choice) -> Step | None:
        """A new trial; None where the same is there already, or settings do not go together."""
        family = self.space.families[place]
        try:
            contender = family.contender(choice)
        except SettingsError:
            return None
        if contender.hash in self._hashes:
            return None
        name = full = family.named(choice)
        number = 2
        while name in self._names:
            name, number = f"{full} ({number})", number + 1
        self._hashes.add(contender.hash)
        self._names.add(name)
        self.trials.append(Trial(name, contender, place, choice))
        return Step(len(self.trials) - 1, 0)

    def _forget(self, step: Step) -> None:
        trial = self.trials.pop(step.trial)
        self._hashes.discard(trial.contender.hash)
        self._names.discard(trial.name)


def _seed(seed: int, family: Family, number: int) -> int:
    return int(content_hash([seed, family.document(), number])[:8], 16)
