"""A search in this process and some beside it, without web or database."""

import os
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from proteron.core.errors import SettingsError, StoppedError, TooShortError
from proteron.core.forecasters import Contender, forecaster
from proteron.core.judge import (
    DEFAULT_METRICS,
    LEVELS,
    Cell,
    CellResult,
    Folds,
    Report,
    compute_cells,
    skill_metric_of,
)
from proteron.core.panel import Panel, require_panel
from proteron.core.search.contest import Contest, outcome_of
from proteron.core.search.processes import Found, Pool
from proteron.core.search.race import Step
from proteron.core.search.report import SearchReport, importance_of, mean_weights
from proteron.core.search.scores import loss_of
from proteron.core.search.settings import SearchSettings
from proteron.core.search.space import Space

_OVER = 1.05  # times the budget after which what is at work is stopped
_BASELINE_WITHIN = 600.0  # seconds a fit of what all else is measured by, which no budget cuts
_MEMORY = 4 * 2**30
_MOST_WORKERS = 4


@dataclass(frozen=True)
class Tidings:
    """How far a search is: seconds and fits spent, candidates tried, the last one told of, and the best so far."""

    seconds: float
    fits: int
    tried: int
    name: str
    error: float | None
    reason: str
    best: str | None
    best_error: float | None


def usual_folds(panel: Panel, sealed: int = 0) -> Folds:
    """Folds that fit into the latter half of a panel: eight of a season, or shorter and fewer where it is short."""
    season = max(round(panel.axis.step.season), 1)
    half = max(season // 2, 1)
    for count, horizon in ((8, season), (6, season), (8, half), (6, half), (4, half), (3, half), (2, 1)):
        folds = Folds.expanding(count=count + sealed, horizon=horizon, sealed=sealed)
        try:
            folds.resolve(panel)
        except TooShortError:
            continue
        if folds.resolve(panel)[0].cutoff * 2 >= panel.end or count == 2:
            return folds
    raise TooShortError("Too few points are known to search on.", field="folds")


def search(
    panel: Panel,
    seconds: float | None = None,
    fits: int | None = None,
    folds: Folds | None = None,
    sealed: int | None = None,
    seed: int = 0,
    *,
    space: Space | None = None,
    limit: float | None = None,
    blended: int = 5,
    baseline: Contender | None = None,
    metrics: Sequence[str] = DEFAULT_METRICS,
    levels: Sequence[float] = LEVELS,
    workers: int | None = None,
    memory: int = _MEMORY,
    progress: Callable[[Tidings], Any] | None = None,
    stop_asked: Callable[[], bool] = bool,
    before: SearchReport | None = None,
) -> SearchReport:
    """Find the best contender, and a blend of the best, within a budget of seconds, of fits (a candidate learned at a
    fold), or both; 60 seconds where none is named, from when its processes have begun.

    The last `sealed` folds are not touched: `SearchReport.sealed` judges the winner there. `space` is what is searched,
    else it is proposed from what the first search fold knows. A fit of more than `limit` seconds is stopped and named,
    as is one that needs more than `memory` bytes. With a budget in fits everything is reproduced to the last digit,
    whatever `workers` there are; `before`, an earlier report on the same data, is gone on with. Ctrl-C, or
    `stop_asked`, ends the search and keeps what was found. Raises `SettingsError` and `TooShortError` for what does not
    fit the panel, `StoppedError` where it ends before the baseline is judged.
    """
    require_panel(panel)
    settings = SearchSettings.parse(
        {"seconds": seconds, "fits": fits, "limit": limit, "blended": blended, "space": space}
    )  # fmt: skip
    folds = folds or (before.design if before else usual_folds(panel, 0 if sealed is None else sealed))
    folds = folds if sealed is None else Folds.parse({**folds.document(), "sealed": sealed})
    usual = baseline or forecaster("seasonal_last_value" if panel.axis.step.season > 1 else "last_value")
    contest = Contest(panel, settings, folds, seed, (usual.forecaster.label, usual), metrics, levels)
    return raced(contest, workers, memory, progress, stop_asked, before)


def raced(
    contest: Contest, workers: int | None = None, memory: int = _MEMORY,
    progress: Callable[[Tidings], Any] | None = None, stop_asked: Callable[[], bool] = bool,
    before: SearchReport | None = None,
) -> SearchReport:  # fmt: skip
    """Run a contest in processes of its own, to its end, to a stop, or to Ctrl-C."""
    count = max(1, min(workers or os.cpu_count() or 1, _MOST_WORKERS))
    runner = _Runner(contest, Pool(contest.panel, count, memory), progress, stop_asked, before)
    try:
        stopped = runner.run()
    except KeyboardInterrupt:
        stopped = True
        if contest.scores is None:
            raise StoppedError("Stopped before anything was found.") from None
    finally:
        runner.pool.close()
    return runner.report(stopped)


class _Runner:
    """Has the steps of a contest done, and keeps what their cells found."""

    def __init__(
        self, contest: Contest, pool: Pool, progress: Callable[[Tidings], Any] | None,
        stop_asked: Callable[[], bool], before: SearchReport | None,
    ) -> None:  # fmt: skip
        self.contest, self.pool, self.progress, self.stop_asked = contest, pool, progress, stop_asked
        self.seconds, self.limit = contest.settings.seconds, contest.settings.most_seconds_a_fit
        self.loss = loss_of(skill_metric_of(contest.metrics))
        self.pool.wait_until_begun()
        self.begun = time.monotonic()
        self.until = None if self.seconds is None else self.begun + _OVER * self.seconds
        self.found: dict[str, Found] = {}
        for each in [] if before is None else before.cells.values():
            self._take(each, 0.0)

    @property
    def passed(self) -> float:
        return time.monotonic() - self.begun

    def run(self) -> bool:
        """Round after round until the budget is spent or everything is tried; whether a stop was asked for."""
        self._judge_baseline()
        while not self.stop_asked() and (self.seconds is None or self.passed < self.seconds):
            steps = self.contest.next_steps()
            if not steps or not self._round(steps):
                break
        return self.stop_asked()

    def _judge_baseline(self) -> None:
        """What all errors are relative to, whatever it takes; raises `SettingsError` where there is nothing."""
        cells = [each for each in self.contest.base_cells if each.key not in self.found]
        for _, found in self.pool.run([cells], max(self.limit, _BASELINE_WITHIN), None, self.stop_asked):
            self._take(found, self.passed)
        if self.contest.scores is not None:
            return
        if self.stop_asked():
            raise StoppedError("Stopped before anything was found.")
        reason = next(self.found[each.key].reason for each in self.contest.base_cells if self._failed(each))
        raise SettingsError(f"The baseline has no forecast: {reason}", field="baseline")

    def _round(self, steps: Sequence[Step]) -> bool:
        """Do the steps of a round and tell of them in their order; whether all of them were done."""
        told = self._tell(steps, 0)
        for _ in self._computed([self.contest.cells_of(step) for step in steps]):
            told = self._tell(steps, told)
        self.contest.race.left_out(steps[told:])
        return told == len(steps)

    def _failed(self, cell: Cell) -> bool:
        return cell.key in self.found and self.found[cell.key].result is None

    def _computed(self, jobs: Sequence[Sequence[Cell]]) -> Iterator[Found]:
        """Compute what is not there of some lists of cells."""
        wanted = [[each for each in mine if each.key not in self.found] for mine in jobs]
        for _, found in self.pool.run(wanted, self.limit, self.until, self.stop_asked):
            self._take(found, self.passed)
            yield found

    def _take(self, found: Found, at: float) -> None:
        self.found[found.cell.key] = found
        self.contest.outcomes[found.cell.key] = outcome_of(
            found.result, self.loss, found.seconds, at, found.reason, found.stalled
        )

    def _tell(self, steps: Sequence[Step], told: int) -> int:
        before, race = len(self.contest.course), self.contest.race
        told = self.contest.tell(steps, told)
        for mark in self.contest.course[before:] if self.progress is not None else []:
            trial, best = race.trials[mark.step.trial], race.best
            reason = trial.heard[mark.step.rung].reason
            assert self.progress is not None
            self.progress(
                Tidings(
                    self.passed, mark.fits, len(race.trials), trial.name, mark.error, reason,
                    None if best is None else best.name, None if best is None else best.error,
                )
            )  # fmt: skip
        return told

    def report(self, stopped: bool) -> SearchReport:
        """What was found, with the blend of the best judged on the search folds, too."""
        contest, complete = self.contest, self.contest.race.complete
        entered = {contest.baseline[0]: contest.baseline[1], **{each.name: each.contender for each in complete}}
        results = {each.key: self._result(each) for each in contest.expanded(entered)}
        weights, made = dict[str, float](), contest.blend()
        if made is not None:
            with_it = {made[0]: made[1], **entered}
            cells = [each for each in contest.expanded(with_it) if each.name == made[0]]
            for result in compute_cells(contest.panel, cells, earlier=results):
                results[result.cell.key] = result
            weights = mean_weights(result)
            entered = {contest.baseline[0]: contest.baseline[1], **with_it}
        report = Report(
            contest.panel, entered, tuple(contest.folds), contest.metrics, contest.baseline[0],
            tuple(results.values()), (), tuple(contest.design.resolve_sealed(contest.panel)), contest.seed,
            contest.levels,
        )  # fmt: skip
        trials = contest.facts(weights)
        spent = contest.course[-1].at if contest.course else 0.0
        return SearchReport(
            report, contest.design, contest.settings, trials, complete[0].name if complete else None,
            None if made is None else made[0], contest.luck(), importance_of(trials), spent, contest.race.fits,
            stopped, dict(self.found),
        )  # fmt: skip

    def _result(self, cell: Cell) -> CellResult:
        result = self.found[cell.key].result
        assert result is not None
        return result
