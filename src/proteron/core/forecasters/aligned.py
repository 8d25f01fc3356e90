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
    """The plan and, of every season that fits twice into most series, the lags before its steps ahead."""
    steps, longest = max(plan.horizon), usual_length(known)
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


def some_of(rows: NDArray[np.bool_]) -> Ints:
    """Some thousand of the chosen rows, evenly spaced."""
    places = np.flatnonzero(rows)
    return places[:: max(1, len(places) // _LOOKED_AT)]


def _obvious(plan: WindowPlan, known: Panel, steps: int) -> list[Ints]:
    """Columns (n_steps,) of the value of each season before, and of the last where it is a feature."""
    last = [np.full(steps, plan.lags.index(1))] if 1 in plan.lags else []
    return [*aligned_columns(plan, known).values(), *last]


def nearest_line(plan: WindowPlan, known: Panel, features: Floats, targets: Floats) -> Floats:
    """A line of features (n_features, n_steps) that is nearest to targets (n_rows, n_steps) of what is obvious: the
    value of a season before, the mean of two such, the last, or nothing."""
    steps = targets.shape[1]
    choices, each = [np.zeros((features.shape[1], steps))], np.arange(steps)
    for columns in _obvious(plan, known, steps):
        line = np.zeros_like(choices[0])
        line[columns, each] = 1.0
        choices.append(line)
    if len(choices) > 3:
        choices.append((choices[1] + choices[2]) / 2)
    inputs = np.nan_to_num(features)
    errors = [np.abs(inputs @ line - targets).mean() for line in choices]
    return choices[int(np.argmin(errors))]


def nearest_columns(plan: WindowPlan, known: Panel, features: Floats, targets: Floats) -> Ints | None:
    """Columns (n_steps,) whose values were nearest to targets (n_rows, n_steps): those of a season before, or the last.

    None where zero, the level of a scaled series, was nearer.
    """
    choices = _obvious(plan, known, targets.shape[1])
    errors = [np.nanmean(np.abs(features[:, columns] - targets)) for columns in choices]
    if not choices or not min(errors) < np.abs(targets).mean():
        return None
    return choices[int(np.argmin(errors))]
