"""Walk-forward: every contender, every fold, every series; the local engine and its report."""

import multiprocessing
import os
import sys
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor, as_completed
from contextlib import contextmanager
from dataclasses import dataclass, replace
from functools import cached_property
from multiprocessing.context import BaseContext
from typing import Any, Literal

import numpy as np
import pyarrow as pa

from proteron.core.errors import ProteronError, SettingsError
from proteron.core.forecasters import Contender
from proteron.core.judge.blending import with_members, with_members_of
from proteron.core.judge.board import Board, make_board, skill_metric_of
from proteron.core.judge.calibration import Calibration, calibrate
from proteron.core.judge.cell import LEVELS, Cell, CellResult
from proteron.core.judge.cells import compute_cells, expand
from proteron.core.judge.deceptions import Case, Deception, find_deceptions, gather_outcomes
from proteron.core.judge.designs import Folds
from proteron.core.judge.duel import Duel, duel
from proteron.core.judge.entrants import EntrantFacts, Failure
from proteron.core.judge.folds import Fold
from proteron.core.judge.forecast_table import forecast_table
from proteron.core.judge.losses import Breakdown, Losses, Told, View, Weighting, losses_at
from proteron.core.judge.metrics import DEFAULT_METRICS, METRICS, metric_of, sign_table
from proteron.core.judge.yardsticks import Yardsticks
from proteron.core.panel import Panel, require_panel
from proteron.core.phases import truths

Progress = Callable[[int, int, Cell, str | None], None]
Outcome = tuple[Cell, CellResult | None, str | None]
Earlier = Mapping[str, CellResult]
_shared: dict[str, Panel] = {}
_NOTHING: Earlier = {}


@dataclass(frozen=True, repr=False)
class Report:
    """Finished cells of a walk-forward run, and everything that is derived from them."""

    panel: Panel
    contenders: Mapping[str, Contender]
    folds: tuple[Fold, ...]
    metrics: tuple[str, ...]
    baseline: str
    results: tuple[CellResult, ...]
    failed: tuple[Failure, ...]
    sealed: tuple[Fold, ...] = ()
    seed: int = 0
    levels: tuple[float, ...] = LEVELS

    def __repr__(self) -> str:
        return f"{len(self.contenders)} contenders × {len(self.folds)} folds × {len(self.panel)} series\n{self.board!r}"

    def _repr_html_(self) -> str:
        return self.board._repr_html_()

    @property
    def names(self) -> tuple[str, ...]:
        """Names of the contenders, as entered."""
        return tuple(self.contenders)

    @cached_property
    def all_failures(self) -> tuple[Failure, ...]:
        """Cells that failed, and series that were declined in cells that did not."""
        return self.failed + tuple(each for result in self.results for each in declined_in(result))

    @property
    def failures(self) -> dict[str, str]:
        """Why there is no forecast, by place: “name, fold 1”, or with a series that was declined there."""
        return {each.place: each.reason for each in self.all_failures}

    @cached_property
    def _losses(self) -> Told:
        kept = gather_losses(self.results, self.names, self.folds, len(self.panel))
        return Told(kept, Yardsticks(self.panel, self.folds))

    @cached_property
    def board(self) -> Board:
        """One row per contender: errors, skill with interval, flat-unit errors, time, reasons for what is missing."""
        return self.weighed("points")

    def weighed(self, weighting: Weighting) -> Board:
        """The board with all scored points counting alike, all “series”, or series by the “size” of their truth."""
        facts = [
            EntrantFacts(
                name,
                contender.forecaster.family,
                cells=sum(result.cell.name == name for result in self.results),
                failed=sum(each.contender == name for each in self.failed),
                seconds=sum(result.seconds for result in self.results if result.cell.name == name),
                cpu_seconds=sum(result.cpu_seconds for result in self.results if result.cell.name == name),
                failures=tuple(each for each in self.all_failures if each.contender == name),
            )
            for name, contender in self.contenders.items()
        ]
        return make_board(
            self._losses.weighted(weighting), facts, self.metrics, self.baseline, folds=self.folds, weighting=weighting
        )

    def losses(self, metric: str, by: View | None = None) -> Losses | Breakdown:
        """Losses of one metric at every point, or what it reports by step, fold, series or calendar slot.

        Raises `SettingsError` for a metric that is not there.
        """
        found = losses_at(self._losses, metric)
        return found if by is None else found.by(by, self.panel, self.folds)

    def break_seal(self, contender: str, workers: int = 1) -> "Report":
        """Judge a contender and the baseline on the sealed folds; this can be done honestly but once.

        `optimism` of both reports tells how much of its skill was owed to having been chosen. Raises `SettingsError`
        where nothing is sealed, or nobody is called so.
        """
        if not self.sealed:
            raise SettingsError("No fold is sealed here.", field="folds.sealed")
        if contender not in self.contenders:
            raise SettingsError(f"There is no contender “{contender}”.", field="contender")
        entered = with_members_of([self.baseline, contender], self.contenders)
        before = expand(self.panel, self.contenders, self.folds, self.seed, levels=self.levels)
        cells = expand(self.panel, entered, self.sealed, self.seed, levels=self.levels, before=before)
        earlier = {result.cell.key: result for result in self.results}
        results, failures = _outcomes(self.panel, cells, workers, None, earlier)
        return replace(
            self, contenders=entered, folds=self.sealed, results=results, failed=failures, sealed=()
        )  # fmt: skip

    def difference(self, one: str, other: str, metric: str | None = None, weighting: Weighting = "points") -> Duel:
        """`one` against `other` on common points: skill, its interval, and whether the difference is more than luck.

        By `metric`, by default the first that tells skill. Raises `SettingsError` for what cannot be compared.
        """
        found = losses_at(self._losses.weighted(weighting), metric or skill_metric_of(self.metrics))
        return duel(found, one, other, self.panel, self.folds)

    @cached_property
    def deceptions(self) -> tuple[Deception, ...]:
        """The ways in which a contender's numbers deceive, each named where it applies."""
        outcomes = gather_outcomes(self.results, self.folds, len(self.panel))
        levels = self.results[0].cell.levels if self.results else ()
        return tuple(
            find_deceptions(
                Case(
                    name, contender.is_baseline, self.baseline, skill_metric_of(self.metrics), self._losses,
                    self.folds, self.panel, outcomes.get(name), levels, contender.forecaster.family == "elsewhere",
                )
                for name, contender in self.contenders.items()
            )
        )  # fmt: skip

    def calibration(self, contender: str) -> Calibration:
        """Whether its ranges hold what they say; raises `SettingsError` where it has none."""
        return calibrate(self.panel, self.results, contender)

    @property
    def skill_losses(self) -> Losses:
        """Of the metric that skill is told by."""
        return self._losses[skill_metric_of(self.metrics)]

    def signs(self, contender: str, of: Literal["changes", "values"] = "changes") -> dict[str, dict[str, int]]:
        """How often what was forecast to go “up” and “down” did: of changes against the last known, or of values."""
        return sign_table(self._losses.kept("sign_of_change" if of == "changes" else "sign").of(contender))

    def table(self) -> pa.Table:
        """All forecasts, a row per contender, fold, series, origin and step, with ranges and truth."""
        return forecast_table(self.panel, self.results)

    @cached_property
    def forecasts(self) -> dict[str, dict[str, Any]]:
        """Per contender: origins (n_origins,), horizons (horizon,), mean and truth (n_series, n_origins, horizon)."""
        origins = np.concatenate([fold.origins for fold in self.folds])
        starts = np.cumsum([0, *(len(fold.origins) for fold in self.folds)])
        horizon, gap = self.folds[0].horizon, self.folds[0].gap
        out = {}
        for name in dict.fromkeys(result.cell.name for result in self.results):
            mean = np.full((len(self.panel), len(origins), horizon), np.nan)
            for result in self.results:
                if result.cell.name == name:
                    at = starts[result.cell.fold]
                    mean[list(result.cell.series), at : at + len(result.origins)] = result.mean
            out[name] = {
                "origins": self.panel.axis.times(origins - 1),
                "positions": origins,
                "horizons": gap + 1 + np.arange(horizon),
                "mean": mean,
                "truth": truths(self.panel, origins + gap, horizon),
            }
        return {name: out[name] for name in self.names if name in out}


def declined_in(result: CellResult) -> list[Failure]:
    """Series that a cell's contender declined, as failures."""
    cell = result.cell
    return [Failure(cell.name, cell.fold, reason, key) for key, reason in result.declined.items()]


def gather_losses(
    results: Iterable[CellResult], names: Sequence[str], folds: Sequence[Fold], series: int
) -> dict[str, Losses]:
    """The losses of all cells by metric."""
    found: dict[str, Losses] = {}
    for result in results:
        for metric, losses in result.losses.items():
            if metric not in found:
                found[metric] = Losses.empty(metric, names, folds, series)
            found[metric].put(result.cell.name, result.cell.fold, result.cell.series, losses)
    for name in (metric.loss.name for metric in METRICS.values()):
        found.setdefault(name, Losses.empty(name, names, folds, series))
    return found


def check_judging(contenders: Iterable[str], metrics: Sequence[str], baseline: str) -> None:
    """Raise `SettingsError` for an unknown metric or a baseline that is not entered."""
    for metric in metrics:
        if metric_of(metric) is None:
            raise SettingsError(f"There is no metric “{metric}”; there are: {', '.join(METRICS)}.", field="metrics")
    if metrics and not any(found.tells_skill for metric in metrics if (found := metric_of(metric))):
        raise SettingsError("Skill needs a metric by which smaller is better, such as “mase”.", field="metrics")
    if baseline not in list(contenders):
        raise SettingsError(f"The baseline “{baseline}” is not among the contenders.", field="baseline")


def walk_forward(
    panel: Panel,
    contenders: Mapping[str, Contender],
    folds: Folds,
    metrics: Sequence[str] = DEFAULT_METRICS,
    baseline: str | None = None,
    seed: int = 0,
    workers: int = 1,
    progress: Progress | None = None,
    levels: Sequence[float] = LEVELS,
) -> Report:
    """Judge contenders on folds; a contender that fails in a cell is named in `failures`, the rest goes on.

    The numbers do not depend on `workers`. `levels` are the ranges kept from every origin.
    Raises `SettingsError` and `TooShortError` for settings that do not fit the panel.
    """
    require_panel(panel)
    if not contenders:
        raise SettingsError("Enter at least one contender.", field="contenders")
    contenders = with_members(contenders)
    chosen = baseline or next((n for n, c in contenders.items() if c.is_baseline), next(iter(contenders)))
    check_judging(contenders, metrics, chosen)
    places = folds.resolve(panel)
    cells = expand(panel, contenders, places, seed, levels=levels)
    results, failures = _outcomes(panel, cells, workers, progress)
    return Report(
        panel, dict(contenders), tuple(places), tuple(metrics), chosen, results, failures,
        tuple(folds.resolve_sealed(panel)), seed, tuple(levels),
    )  # fmt: skip


def optimism(open_board: Board, sealed_board: Board, name: str) -> float | None:
    """Skill on open folds minus skill on sealed ones: what was owed to being chosen by the former; None if unknown."""
    open_skill, sealed_skill = (board.row(name).skill for board in (open_board, sealed_board))
    return None if open_skill is None or sealed_skill is None else open_skill - sealed_skill


def _outcomes(
    panel: Panel, cells: Sequence[Cell], workers: int, progress: Progress | None, earlier: Earlier = _NOTHING
) -> tuple[tuple[CellResult, ...], tuple[Failure, ...]]:
    """Results in the order of the cells, and what failed."""
    results, failures = [], []
    for done, (cell, result, reason) in enumerate(run_cells(panel, cells, workers, earlier), start=1):
        if result is not None:
            results.append(result)
        else:
            failures.append(Failure(cell.name, cell.fold, reason or ""))
        if progress:
            progress(done, len(cells), cell, reason)
    order = {cell.key: place for place, cell in enumerate(cells)}
    results.sort(key=lambda result: order[result.cell.key])
    return tuple(results), tuple(failures)


def run_cells(panel: Panel, cells: Sequence[Cell], workers: int = 1, earlier: Earlier = _NOTHING) -> Iterator[Outcome]:
    """Compute cells one by one or over processes; yields each with its result or the reason it failed.

    Cells of one batch are computed together, blends after all others, in this process. `earlier` are results by key
    that some may need.
    """
    found = dict(earlier)
    for outcome in _spread_out(panel, [cell for cell in cells if not cell.contender.is_blend], workers, earlier):
        if outcome[1] is not None:
            found[outcome[0].key] = outcome[1]
        yield outcome
    yield from _spread_out(panel, [cell for cell in cells if cell.contender.is_blend], 1, found)


def _spread_out(panel: Panel, cells: Sequence[Cell], workers: int, earlier: Earlier) -> Iterator[Outcome]:
    shared: dict[str, list[Cell]] = {}
    for cell in cells:
        shared.setdefault(cell.batch, []).append(cell)
    if workers <= 1 or len(shared) < 2:
        for group in shared.values():
            yield from _attempt(panel, group, _needed(group, earlier))
        return
    context = process_context()
    with ProcessPoolExecutor(min(workers, os.cpu_count() or 1), context, _share, (panel,)) as pool:
        with without_main():
            futures = [pool.submit(_attempt_shared, group, _needed(group, earlier)) for group in shared.values()]
        for future in as_completed(futures):
            yield from future.result()


def process_context() -> BaseContext:
    """How processes beside a library's call are started: by a server that is started once and has imported what they
    need, so that the second call's begin at once; where there is none, each on its own."""
    if os.name != "posix":
        return multiprocessing.get_context("spawn")
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload(["proteron.core.judge"])
    return context


@contextmanager
def without_main() -> Iterator[None]:
    """Processes started in here do not run the caller's script again: what they do lives in this library.

    So `workers=` works in a script without a guard, in a notebook and in an interactive session alike.
    """
    main = sys.modules["__main__"]
    names: tuple[str, ...] = ("__file__", "__spec__")
    kept = {name: main.__dict__.pop(name) for name in names if name in main.__dict__}
    main.__dict__["__spec__"] = None
    try:
        yield
    finally:
        main.__dict__.update(kept)


def _share(panel: Panel) -> None:
    _shared["panel"] = panel


def _needed(cells: Sequence[Cell], earlier: Earlier) -> Earlier:
    return {key: earlier[key] for cell in cells for key in cell.needs if key in earlier}


def _attempt_shared(cells: list[Cell], earlier: Earlier) -> list[Outcome]:
    return _attempt(_shared["panel"], cells, earlier)


def _attempt(panel: Panel, cells: list[Cell], earlier: Earlier) -> list[Outcome]:
    try:
        return [(result.cell, result, None) for result in compute_cells(panel, cells, earlier=earlier)]
    except Exception as error:  # whatever a contender raises is its own fate, and no other cell's
        reason = reason_of(error)
    if len(cells) == 1:
        return [(cells[0], None, reason)]
    outcomes: list[Outcome] = []
    for cell in cells:
        found = {each.key: result for each, result, _ in outcomes if result is not None}
        outcomes += _attempt(panel, [cell], {**earlier, **found})
    return outcomes


def reason_of(error: BaseException) -> str:
    """What is said of a cell that failed."""
    if isinstance(error, ProteronError):
        return error.message
    if isinstance(error, MemoryError):
        return "The cell needed more memory than its limit."
    return f"{type(error).__name__}: {error}"
