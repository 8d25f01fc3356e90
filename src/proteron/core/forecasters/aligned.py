"""Lags that lie whole seasons before every step ahead: what was at the same time of day, week or year."""

import numpy as np

from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints
from proteron.core.windows import WindowPlan

_LOOKED_AT = 2000


def seasons_of(known: Panel) -> list[int]:
    """The two shortest seasons of a panel's step, in points."""
    return [round(length) for length in known.axis.step.seasons[:2]]


def lags_before(season: int, steps: int) -> list[int]:
    """For every step ahead the smallest lag that lies whole seasons before it and is known."""
    return [season * -(-step // season) - step + 1 for step in range(1, steps + 1)]


def with_aligned_lags(plan: WindowPlan, known: Panel) -> WindowPlan:
    """The plan and, of every season that fits twice into the longest series, the lags before its steps ahead."""
    steps, longest = max(plan.horizon), int(known.lengths.max(initial=1))
    lags = set(plan.lags)
    for season in seasons_of(known):
        if season + steps <= longest // 2:
            lags |= set(lags_before(season, steps))
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


def nearest_columns(plan: WindowPlan, known: Panel, features: Floats, targets: Floats) -> Ints | None:
    """Columns (n_steps,) whose values were nearest to targets (n_rows, n_steps): those of a season before, or the last.

    None where zero, the level of a scaled series, was nearer. At most some thousand rows are looked at.
    """
    steps, some = targets.shape[1], slice(None, None, max(1, len(features) // _LOOKED_AT))
    choices = list(aligned_columns(plan, known).values())
    if 1 in plan.lags:
        choices.append(np.full(steps, plan.lags.index(1)))
    errors = [np.nanmean(np.abs(features[some][:, columns] - targets[some])) for columns in choices]
    if not choices or not min(errors) < np.abs(targets[some]).mean():
        return None
    return choices[int(np.argmin(errors))]
