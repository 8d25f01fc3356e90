"""A duel: two entrants over the points that both have, and whether their difference is more than luck."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from proteron.core.errors import SettingsError
from proteron.core.judge.board import metric_of_skill
from proteron.core.judge.compared import Pair
from proteron.core.judge.evidence import DifferenceTest, compare_losses, sample_of, skill_interval
from proteron.core.judge.evidence.blocks import overlap_of
from proteron.core.judge.evidence.verdict import signed
from proteron.core.judge.folds import Fold, origins_of
from proteron.core.judge.losses import Breakdown, Losses
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints
from proteron.core.words import counted

_ALPHA = 0.05


@dataclass(frozen=True)
class Duel:
    """`one` against `other`: `skill` is the share of the other's error that the one saves, with its 95 % `interval`.

    `test` is of the differences of losses (one's minus the other's, so positive where `one` is worse) from origin to
    origin over all steps and series, `by_step` for every step ahead (`steps`) alone. `by_series`, `by_slot` and
    `by_fold` are the errors of both.
    """

    one: str
    other: str
    metric: str
    skill: float | None
    interval: tuple[float, float] | None
    resampled: str
    test: DifferenceTest
    steps: tuple[int, ...]
    by_step: tuple[DifferenceTest, ...]
    by_series: Breakdown
    by_slot: Breakdown
    by_fold: Breakdown

    @property
    def statistic(self) -> float | None:
        """Of the test over all steps; negative where `one` is better."""
        return self.test.statistic

    @property
    def p_value(self) -> float | None:
        return self.test.p_value

    @property
    def sentence(self) -> str:
        """What it comes to."""
        if self.skill is None:
            return f"{self.one} and {self.other} have no point in common."
        where = f"over {counted(self.test.observations, 'origin')}"
        if self.p_value is None:
            return f"{self.one} saves {signed(self.skill)} of the error of {self.other} {where}: too few to tell."
        better, worse = (self.one, self.other) if self.skill >= 0 else (self.other, self.one)
        chance = f"p {self.p_value:.2g} {where}"
        if self.p_value < _ALPHA:
            return f"{better} is better than {worse}: {chance}, more than luck."
        return f"{better} is ahead of {worse}, which may be luck: {chance}."


def duel(losses: Losses, one: str, other: str, panel: Panel, folds: Sequence[Fold]) -> Duel:
    """Compare two entrants; raises `SettingsError` for a name or a metric that cannot be compared."""
    metric = metric_of_skill(losses.metric)
    _check_names(losses, one, other)
    common = losses.common([one, other])
    sample = sample_of(common, [one, other], folds)
    mine, theirs = sample.sums
    found = skill_interval(mine, theirs, metric.power)
    skill = float(Pair.of(common, one, other).skill(0, 1, 2))
    weighted = _differences(common)
    places, order = origins_of(folds)
    reach = max(fold.reach for fold in folds)
    steps = (folds[0].gap + 1 + np.arange(common.values.shape[4])).tolist()
    by_origin = weighted[places]  # (n_origins_in_all, n_steps)
    with np.errstate(invalid="ignore"):
        whole = np.where(np.isfinite(by_origin).any(axis=1), np.nansum(by_origin, axis=1), np.nan)
    return Duel(
        one, other, losses.metric, skill if np.isfinite(skill) else None,
        None if found is None else (found.low, found.high), sample.text,
        compare_losses(_as_means(whole, common), 1 + _overlap(order, reach)),
        tuple(steps),
        tuple(compare_losses(by_origin[:, place], 1 + _overlap(order, step)) for place, step in enumerate(steps)),
        common.by("series", panel, folds), common.by("slot", panel, folds), common.by("fold", panel, folds),
    )  # fmt: skip


def _check_names(losses: Losses, one: str, other: str) -> None:
    for field, name in (("one", one), ("other", other)):
        if name not in losses.names:
            text = f"There is no entrant “{name}” here; there are: {', '.join(losses.names)}."
            raise SettingsError(text, field=field)
    if one == other:
        raise SettingsError("A duel takes two entrants.", field="other")


def savings(
    losses: Losses, one: str, other: str, folds: Sequence[Fold], series: int | None = None
) -> tuple[Ints, Floats]:
    """When one pulled ahead: positions of scored points (n,), earliest first, and the share of the other's whole loss
    that the one had saved by then (n,); of all series, or of one. Both empty without a common point.

    The last share is the skill, wherever the reported error is the mean loss.
    """
    mine, theirs = losses.common([one, other]).values
    if series is not None:
        mine, theirs = mine[:, series : series + 1], theirs[:, series : series + 1]
    saved, there = np.nansum(theirs - mine, axis=1), np.isfinite(theirs).any(axis=1)
    position = np.zeros(there.shape, dtype=np.int64)
    for place, fold in enumerate(folds):
        steps = fold.origins[:, None] + fold.gap + np.arange(fold.horizon)
        position[place, : steps.shape[0], : steps.shape[1]] = steps
    total = np.nansum(theirs)
    if not there.any() or not total > 0:
        return np.zeros(0, dtype=np.int64), np.zeros(0)
    found, codes = np.unique(position[there], return_inverse=True)
    return found, np.cumsum(np.bincount(codes, saved[there], len(found))) / total


def _differences(common: Losses) -> Floats:
    """One's loss minus the other's, series summed as they weigh, (n_folds, n_origins, n_steps); NaN of nothing."""
    away = common.values[0] - common.values[1]
    there = np.isfinite(away)
    if common.weights is not None:
        counts = np.maximum(there.sum(axis=(0, 2, 3)), 1)
        away = away * (common.weights / counts)[None, :, None, None]
    return np.where(there.any(axis=1), np.nansum(away, axis=1), np.nan)


def _as_means(whole: Floats, common: Losses) -> Floats:
    """Sums of every origin, scaled so that their mean is the difference of the mean losses."""
    there = np.isfinite(common.values[0])
    total = there.sum() if common.weights is None else common.weights[there.any(axis=(0, 2, 3))].sum()
    return whole * (np.isfinite(whole).sum() / total) if total else whole


def _overlap(origins: Ints, reach: int) -> int:
    """How many later origins the reach of a forecast takes in at most."""
    return overlap_of(np.stack([origins, origins + reach], axis=1))
