"""Lags that lie whole seasons before every step ahead: what was at the same time of day, week or year."""

import numpy as np
from numpy.typing import NDArray

from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints
from proteron.core.windows import WindowPlan, usual_length

_LOOKED_AT = 2000


def seasons_of(known: Panel) -> list[int]:
    """The two shortest seasons of a panel's step, in points; of a single one it and two of its cycles."""
    found = [round(length) for length in known.axis.step.seasons[:2]]
    return [*found, 2 * found[0]] if len(found) == 1 and found[0] > 1 else found


def lags_before(season: int, steps: int) -> list[int]:
    """For every step ahead the smallest lag that lies whole seasons before it and is known."""
    return [season * -(-step // season) - step + 1 for step in range(1, steps + 1)]


def with_aligned_lags(plan: WindowPlan, known: Panel) -> WindowPlan:
    """The plan and, of every season that fits twice into most series, the lags before its steps ahead and before the
    origin."""
    steps, longest = max(plan.horizon), usual_length(known)
    lags = set(plan.lags)
    for season in seasons_of(known):
        if season + steps <= longest // 2:
            lags |= {*lags_before(season, steps), season + 1}
    return plan.model_copy(update={"lags": tuple(sorted(lags))})


def aligned_columns(plan: WindowPlan, known: Panel) -> dict[int, Ints]:
    """By season, the columns (n_steps,) of a plan's table that lie a season before each of its steps 1 … n."""
    at = {lag: place for place, lag in enumerate(plan.lags)}
    found = {}
    for season in seasons_of(known):
        needed = lags_before(season, len(plan.horizon))
        if set(needed) <= set(at):
            found[season] = np.array([at[lag] for lag in needed])
    return found


def some_of(rows: NDArray[np.bool_], most: int = _LOOKED_AT) -> Ints:
    """Places of at most so many of the chosen rows, in their order and always the same ones.

    They are drawn: every so many-th row could be of the same hour each day.
    """
    places = np.flatnonzero(rows)
    return places if len(places) <= most else np.sort(np.random.default_rng(0).choice(places, most, replace=False))


def _obvious(plan: WindowPlan, known: Panel, steps: int) -> list[Ints]:
    """Columns (n_steps,) of the value of each season before, and of the last where it is a feature."""
    last = [np.full(steps, plan.lags.index(1))] if 1 in plan.lags else []
    return [*aligned_columns(plan, known).values(), *last]


def nearest_line(plan: WindowPlan, known: Panel, features: Floats, targets: Floats) -> Floats:
    """A line of features (n_features, n_steps) that is nearest to targets (n_rows, n_steps) of what is obvious: the
    value of a season before, with or without what the level has moved by since, the mean of two such, the last, or
    nothing."""
    steps = targets.shape[1]
    choices, each = [np.zeros((features.shape[1], steps))], np.arange(steps)
    for columns in _obvious(plan, known, steps):
        line = np.zeros_like(choices[0])
        line[columns, each] = 1.0
        choices.append(line)
    if len(aligned_columns(plan, known)) > 1:
        choices.append((choices[1] + choices[2]) / 2)
    choices += _moved(plan, known, choices[0])
    inputs = np.nan_to_num(features)
    errors = [np.abs(inputs @ line - targets).mean() for line in choices]
    return choices[int(np.argmin(errors))]


def _moved(plan: WindowPlan, known: Panel, nothing: Floats) -> list[Floats]:
    """Lines to the value of a season before a step and, of what the level has moved by in a season up to the origin,
    the share that has gone by since: what a random walk would say of it."""
    found, each = [], np.arange(nothing.shape[1])
    for season, columns in aligned_columns(plan, known).items():
        if {1, season + 1} <= set(plan.lags):
            since = (season - 1 - each) % season / season
            line = nothing.copy()
            line[columns, each] = 1.0
            line[plan.lags.index(1)] += since
            line[plan.lags.index(season + 1)] -= since
            found.append(line)
    return found


def nearest_columns(plan: WindowPlan, known: Panel, features: Floats, targets: Floats) -> Ints | None:
    """Columns (n_steps,) whose values were nearest to targets (n_rows, n_steps): those of a season before, or the last.

    None where zero, the level of a scaled series, was nearer.
    """
    choices = _obvious(plan, known, targets.shape[1])
    errors = [np.nanmean(np.abs(features[:, columns] - targets)) for columns in choices]
    if not choices or not min(errors) < np.abs(targets).mean():
        return None
    return choices[int(np.argmin(errors))]
