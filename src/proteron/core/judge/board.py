"""The board: a pure view over finished cells."""

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from proteron.core.forecasters import truths
from proteron.core.judge.cells import CellResult
from proteron.core.judge.metrics import METRICS
from proteron.core.panel import Floats, Panel

_RESAMPLES = 2000


class _Tally:
    """Sums of losses and counts of one contender by (fold, series, step), per metric."""

    def __init__(self, shape: tuple[int, int, int], names: Sequence[str]) -> None:
        self.sums = {name: np.zeros(shape) for name in names}
        self.counts = {name: np.zeros(shape) for name in names}
        self.flat_square = np.zeros(shape)
        self.flat_count = np.zeros(shape)
        self.covered = [0, 0]
        self.done = np.zeros(shape[:2], dtype=bool)
        self.seconds = 0.0
        self.cells = 0

    def add(self, panel: Panel, scorable: Floats, result: CellResult, folded: bool) -> None:
        place, rows = result.cell.place, list(result.cell.series)
        first = place.gap
        truth = truths(panel, result.origins + first, place.horizon, scorable)[rows]
        beyond = result.origins[:, None] + first + np.arange(place.horizon) >= place.score_stop
        truth = np.where(beyond, np.nan, truth)
        error = result.mean - truth
        scale = result.scale[:, None, None]
        at = (result.cell.fold, rows)
        for name in self.sums:
            loss = METRICS[name].loss(error, truth, scale)
            self.sums[name][at] += np.nansum(loss, axis=1)
            self.counts[name][at] += np.isfinite(loss).sum(axis=1)
        if folded:
            flat = np.where(np.isnan(truth), np.nan, result.flat_mean - result.flat_truth)
            self.flat_square[at] += np.nansum(flat**2, axis=1)
            self.flat_count[at] += np.isfinite(flat).sum(axis=1)
        known = np.isfinite(truth[:, 0]) & np.isfinite(result.ranges[-1, 0])
        inside = (truth[:, 0] >= result.ranges[-1, 0]) & (truth[:, 0] <= result.ranges[-1, 1])
        self.covered[0] += int((inside & known).sum())
        self.covered[1] += int(known.sum())
        self.done[at] = True
        self.seconds += result.seconds
        self.cells += 1


def _pooled(metric: str, sums: Floats, counts: Floats) -> Floats:
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.asarray(METRICS[metric].report(sums / counts))


def _skill(metric: str, own: _Tally, base: _Tally, axes: tuple[int, ...], weights: Floats | None = None) -> Floats:
    """1 - error / baseline's error over (fold, series) pairs both have, summed over `axes`.

    `weights` (n_draws, n_folds) repeats folds for resampling and replaces the fold axis.
    """
    both = (own.done & base.done)[:, :, None]
    parts = [np.where(both, part[metric], 0.0) for part in (own.sums, own.counts, base.sums, base.counts)]
    if weights is not None:
        folded = [weights @ part.sum(axis=(1, 2)) for part in parts]
    else:
        folded = [part.sum(axis=axes) for part in parts]
    mine, theirs = _pooled(metric, folded[0], folded[1]), _pooled(metric, folded[2], folded[3])
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(theirs > 0, 1 - mine / theirs, np.nan)


def _number(value: Any) -> float | None:
    return float(value) if np.isfinite(value) else None


def _numbers(values: NDArray[Any]) -> list[float | None]:
    return [_number(value) for value in values]


def make_board(
    panel: Panel,
    results: Sequence[CellResult],
    names: Sequence[str],
    folds: int,
    metrics: Sequence[str] = ("mase", "rmse"),
    baseline: str | None = None,
    skill_metric: str | None = None,
) -> list[dict[str, Any]]:
    """One row per contender, in the order of `names`: pooled errors, skill with its 95 % interval, facts.

    Skill compares points both contenders have; the interval resamples folds (2,000 draws, seeded).
    """
    baseline = baseline or names[0]
    measure = skill_metric or metrics[0]
    wanted = list(dict.fromkeys([*metrics, measure]))
    horizon = results[0].cell.place.horizon if results else 1
    shape = (folds, len(panel), horizon)
    tallies = {name: _Tally(shape, wanted) for name in names}
    contenders = {result.cell.name: result.cell.contender for result in results}
    scorable = panel.scorable()
    for result in sorted(results, key=lambda each: (each.cell.fold, each.cell.series)):
        folded = bool(result.cell.contender.chain.active)
        tallies[result.cell.name].add(panel, scorable, result, folded)
    draws = np.random.default_rng(0).multinomial(folds, np.full(folds, 1 / folds), size=_RESAMPLES).astype(float)
    by_fold = {name: _pooled(measure, *_fold_sums(tally, measure)) for name, tally in tallies.items()}
    rows = []
    for name in names:
        own, base = tallies[name], tallies[baseline]
        row: dict[str, Any] = {"contender": name, "baseline": name == baseline, "cells": own.cells}
        row |= {m: _number(_pooled(m, own.sums[m].sum(), own.counts[m].sum())) for m in wanted}
        row["flat_rmse"] = _number(_pooled("rmse", own.flat_square.sum(), own.flat_count.sum()))
        row["skill"] = _number(_skill(measure, own, base, (0, 1, 2)))
        drawn = _skill(measure, own, base, (), draws)
        drawn = drawn[np.isfinite(drawn)]
        full = folds > 1 and len(drawn) > _RESAMPLES // 2
        row["skill_low"], row["skill_high"] = (
            (float(np.quantile(drawn, 0.025)), float(np.quantile(drawn, 0.975))) if full else (None, None)
        )
        row["skill_by_fold"] = _numbers(_skill(measure, own, base, (1, 2)))
        row["skill_by_step"] = _numbers(_skill(measure, own, base, (0, 1)))
        row["skill_by_series"] = _numbers(_skill(measure, own, base, (0, 2)))
        row["best_in"] = _best_in(name, by_fold)
        row["coverage"] = own.covered[0] / own.covered[1] if own.covered[1] else None
        row["seconds"] = own.seconds
        row["family"] = contenders[name].forecaster.family if name in contenders else None
        rows.append(row)
    return rows


def _fold_sums(tally: _Tally, metric: str) -> tuple[Floats, Floats]:
    return tally.sums[metric].sum(axis=(1, 2)), tally.counts[metric].sum(axis=(1, 2))


def _best_in(name: str, by_fold: dict[str, Floats]) -> int:
    """Folds in which this contender has the lowest error."""
    errors = np.array(list(by_fold.values()))
    errors = np.where(np.isfinite(errors), errors, np.inf)
    finished = np.isfinite(errors).any(axis=0)
    return int(((errors.argmin(axis=0) == list(by_fold).index(name)) & finished).sum())
