"""A race on a panel: what its steps are as cells, and what they came to by what these found; it computes none."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from proteron.core.forecasters import Contender, blend
from proteron.core.judge import Cell, CellResult, Folds, check_judging, expand, skill_metric_of
from proteron.core.panel import Floats, Panel
from proteron.core.search.luck import Luck, reality_check
from proteron.core.search.race import Heard, Race, Rung, Step, Trial, rungs_of
from proteron.core.search.report import TrialFacts
from proteron.core.search.scores import Scores
from proteron.core.search.settings import SearchSettings
from proteron.core.search.space import proposed

_TWICE = 2.0  # times the best error: what errs more is not blended


@dataclass(frozen=True)
class CellOutcome:
    """What became of a cell: losses (n_series, n_origins, horizon) of the metric that the search goes by, or a reason;
    seconds it took, and after how many seconds of the search it was there."""

    losses: Floats | None
    seconds: float
    at: float
    reason: str = ""
    stalled: bool = False
    declined: str = ""


@dataclass(frozen=True)
class Mark:
    """A step that was told: after how many seconds and fits, of which trial and rung, and its error."""

    at: float
    fits: int
    step: Step
    error: float | None


class Contest:
    """A race with what its steps came to; `outcomes` of cells by key are put in from outside."""

    def __init__(
        self, panel: Panel, settings: SearchSettings, design: Folds, seed: int, baseline: tuple[str, Contender],
        metrics: Sequence[str], levels: Sequence[float], taken: Sequence[str] = (), dataset: str | None = None,
    ) -> None:  # fmt: skip
        """Ready to begin; the space is proposed where none is given. No candidate is called by a name that is taken."""
        check_judging([baseline[0]], metrics, baseline[0])
        self.panel, self.design, self.seed = panel, design, seed
        self.folds = design.resolve(panel)
        space = settings.space or proposed(panel, self.folds[0].cutoff)
        self.settings = settings.model_copy(update={"space": space})
        self.baseline, self.metrics, self.levels = baseline, tuple(metrics), tuple(levels)
        self._dataset = dataset or panel.hash
        self.race = Race(space, rungs_of(panel, self.folds, seed), seed, (baseline[0], *taken))
        self.base_cells = self.expanded({baseline[0]: baseline[1]})
        self.outcomes: dict[str, CellOutcome] = {}
        self.course: list[Mark] = []
        self._scores: Scores | None = None
        self._cells: dict[tuple[str, str, int], list[Cell]] = {}  # of steps, which are asked for again and again

    def expanded(self, entered: Mapping[str, Contender]) -> list[Cell]:
        """Cells of entrants on all search folds, as they stand on the board."""
        return expand(self.panel, entered, self.folds, self.seed, self._dataset, self.levels)

    def cells_of(self, step: Step) -> list[Cell]:
        """The cells of a step; those of the rung before may be among them."""
        trial, rung = self.race.trials[step.trial], self.race.rungs[step.rung]
        place = (trial.contender.hash, trial.name, step.rung)
        if place not in self._cells:
            self._cells[place] = self._expanded_on(trial, rung)
        return self._cells[place]

    def _expanded_on(self, trial: Trial, rung: Rung) -> list[Cell]:
        first = len(self.folds) - rung.folds
        folds = self.folds[first:]
        if rung.points is not None:
            folds = [replace(fold, learn_start=max(fold.learn_start, fold.cutoff - rung.points)) for fold in folds]
        entered = {trial.name: trial.contender}
        return expand(
            self.panel, entered, folds, self.seed, self._dataset, self.levels, first=first, series=rung.series
        )  # fmt: skip

    def whole_cells(self, trial: Trial) -> list[Cell]:
        """A candidate's cells on all folds, as they stand on the board."""
        return self.cells_of(Step(self.race.trials.index(trial), len(self.race.rungs) - 1))

    @property
    def scores(self) -> Scores | None:
        """What errors are relative to; None as long as the baseline is not there."""
        if self._scores is None and all(self._losses(each) is not None for each in self.base_cells):
            metric = skill_metric_of(self.metrics)
            self._scores = Scores(self.panel, self.folds, metric, self._losses_of(self.base_cells))
        return self._scores

    def next_steps(self) -> list[Step]:
        """Steps of the next round, within the budget in fits."""
        return self.race.next(None if self.settings.fits is None else self.settings.fits - self.race.fits)

    def tell(self, steps: Sequence[Step], told: int = 0) -> int:
        """Tell the race of steps of a round from place `told` on, as long as none before them is missing; how many of
        the round are told then."""
        while told < len(steps) and (heard := self._heard(steps[told])) is not None:
            self.race.tell(steps[told], heard)
            at = max((self.outcomes[each.key].at for each in self.cells_of(steps[told]) if each.key in self.outcomes),
                     default=0.0)  # fmt: skip
            last = self.course[-1].at if self.course else 0.0
            self.course.append(Mark(max(at, last), self.race.fits, steps[told], heard.error))
            told += 1
        return told

    def caught_up(self, over: bool = False) -> list[Step]:
        """Go as far as outcomes are there; the steps that are missing then, none where the race has come to its end.

        Once it is `over`, what is missing is left out.
        """
        while self.scores is not None and (steps := self.next_steps()):
            told = self.tell(steps)
            if told < len(steps):
                if over:
                    self.race.left_out(steps[told:])
                    return []
                return steps[told:]
        return []

    def _heard(self, step: Step) -> Heard | None:
        """What a step came to; None while it is not done."""
        cells = self.cells_of(step)
        there = [self.outcomes[each.key] for each in cells if each.key in self.outcomes]
        seconds = sum(each.seconds for each in there)
        for each in there:
            if each.losses is None:
                return Heard(None, seconds, each.reason, each.stalled)
        if len(there) < len(cells) or self.scores is None:
            return None
        error = self.scores.relative(self.scores.of(self._losses_of(cells)), self.race.rungs[step.rung].series)
        if error is None:
            declined = next((each.declined for each in there if each.declined), "")
            return Heard(None, seconds, declined or "It forecast nothing: no value was finite.")
        return Heard(error, seconds)

    def _losses(self, cell: Cell) -> Floats | None:
        found = self.outcomes.get(cell.key)
        return None if found is None else found.losses

    def _losses_of(self, cells: Sequence[Cell]) -> list[tuple[Cell, Floats]]:
        return [(each, losses) for each in cells if (losses := self._losses(each)) is not None]

    @property
    def members(self) -> list[Trial]:
        """Who is blended: of candidates that came to the end the best of every family, as it is and on logarithms, none
        that errs more than twice as much as the best of all."""
        complete, found = self.race.complete, dict[tuple[int, bool], Trial]()
        for each in complete:
            if each.error is not None and each.error <= _TWICE * (complete[0].error or 0.0):
                transformed = any(stage.group == "transform" for stage in each.contender.chain.stages)
                found.setdefault((each.family, transformed), each)
        return list(found.values())[: self.settings.blended]

    def blend(self) -> tuple[str, Contender] | None:
        """The blend of the best so far; None where there is nothing to blend."""
        members = self.members
        if len(members) < 2:
            return None
        found = blend({each.name: each.contender for each in members})
        return f"blend of {len(members)}", found

    def facts(self, weights: Mapping[str, float], over: bool = True) -> tuple[TrialFacts, ...]:
        """Of every candidate that was told of anything, or, while the race goes on, is at its first rung."""
        return tuple(
            self._facts(each, weights.get(each.name), over) for each in self.race.trials if each.heard or not over
        )

    def _facts(self, trial: Trial, weight: float | None, over: bool) -> TrialFacts:
        family, choice = self.race.space.families[trial.family], trial.choice
        rung = self.race.rungs[max(trial.reached, 0)]
        chain = family.chains[choice.chain]
        settings = {**choice.settings, "chain": chain.text if chain.stages else "none"}
        if len(family.plans) > 1:
            settings["plan"] = str(choice.plan)
        place = self.race.trials.index(trial)
        return TrialFacts(
            trial.name, trial.contender, family.title, settings, self.race.state_of(trial, over), trial.error,
            rung.folds if trial.reached >= 0 else 0, sum(self.race.fits_of(Step(place, each)) for each in trial.heard),
            trial.seconds, trial.reason,
            {rung: each.error for rung, each in trial.heard.items() if each.error is not None}, weight,
        )  # fmt: skip

    def luck(self) -> Luck | None:
        """What the best of all candidates that have an error would have shown by luck."""
        if self.scores is None:
            return None
        complete, losses = {id(each) for each in self.race.complete}, []
        for each in [each for each in self.race.trials if each.reached >= 0]:
            cells = self.whole_cells(each) if id(each) in complete else []
            losses.append(self.scores.by_block(self.scores.of(self._losses_of(cells))))
        return reality_check(losses, self.scores.by_block(self.scores.baseline), self.seed)


def outcome_of(result: CellResult | None, loss: str, seconds: float, at: float, reason: str = "",
               stalled: bool = False) -> CellOutcome:  # fmt: skip
    """Of a cell that was computed here."""
    if result is None:
        return CellOutcome(None, seconds, at, reason, stalled)
    return CellOutcome(result.losses[loss], seconds, at, declined=next(iter(result.declined.values()), ""))
