"""What a forecast is measured by: what was last known, what happened after, what a series usually moves by."""

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints


@kernel
def previous_of_phase(values: Floats, period: int) -> Floats:
    """For every position up to one cycle beyond the end, the last known value of its phase before it.

    Returns (n_points + period,), NaN where the phase was never known; position i reads only i - period,
    i - 2 period and so on. With `period` 1 this is the last known value.
    """
    latest = np.full(period, np.nan)
    out = np.empty(len(values) + period)
    for i in range(len(out)):
        phase = i % period
        out[i] = latest[phase]
        if i < len(values) and not np.isnan(values[i]):
            latest[phase] = values[i]
    return out


def last_known(values: Floats, at: Ints) -> Floats:
    """The last value that is not missing before each of `at` places, NaN where there is none."""
    return previous_of_phase(np.ascontiguousarray(values), 1)[at]


def known_before(values: Floats, at: Ints) -> tuple[Floats, Ints]:
    """The last value that is not missing before each of `at` places, NaN where there is none, and after how many
    missing ones the place comes, which may lie outside."""
    places = np.where(np.isfinite(values), np.arange(len(values)), -1)
    last = np.concatenate([[-1], np.maximum.accumulate(places)])[np.clip(at, 0, len(values))]
    padded = np.concatenate([values, [np.nan]])  # at -1, where none is known
    return padded[last], np.maximum(at - 1 - last, 0)


def truths(panel: Panel, origins: Ints, horizon: int, values: Floats | None = None) -> Floats:
    """What happened after each origin, (n_series, n_origins, horizon), NaN beyond the data."""
    flat = panel.values if values is None else values
    out = np.full((len(panel), len(origins), horizon), np.nan)
    for index in range(len(panel)):
        local = (origins - panel.starts[index])[:, None] + np.arange(horizon)
        inside = (local >= 0) & (local < panel.lengths[index])
        out[index][inside] = flat[panel.offsets[index] + local[inside]]
    return out


def naive_scale(known: Floats, season: int, power: int = 1) -> float:
    """Mean `power` of the absolute seasonal differences of known values (n_points,), NaN if undefined."""
    if len(known) <= season:
        return float("nan")
    changes = np.abs(known[season:] - known[:-season]) ** power
    present = changes[np.isfinite(changes)]
    return float(present.mean()) if len(present) else float("nan")


def usual_move(known: Floats, season: int) -> float:
    """What known values (n_points,) move by in a season, else in a step, in the mean; never zero."""
    usual = naive_scale(known, season if len(known) > season else 1)
    largest = float(np.abs(known[np.isfinite(known)]).max(initial=0.0))
    return max(0.0 if np.isnan(usual) else usual, 1e-9 * largest, 1e-300)
