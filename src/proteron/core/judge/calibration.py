"""Calibration: whether ranges hold what they say, at every level and step ahead, and how wide they are for it."""

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from proteron.core.errors import SettingsError
from proteron.core.judge.cell import CellResult
from proteron.core.judge.yardsticks import scored_truth
from proteron.core.panel import Floats, Panel


@dataclass(frozen=True)
class Calibration:
    """Of one entrant: for its `levels` the share of truths inside (`covered`, n_levels; reliability where it is drawn
    against the levels), by step ahead (`by_step`, n_levels × n_steps), and the mean width (`widths`: sharpness).

    `edges` (n_bins + 1,) are the shares that the ends of all ranges are to have below them, `density` (n_bins,) how
    often truths fell between two of them, against how often they should: 1 everywhere of a perfect forecast (the
    histogram of probability integral transforms, Dawid 1984, as far as ranges tell it). NaN where nothing is scored.
    """

    levels: tuple[float, ...]
    covered: Floats
    by_step: Floats
    widths: Floats
    edges: Floats
    density: Floats
    points: int


def calibrate(panel: Panel, results: Iterable[CellResult], name: str) -> Calibration:
    """From the ranges of all its cells; raises `SettingsError` where it has none."""
    mine = [each for each in results if each.cell.name == name and each.cell.levels]
    if not mine:
        raise SettingsError(f"There are no ranges of “{name}” here.", field="contender")
    levels = np.array(mine[0].cell.levels)
    order = np.argsort(levels)
    horizon = max(each.mean.shape[2] for each in mine)
    inside = np.zeros((len(levels), horizon))
    widths, known_at = np.zeros(len(levels)), np.zeros(horizon)
    bins = np.zeros(2 * len(levels) + 1)
    for each in mine:
        truth = scored_truth(panel.select(each.cell.series), each.cell.place)
        low, high = each.ranges[order, 0], each.ranges[order, 1]
        known = np.isfinite(truth) & np.isfinite(low).all(axis=0) & np.isfinite(high).all(axis=0)
        steps = truth.shape[2]
        inside[:, :steps] += ((truth >= low) & (truth <= high) & known).sum(axis=(1, 2))
        widths += np.where(known, high - low, 0.0).sum(axis=(1, 2, 3))
        known_at[:steps] += known.sum(axis=(0, 1))
        ends = np.concatenate([low[::-1], high])  # from the lowest end to the highest
        bins += np.bincount((truth > ends).sum(axis=0)[known], minlength=len(bins))
    tails = (1 - levels[order][::-1]) / 2
    edges = np.concatenate([[0.0], tails, 1 - tails[::-1], [1.0]])
    points = known_at.sum()
    with np.errstate(invalid="ignore", divide="ignore"):
        return Calibration(
            tuple(levels[order].tolist()), inside.sum(axis=1) / points, inside / known_at, widths / points, edges,
            bins / points / np.diff(edges), int(points),
        )  # fmt: skip
