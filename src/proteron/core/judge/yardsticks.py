"""Yardsticks: what the losses of a point are told beside; the same for every entrant, from what happened."""

from collections.abc import Sequence
from functools import cached_property

import numpy as np

from proteron.core.judge.folds import Fold
from proteron.core.judge.metrics.metric import Yardstick
from proteron.core.panel import Floats, Panel
from proteron.core.phases import truths
from proteron.core.timeline import Ints

_NINETY_PERCENT = 1.645


class Yardsticks:
    """Of every scored point of an experiment, (n_folds, n_series, n_origins, horizon), NaN where nothing is scored."""

    def __init__(self, panel: Panel, folds: Sequence[Fold]) -> None:
        self.panel = panel
        self.folds = tuple(folds)
        self._found: dict[Yardstick, Floats] = {}

    def of(self, name: Yardstick) -> Floats:
        """One of them: the `size` of the truth, its squared distance from the mean known by the cutoff (`spread`), or
        the absolute error of the seasonally adjusted naive forecast (`adjusted_naive`)."""
        if name not in self._found:
            made = {"size": self._size, "spread": self._spread, "adjusted_naive": self._adjusted}
            self._found[name] = made[name]()
        return self._found[name]

    @cached_property
    def grid(self) -> Floats:
        """The values of every series (n_series, n_positions) by grid position, as far as the folds score; else NaN."""
        return _on_grid(self.panel, max((fold.score_stop for fold in self.folds), default=0))

    @cached_property
    def _truth(self) -> Floats:
        return self._gathered([scored_truth(self.panel, fold) for fold in self.folds])

    def _size(self) -> Floats:
        return np.abs(self._truth)

    def _spread(self) -> Floats:
        means = np.array([[_mean(row) for row in self._known(fold)] for fold in self.folds])
        return np.asarray((self._truth - means[:, :, None, None]) ** 2)

    def _adjusted(self) -> Floats:
        season, said = self.panel.axis.step.season, []
        for fold in self.folds:
            there = _on_grid(fold.inside(self.panel), fold.score_stop)
            ahead = fold.origins[:, None] + fold.gap + np.arange(fold.horizon)
            rows = []
            for known, values in zip(self._known(fold), there, strict=True):
                seasons, multiplied = seasons_of(known, season)
                last = last_known(values, fold.origins)
                before, after = seasons[last % season], seasons[ahead % season]
                level = values[last] / before if multiplied else values[last] - before
                level = np.where(last < 0, np.nan, level)[:, None]
                rows.append(level * after if multiplied else level + after)
            said.append(np.array(rows))
        return np.asarray(np.abs(self._gathered(said) - self._truth))

    def _known(self, fold: Fold) -> Floats:
        """What is known of each series by the fold's cutoff, (n_series, cutoff) on the grid."""
        return _on_grid(fold.inside(self.panel).cut_at(fold.cutoff), fold.cutoff)

    def _gathered(self, blocks: Sequence[Floats]) -> Floats:
        shape = np.max([each.shape for each in blocks], axis=0)
        out = np.full((len(blocks), *shape), np.nan)
        for place, each in enumerate(blocks):
            out[place, :, : each.shape[1], : each.shape[2]] = each
        return out


def scored_truth(panel: Panel, fold: Fold) -> Floats:
    """The truth of every point that a fold scores, (n_series, n_origins, horizon), NaN elsewhere."""
    truth = truths(panel, fold.origins + fold.gap, fold.horizon, panel.scorable())
    steps = fold.origins[:, None] + fold.gap + np.arange(fold.horizon)
    return np.where(fold.is_scored(steps) & fold.chosen, truth, np.nan)


def last_known(values: Floats, origins: Ints) -> Ints:
    """The place of the last known of `values` (n_points,) before each origin, -1 where there is none."""
    places = np.where(np.isfinite(values), np.arange(len(values)), -1)
    return np.concatenate([[-1], np.maximum.accumulate(places)])[np.minimum(origins, len(values))]


def seasons_of(known: Floats, season: int) -> tuple[Floats, bool]:
    """Seasonal indices (season,) by place modulo the season, and whether they multiply; 0 where there is no season.

    As Makridakis, Spiliotis & Assimakopoulos 2020 do it for their Naive 2: where the autocorrelation at the season is
    significant at 90 %, indices are means of a classical decomposition, multiplied unless a value is not positive.
    """
    present = np.flatnonzero(np.isfinite(known))
    none = np.zeros(season), False
    if season < 2 or len(present) < 3 * season or not _is_seasonal(known[present[0] : present[-1] + 1], season):
        return none
    multiplied = bool((known[present] > 0).all())
    weights = np.full(season, 1 / season) if season % 2 else np.r_[0.5, np.ones(season - 1), 0.5] / season
    half = len(weights) // 2
    trend = np.full(len(known), np.nan)
    trend[half : len(known) - half] = np.convolve(known, weights, "valid")
    apart = known / trend if multiplied else known - trend
    found = np.array([_mean(apart[phase::season]) for phase in range(season)])
    if not np.isfinite(found).all() or (multiplied and found.mean() <= 0):
        return none
    return (found / found.mean(), True) if multiplied else (found - found.mean(), False)


def _is_seasonal(values: Floats, season: int) -> bool:
    away = np.nan_to_num(values - _mean(values))
    total = away @ away
    if total <= 0:
        return False
    correlations = np.array([away[lag:] @ away[:-lag] / total for lag in range(1, season + 1)])
    bound = _NINETY_PERCENT * np.sqrt((1 + 2 * (correlations[:-1] ** 2).sum()) / len(values))
    return bool(abs(correlations[-1]) > bound)


def _mean(values: Floats) -> float:
    known = values[np.isfinite(values)]
    return float(known.mean()) if len(known) else float("nan")


def _on_grid(panel: Panel, stop: int) -> Floats:
    """Values (n_series, stop) by grid position."""
    out = np.full((len(panel), stop), np.nan)
    for index in range(len(panel)):
        at = panel.positions(index)
        inside = (at >= 0) & (at < stop)
        out[index, at[inside]] = panel.series(index)[inside]
    return out
