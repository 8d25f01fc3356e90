"""Walk-forward: every contender, every fold, every series; the local engine and its report."""

import multiprocessing
import os
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ProcessPoolExecutor, as_completed
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from proteron.core.errors import ProteronError, SettingsError
from proteron.core.forecasters import Contender, truths
from proteron.core.judge.board import make_board
from proteron.core.judge.cells import Cell, CellResult, compute_cell, expand
from proteron.core.judge.folds import Folds
from proteron.core.judge.metrics import METRICS
from proteron.core.panel import Panel

Progress = Callable[[int, int, Cell, str | None], None]
_shared: dict[str, Panel] = {}


@dataclass(frozen=True)
class Report:
    """Finished cells of a walk-forward run, and everything that is derived from them."""

    panel: Panel
    names: tuple[str, ...]
    fold_count: int
    metrics: tuple[str, ...]
    baseline: str
    results: tuple[CellResult, ...]
    failures: dict[str, str]

    @cached_property
    def board(self) -> list[dict[str, Any]]:
        """One row per contender: errors, skill with interval, flat-unit errors, time."""
        return make_board(self.panel, self.results, self.names, self.fold_count, self.metrics, self.baseline)

    @cached_property
    def forecasts(self) -> dict[str, dict[str, Any]]:
        """Per contender: origins (n_origins,), horizons (horizon,), mean and truth (n_series, n_origins, horizon)."""
        out = {}
        for name in self.names:
            mine = [result for result in self.results if result.cell.name == name]
            if not mine:
                continue
            folds = {result.cell.fold: result.cell.place for result in mine}
            origins = np.concatenate([folds[fold].origins for fold in sorted(folds)])
            starts = dict(
                zip(sorted(folds), np.cumsum([0, *(len(folds[f].origins) for f in sorted(folds))]), strict=False)
            )
            horizon, gap = mine[0].cell.place.horizon, mine[0].cell.place.gap
            mean = np.full((len(self.panel), len(origins), horizon), np.nan)
            for result in mine:
                at = starts[result.cell.fold]
                mean[list(result.cell.series), at : at + len(result.origins)] = result.mean
            out[name] = {
                "origins": self.panel.axis.times(origins - 1),
                "positions": origins,
                "horizons": gap + 1 + np.arange(horizon),
                "mean": mean,
                "truth": truths(self.panel, origins + gap, horizon),
            }
        return out


def check_judging(contenders: Iterable[str], metrics: Sequence[str], baseline: str) -> None:
    """Raise `SettingsError` for an unknown metric or a baseline that is not entered."""
    for metric in metrics:
        if metric not in METRICS:
            raise SettingsError(f"There is no metric “{metric}”; there are: {', '.join(METRICS)}.", field="metrics")
    if baseline not in list(contenders):
        raise SettingsError(f"The baseline “{baseline}” is not among the contenders.", field="baseline")


def walk_forward(
    panel: Panel,
    contenders: Mapping[str, Contender],
    folds: Folds,
    metrics: Sequence[str] = ("mase", "rmse"),
    baseline: str | None = None,
    seed: int = 0,
    workers: int = 1,
    progress: Progress | None = None,
) -> Report:
    """Judge contenders on folds; a contender that fails in a cell is named in `failures`, the rest goes on.

    The numbers do not depend on `workers`. Raises `SettingsError` and `TooShortError` for settings
    that do not fit the panel.
    """
    if not contenders:
        raise SettingsError("Enter at least one contender.", field="contenders")
    chosen = baseline or next((n for n, c in contenders.items() if c.is_baseline), next(iter(contenders)))
    check_judging(contenders, metrics, chosen)
    cells = expand(panel, dict(contenders), folds.resolve(panel), seed)
    results, failures = [], {}
    for done, (cell, result, reason) in enumerate(run_cells(panel, cells, workers), start=1):
        if result is not None:
            results.append(result)
        else:
            failures[f"{cell.name}, fold {cell.fold + 1}"] = reason or ""
        if progress:
            progress(done, len(cells), cell, reason)
    return Report(panel, tuple(contenders), folds.count, tuple(metrics), chosen, tuple(results), failures)


def run_cells(
    panel: Panel, cells: Sequence[Cell], workers: int = 1
) -> Iterator[tuple[Cell, CellResult | None, str | None]]:
    """Compute cells one by one or over processes; yields each with its result or the reason it failed."""
    if workers <= 1 or len(cells) < 2:
        for cell in cells:
            yield (cell, *_attempt(panel, cell))
        return
    context = multiprocessing.get_context("spawn")
    with ProcessPoolExecutor(min(workers, os.cpu_count() or 1), context, _share, (panel,)) as pool:
        futures = {pool.submit(_attempt_shared, cell): cell for cell in cells}
        for future in as_completed(futures):
            yield (futures[future], *future.result())


def _share(panel: Panel) -> None:
    _shared["panel"] = panel


def _attempt_shared(cell: Cell) -> tuple[CellResult | None, str | None]:
    return _attempt(_shared["panel"], cell)


def _attempt(panel: Panel, cell: Cell) -> tuple[CellResult | None, str | None]:
    try:
        return compute_cell(panel, cell), None
    except ProteronError as error:
        return None, error.message
    except (ArithmeticError, ValueError, MemoryError) as error:
        return None, f"{type(error).__name__}: {error}"
