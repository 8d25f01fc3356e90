"""Gaps filled by a chosen method; filled points stay marked."""

from dataclasses import replace

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.errors import ProteronError
from proteron.core.intake.recipe import Filling
from proteron.core.panel import FILLED, FROM_BOTH_SIDES, Floats, Panel


def gap_runs(values: Floats) -> list[tuple[int, int]]:
    """Spans of consecutive missing points, start and one past the end."""
    missing = np.concatenate([[False], np.isnan(values), [False]])
    edges = np.flatnonzero(missing[1:] != missing[:-1])
    return list(zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True))


@kernel
def _seasonal(values: Floats, period: int, follow_level: bool, window: int) -> Floats:
    """Missing points from the last known one of their phase, moved by how far the points before the gap have moved."""
    out = values.copy()
    latest = np.full(period, -1)
    gap = 0
    for i in range(len(values)):
        if not np.isnan(values[i]):
            latest[i % period] = i
            gap = i + 1
            continue
        source = latest[i % period]
        if source < 0:
            continue
        shift = 0.0
        if follow_level:
            total, count = 0.0, 0
            for j in range(max(gap - window, i - source), gap):
                twin = j - (i - source)
                if not np.isnan(values[j]) and not np.isnan(values[twin]):
                    total += values[j] - values[twin]
                    count += 1
            if count:
                shift = total / count
        out[i] = values[source] + shift
    return out


@kernel
def _moving_average(values: Floats, window: int) -> Floats:
    """The mean of the last `window` known points before the gap."""
    out = values.copy()
    ring = np.full(window, np.nan)
    seen = 0
    mean = np.nan
    for i in range(len(values)):
        if not np.isnan(values[i]):
            ring[seen % window] = values[i]
            seen += 1
            mean = np.nan
        elif seen:
            if np.isnan(mean):
                mean = ring[: min(seen, window)].mean()
            out[i] = mean
    return out


def _straight(values: Floats) -> Floats:
    """Straight lines over inner gaps."""
    known = np.flatnonzero(~np.isnan(values))
    at = np.arange(len(values))
    inner = np.isnan(values) & (at > known[0]) & (at < known[-1])
    out = values.copy()
    out[inner] = np.interp(at[inner], known, values[known])
    return out


def _on_flattened(values: Floats, period: int) -> Floats:
    """Line and season of what lies before each gap taken out, a straight line over the gap, both put back."""
    out = values.copy()
    at = np.arange(len(values), dtype=np.float64)
    for start, stop in gap_runs(values):
        known = np.flatnonzero(~np.isnan(values[:start]))
        if stop == len(values) or not len(known):
            continue
        past = values[known]
        slope = 0.0
        if len(known) > 2 * period and known[-1] > known[0]:
            centred = known - known.mean()
            slope = float((centred * (past - past.mean())).sum() / (centred**2).sum())
        line = past.mean() + slope * (at - known.mean())
        counts = np.bincount(known % period, minlength=period)
        season = np.bincount(known % period, weights=past - line[known], minlength=period) / np.maximum(counts, 1)
        expected = line + season[np.arange(len(values)) % period]
        ends = np.array([known[-1], stop])
        out[start:stop] = expected[start:stop] + np.interp(at[start:stop], ends, values[ends] - expected[ends])
    return out


# Methods that draw a line to the first point after the gap; the others read only what lies before.
CLOSING = ("linear", "flattened")


def fill_series(values: Floats, filling: Filling, period: int) -> Floats:
    """One series (n,) with its gaps filled; what the method cannot reach, or is too long, stays NaN.

    No method reads beyond a gap, but for the closing ones, which need the first point after it. Those
    leave a longer gap than `longest` open; the others fill its first steps.
    """
    if filling.method == "leave" or not np.isnan(values).any():
        return values
    if np.isnan(values).all() and filling.method != "zero":
        return values
    period = max(filling.period or period, 1)
    if filling.method == "zero":
        filled = np.where(np.isnan(values), 0.0, values)
    elif filling.method == "carry_last":
        last = np.maximum.accumulate(np.where(np.isnan(values), -1, np.arange(len(values))))
        filled = np.where(last >= 0, values[np.maximum(last, 0)], np.nan)
    elif filling.method == "moving_average":
        filled = _moving_average(values, filling.window)
    elif filling.method in ("seasonal", "seasonal_level"):
        filled = _seasonal(values, period, filling.method == "seasonal_level", max(filling.window, period))
    else:
        filled = _straight(values) if filling.method == "linear" else _on_flattened(values, period)
    filled = np.where(np.isfinite(filled), filled, np.nan)
    if filling.longest is not None:
        for start, stop in gap_runs(values):
            if stop - start > filling.longest:
                filled[start if filling.method in CLOSING else start + filling.longest : stop] = np.nan
    return filled


def fill_panel(panel: Panel, filling: Filling, of: dict[str, Filling]) -> Panel:
    """The panel with gaps filled and the filled points marked; raises a `ProteronError` naming an unknown series."""
    unknown = [key for key in of if key not in panel.keys]
    if unknown:
        raise ProteronError(f"There is no series “{unknown[0]}” to fill.", field="filling_of")
    if filling.method == "leave" and not of:
        return panel
    values, marks = panel.values.copy(), panel.marks.copy()
    for index, key in enumerate(panel.keys):
        part = slice(int(panel.offsets[index]), int(panel.offsets[index + 1]))
        mine = of.get(key, filling)
        filled = fill_series(panel.series(index), mine, panel.axis.step.season)
        bits = FILLED | FROM_BOTH_SIDES * (mine.method in CLOSING)
        marks[part] |= np.where(np.isnan(values[part]) & ~np.isnan(filled), bits, 0).astype(np.uint8)
        values[part] = filled
    return replace(panel, values=values, marks=marks)
