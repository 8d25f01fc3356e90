"""What is learned of a blend: weights of its members by series and step, and by what their ranges are stretched."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from proteron.core.forecasters.blend.rules import Rule
from proteron.core.forecasters.blend.weights import blended, range_factor, shares_of_reach, weighed_errors
from proteron.core.panel import Floats


@dataclass(frozen=True)
class Past:
    """What members forecast before, and what happened.

    `truth` (n_series, n_rows, horizon), NaN where it is not known yet; `forecasts` (n_members, n_series, n_rows,
    horizon); `halves` (n_members, n_levels, 2, n_series, n_rows, horizon) how far ranges reach below and above;
    `scales` (n_series,) what values move by.
    """

    truth: Floats
    forecasts: Floats
    halves: Floats
    scales: Floats

    def of(self, series: Sequence[int], steps: slice) -> tuple[Floats, Floats, Floats]:
        """Truth, forecasts and scales of some series and steps, the rows of all series one after the other."""
        rows = self.truth.shape[1]
        truth, forecasts = self.truth[series][..., steps], self.forecasts[:, series][..., steps]
        width = truth.shape[-1]
        scales = np.repeat(self.scales[series], rows)[:, None]
        return truth.reshape(-1, width), forecasts.reshape(len(forecasts), -1, width), scales


@dataclass(frozen=True)
class Mix:
    """Weights (n_members, n_series, n_steps; one step: of all), factors (n_levels, n_series) of ranges at `levels`,
    errors of members (n_members, n_series), NaN where none is known, and how many past points they are of; `without`
    (n_members, n_series) the blend's error without a member relative to that with it."""

    weights: Floats
    factors: Floats
    errors: Floats
    without: Floats
    levels: tuple[float, ...]
    points: int

    def arrays(self) -> dict[str, NDArray[Any]]:
        """As they are kept."""
        return {"weights": self.weights, "factors": self.factors, "errors": self.errors, "without": self.without}

    def ahead(self, series: Sequence[int], horizon: int) -> Floats:
        """Weights (n_members, n_series, 1, horizon) of some series; steps beyond those learned weigh as the last."""
        last = self.weights.shape[2] - 1
        return self.weights[:, series][:, :, np.minimum(np.arange(horizon), last)][:, :, None]

    def stretched(self, series: Sequence[int], levels: Sequence[float]) -> Floats:
        """Factors (n_levels, 1, n_series, 1, 1) of ranges at other levels, too."""
        every = self.factors[:, series]
        if not self.levels:
            return np.ones((len(levels), 1, len(series), 1, 1))
        order = np.argsort(self.levels)
        at = np.array(self.levels)[order]
        found = np.array([np.interp(levels, at, column[order]) for column in every.T]).T
        return found.reshape(len(levels), 1, len(series), 1, 1)


def mixed(rule: Rule, past: Past, levels: Sequence[float], shared: bool, by_step: bool) -> Mix:
    """What the past says of members; `shared`: weights are those of all series together, `by_step`: of every step."""
    members, series, _, horizon = past.forecasts.shape
    steps = [slice(step, step + 1) for step in range(horizon)] if by_step else [slice(None)]
    groups = [list(range(series))] if shared else [[each] for each in range(series)]
    weights = np.empty((members, series, len(steps)))
    for group in groups:
        for place, some in enumerate(steps):
            weights[:, group, place] = _weighed(rule, *past.of(group, some))[:, None]
    errors = np.full((members, series), np.nan)
    for each in range(series):
        truth, forecasts, scales = past.of([each], slice(None))
        there = np.isfinite(forecasts).any(axis=(1, 2))
        if (np.isfinite(truth) & np.isfinite(forecasts)).any():
            errors[there, each] = weighed_errors(truth, forecasts[there], scales)
    points, nothing = int(np.isfinite(past.truth).sum()), np.full((members, series), np.nan)
    found = Mix(weights, np.ones((len(levels), series)), errors, nothing, tuple(levels), points)
    everyone = list(range(series))
    ahead = found.ahead(everyone, horizon)
    middle = rule.combine(past.forecasts, ahead)
    for member in range(members):
        found.without[member] = _without(rule, past, ahead, middle, member)
    for place, level in enumerate(levels):
        halves = blended(past.halves[:, place], ahead[:, None])
        own = [shares_of_reach(past.truth[each], middle[each], halves[:, each]) for each in everyone]
        pooled = np.concatenate(own) if series > 1 else None
        found.factors[place] = [range_factor(level, mine, pooled) for mine in own]
    return found


def _without(rule: Rule, past: Past, ahead: Floats, middle: Floats, member: int) -> Floats:
    """Mean absolute error without a member relative to that with it, (n_series,), NaN where either is unknown."""
    left = past.forecasts.copy()
    left[member] = np.nan
    apart = np.abs(rule.combine(left, ahead) - past.truth), np.abs(middle - past.truth)
    both = np.isfinite(apart[0]) & np.isfinite(apart[1])
    other, own = (np.where(both, each, 0.0).sum(axis=(1, 2)) for each in apart)
    return np.where(own > 0, other / np.where(own > 0, own, 1.0), np.nan)


def _weighed(rule: Rule, truth: Floats, forecasts: Floats, scales: Floats) -> Floats:
    """Weights (n_members,); a rule that learns gives none to a member that never forecast anything here."""
    there = np.isfinite(forecasts).any(axis=(1, 2))
    if not rule.learns or there.all() or not there.any():
        return rule.weights_of(truth, forecasts, scales)
    weights = np.zeros(len(forecasts))
    weights[there] = rule.weights_of(truth, forecasts[there], scales)
    return weights
