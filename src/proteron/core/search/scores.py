"""Errors of candidates relative to the baseline, from what their cells found."""

from collections.abc import Mapping, Sequence

import numpy as np

from proteron.core.judge import Cell, Fold
from proteron.core.judge.evidence.blocks import time_blocks
from proteron.core.judge.metrics import metric_of
from proteron.core.panel import Floats, Panel
from proteron.core.phases import naive_scale
from proteron.core.timeline import Ints

_NOT_SCALED = 1e-9
_FEWEST_BLOCKS = 3


class Scores:
    """Losses of one metric by fold; what a candidate did not forecast counts as the baseline's."""

    def __init__(
        self, panel: Panel, folds: Sequence[Fold], metric: str, baseline: Sequence[tuple[Cell, Floats]]
    ) -> None:  # fmt: skip
        self.panel, self.folds = panel, tuple(folds)
        found = metric_of(metric)
        self.power = 1.0 if found is None else found.power
        self._weights = [_weights(panel, fold) if metric == "mase" else np.ones(len(panel)) for fold in folds]
        self.baseline = self.of(baseline)

    def of(self, found: Sequence[tuple[Cell, Floats]]) -> dict[int, Floats]:
        """Weighed losses of an entrant by fold, (n_series, n_origins, horizon), NaN where it has none, from those of
        its cells by `loss_of` the metric."""
        out: dict[int, Floats] = {}
        for cell, losses in found:
            if cell.fold not in out:
                out[cell.fold] = np.full((len(self.panel), *losses.shape[1:]), np.nan)
            rows = list(cell.series)
            out[cell.fold][rows] = losses * self._weights[cell.fold][rows, None, None]
        return out

    def relative(self, losses: Mapping[int, Floats], series: Sequence[int] = ()) -> float | None:
        """The error over the folds there are and some series (none: all), relative to the baseline; None if unknown."""
        rows = list(series) or slice(None)
        mine = theirs = 0.0
        any_there = False
        for fold, each in losses.items():
            base = self.baseline[fold][rows]
            known = np.isfinite(base)
            own = np.where(np.isfinite(each[rows]), each[rows], base)
            any_there |= bool((np.isfinite(each[rows]) & known).any())
            mine += float(own[known].sum())
            theirs += float(base[known].sum())
        if not any_there or not theirs > 0:
            return None
        return float((mine / theirs) ** self.power)

    def by_block(self, losses: Mapping[int, Floats]) -> Floats:
        """Sums of losses (n_blocks, n_points) over blocks that may be resampled, NaN where nothing is known: runs of
        folds or origins that do not overlap, or, where time gives too few of these, series."""
        folds = sorted(self.baseline)
        origins = max(self.baseline[fold].shape[1] for fold in folds)
        codes, _ = time_blocks([self.folds[fold] for fold in folds], (len(folds), origins))
        rows = [self._rows(losses.get(fold), fold, codes[place]) for place, fold in enumerate(folds)]
        blocks = int(codes.max(initial=-1)) + 1
        if blocks < _FEWEST_BLOCKS:
            return np.concatenate([each.sum(axis=2).T for each, _ in rows], axis=1)
        every, of_block = (np.concatenate([row[place] for row in rows]) for place in (0, 1))
        out = np.full((blocks, *every.shape[1:]), np.nan)
        for block in range(blocks):
            mine = every[of_block == block]
            out[block] = np.where(np.isfinite(mine).any(axis=0), np.nansum(mine, axis=0), np.nan)
        return out.reshape(blocks, -1)

    def _rows(self, losses: Floats | None, fold: int, codes: Ints) -> tuple[Floats, Ints]:
        """Of a fold, (n_origins, n_series, horizon), and the block of every origin."""
        base = self.baseline[fold]
        found = np.full(base.shape, np.nan) if losses is None else losses
        return found.transpose(1, 0, 2), codes[: base.shape[1]]


def loss_of(metric: str) -> str:
    """The kept loss that a search by a metric reads; scales of cells that know less differ, so it scales itself."""
    found = metric_of(metric)
    return "mae" if metric == "mase" or found is None else found.loss.name


def _weights(panel: Panel, fold: Fold) -> Floats:
    """One over what each series moves by in a season as of the fold's cutoff, (n_series,), NaN where it does not."""
    known, season = fold.known(panel, fold.cutoff), panel.axis.step.season
    scales = np.array([naive_scale(known.series(index), season) for index in range(len(panel))])
    return np.where(scales > _NOT_SCALED * np.nanmax(np.abs(scales), initial=0.0), 1 / scales, np.nan)
