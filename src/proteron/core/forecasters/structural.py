"""Structural models: local level, local trend, season, as unobserved parts that drift (Harvey 1989)."""

from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from proteron.core.compiled import kernel
from proteron.core.errors import TooShortError
from proteron.core.forecasters.forecaster import ForecasterState, Work
from proteron.core.forecasters.local import Learned, LocalForecaster
from proteron.core.forecasters.minimise import GO_ON, bfgs_room, bfgs_tell, covariance_from, errors_of
from proteron.core.forecasters.noise import Noise
from proteron.core.forecasters.normal_equations import solve_normal
from proteron.core.forecasters.ranges import prediction_variance, widening
from proteron.core.forecasters.rehearsal import LEAST, rehearsed_steps, steps_after
from proteron.core.forecasters.smoothing.fit import seasonal_figure
from proteron.core.forecasters.smoothing.forecaster import Part
from proteron.core.forecasters.smoothing.seasons import (
    WAYS,
    season_behind_trend,
    season_of,
    season_sizes,
    with_season,
    without_season,
)
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints

_APART = 1e-5
_AS_GOOD_AS_ZERO = -12.0  # logarithm of a variance over that of the noise
_SETTLED, _FORGOTTEN = 1e-14, 1e-60
_LONGEST_SEASON = 60
_LONGEST_LEARNED = 1500
_REMEMBERED = 600  # points from which the doubt of the state is worked out, before them it is not known at all
_DIFFUSE = 1e4
_FAR_OFF = 40.0
_DAMPINGS = (1.0, 0.98, 0.9, 0.8)
_TRIED_FROM = 60


@kernel
def _added(out: Floats, factor: float, row: Floats) -> None:
    """out += factor × row, both (k,)."""
    for c in range(len(out)):
        out[c] += factor * row[c]


@kernel
def whiten_parts(  # noqa: C901
    columns: Floats, move: Floats, ratios: Floats, noise: float, begin: Floats, white: Floats, kept: Floats
) -> float:  # fmt: skip
    """Standardised one-step errors (n, c) of columns under a model whose state is known at the start.

    `move` (k + 1, k): how the state moves in a step, and in the last row what of it is seen, with noise of variance
    `noise`; `ratios` (k,) are variances of what each part of the state drifts by. `begin` (k, c) is the state before
    the first point. `kept` (n + 1, k), or with no rows, gets the first column's predicted states. Returns Σ log
    variance; NaN in the first column is missing.
    """
    size = len(begin)
    width = columns.shape[1]
    seen = move[size]
    shown = np.flatnonzero(seen)
    rows, places = np.nonzero(move[:size])  # few, whatever the size
    state, after = begin.copy(), np.empty(begin.shape)
    spread, half, turned = np.zeros((size, size)), np.empty((size, size)), np.empty((size, size))
    gain, total, variance = np.zeros(size), 0.0, noise
    alike, settled = 0, False  # once the gain has not changed for a whole cycle it never will, until a gap
    quiet = 0  # nor will a start that has been forgotten for a whole cycle come back
    for t in range(len(columns)):
        if t < len(kept):
            kept[t] = state[:, 0]
        known = columns[t, 0] == columns[t, 0]
        if known:
            if not settled:
                variance, apart = noise, 0.0
                for i in range(size):
                    before, gain[i] = gain[i], 0.0
                    for part in shown:
                        gain[i] += spread[i, part] * seen[part]
                    apart = max(apart, abs(gain[i] - before))
                for part in shown:
                    variance += seen[part] * gain[part]
                alike = alike + 1 if apart <= _SETTLED * variance else 0
                settled = alike > size
            total += np.log(variance)
            root, loudest = 1.0 / np.sqrt(variance), 0.0
            for c in range(width):
                error = columns[t, c]
                for part in shown:
                    error -= seen[part] * state[part, c]
                white[t, c] = error * root
                if c:
                    loudest = max(loudest, abs(error))
            quiet = quiet + 1 if loudest < _FORGOTTEN else 0
            if quiet > size and width > 1:
                white[t:, 1:] = 0.0
                width = 1
            for i in range(size):
                _added(state[i, :width], gain[i] / (variance * root), white[t, :width])
            if not settled:
                for i in range(size):
                    _added(spread[i], -gain[i] / variance, gain)
        else:
            white[t, :width] = 0.0
            settled, alike = False, 0
        after[:] = 0.0
        for n in range(len(rows)):
            _added(after[rows[n], :width], move[rows[n], places[n]], state[places[n], :width])
        state, after = after, state
        if settled:
            continue
        half[:] = 0.0
        for n in range(len(rows)):
            _added(half[rows[n]], move[rows[n], places[n]], spread[places[n]])
        for i in range(size):
            for j in range(size):
                turned[i, j] = half[j, i]
        spread[:] = 0.0
        for n in range(len(rows)):
            _added(spread[rows[n]], move[rows[n], places[n]], turned[places[n]])
        for i in range(size):
            spread[i, i] += ratios[i]
    if len(kept) > len(columns):
        kept[len(columns)] = state[:, 0]
    return total


@kernel
def diffuse_value(
    values: Floats, move: Floats, drifting: Floats, free: Floats, count: int, start: Floats
) -> float:  # fmt: skip
    """Minus the diffuse log-likelihood without its constant, the spread profiled out; `start` (k,) is estimated.

    The first state is what least squares makes of it, with an even prior (de Jong 1991). `drifting` (parts, k) says
    which entries of the state a part's variance belongs to; `free` (parts,) are log variances over that of the noise.
    """
    size = len(start)
    ratios = np.zeros(size)
    for part in range(len(drifting)):
        for i in range(size):
            ratios[i] += drifting[part, i] * np.exp(free[part])
    columns, begin = np.zeros((len(values), size + 1)), np.zeros((size, size + 1))
    for t in range(len(values)):
        columns[t, 0] = values[t]
    for i in range(size):
        begin[i, i + 1] = -1.0  # the errors of nothing seen are what the state would have shown
    white = np.empty(columns.shape)
    logs = whiten_parts(columns, move, ratios, 1.0, begin, white, np.empty((0, size)))
    inner, right, squares = np.zeros((size, size)), np.zeros(size), 0.0
    for t in range(len(values)):
        squares += white[t, 0] * white[t, 0]
        for i in range(size):
            right[i] += white[t, i + 1] * white[t, 0]
            for j in range(i + 1):
                inner[i, j] += white[t, i + 1] * white[t, j + 1]
    sizes = np.empty(size)
    squares -= solve_normal(inner, right, sizes)
    if squares != squares:
        return np.inf
    logs += sizes.sum()
    start[:] = right
    free_points = count - size
    return 0.5 * (free_points * np.log(max(squares, 1e-300) / free_points) + logs)


@kernel
def maximise_parts(values: Floats, move: Floats, drifting: Floats, free: Floats, count: int, start: Floats) -> float:
    """Maximise the diffuse likelihood from `free` on, in place; returns minus its logarithm without its constant."""
    room, gradient = bfgs_room(len(free)), np.zeros(len(free))
    best, lowest, told, calls = free.copy(), np.inf, GO_ON, 0
    while told == GO_ON and calls < 150:
        for i in range(len(free)):
            free[i] = min(max(free[i], -25.0), 25.0)
        value = diffuse_value(values, move, drifting, free, count, start)
        for k in range(len(free)):
            at = free.copy()
            at[k] += _APART
            gradient[k] = (diffuse_value(values, move, drifting, at, count, start) - value) / _APART
        calls += 1
        if value < lowest:
            lowest = value
            best[:] = free
        told = bfgs_tell(room, free, value, gradient, 1e-9)
    free[:] = best
    return diffuse_value(values, move, drifting, free, count, start)


@kernel
def _moved_rows(inside: Floats, spread: Floats, out: Floats) -> None:
    """out = inside @ spread, both (k, k), the first mostly zeros."""
    out[:] = 0.0
    for i in range(len(inside)):
        for j in range(len(inside)):
            if inside[i, j] != 0.0:
                _added(out[i], inside[i, j], spread[j])


@kernel
def spread_after(known: NDArray[np.bool_], inside: Floats, drift: Floats, seen: Floats, spread: Floats) -> None:
    """Move the covariance of the state (k, k) on by a step for each point (n,), seen or not, in place."""
    half, turned = np.empty(spread.shape), np.empty(spread.shape)
    for t in range(len(known)):
        if known[t]:
            gain = spread @ seen
            variance = 1.0 + gain @ seen
            for i in range(len(drift)):
                _added(spread[i], -gain[i] / variance, gain)
        _moved_rows(inside, spread, half)
        turned[:] = half.T
        _moved_rows(inside, turned, spread)
        for i in range(len(drift)):
            spread[i, i] += drift[i]


def parts_of_state(trend: bool, period: int, damping: float = 1.0) -> tuple[Floats, Floats, tuple[str, ...]]:
    """How the state moves (k + 1, k), the last row what is seen; which entries each part drifts; the parts' names.

    Of a slope `damping` is left a step later.
    """
    size = 1 + trend + (period - 1 if period > 1 else 0)
    move = np.zeros((size + 1, size))
    move[0, 0], names, drifting = 1.0, ["level"], [np.eye(size)[0]]
    if trend:
        move[0, 1], move[1, 1] = 1.0, damping
        names.append("trend")
        drifting.append(np.eye(size)[1])
    move[size, 0] = 1.0
    if period > 1:
        first = 1 + trend
        move[first, first:] = -1.0
        for i in range(first + 1, size):
            move[i, i - 1] = 1.0
        move[size, first] = 1.0
        names.append("season")
        drifting.append(np.eye(size)[first])
    return move, np.array(drifting), tuple(names)


class _Parts(LocalForecaster):
    """What the structural models share; variances and start are learned on the last 1,500 known points."""

    family: ClassVar[str] = "structural"
    cost: ClassVar[float] = 500.0

    def layout(self, season: int, known: int) -> tuple[bool, int]:
        """Whether there is a trend, and the period of the season, 1 for none."""
        return False, 1

    def dampings(self, trend: bool) -> tuple[float, ...]:
        """What may be left of a slope a step later."""
        return (1.0,)

    def cycle(self, step_season: int) -> tuple[int, str]:
        """The season that is taken out beforehand where the model has none of its own, and in what way."""
        return step_season, "auto"

    def learn_series(self, known: Panel, index: int, work: Work) -> Learned:
        """What is learned of one series; raises `ProteronError` where it must decline."""
        whole = np.ascontiguousarray(known.series(index))
        present = np.flatnonzero(np.isfinite(whole))
        trend, period = self.layout(known.axis.step.season, len(present))
        move, drifting, names = parts_of_state(trend, period)
        size = len(move) - 1
        if len(present) < size + len(names) + 2:
            raise TooShortError(
                f"{self.title} needs {size + len(names) + 2} known points; there are {len(present)}.", field="until"
            )
        offset = int(present[-_LONGEST_LEARNED if len(present) > _LONGEST_LEARNED else 0])
        present, values = present[present >= offset], whole[offset:]
        cycle, wanted = self.cycle(known.axis.step.season) if period == 1 else (1, "none")
        way = season_behind_trend(values, cycle, wanted)
        figure = seasonal_figure(values, cycle, way) if way else np.zeros(1)
        flat = without_season(values, figure, way)
        unit = float(np.nanstd(flat)) or max(float(np.nanmax(np.abs(flat))), 1.0)
        centre = float(np.nanmean(flat))
        scaled = np.ascontiguousarray((flat - centre) / unit)
        count, best, least, free = len(present), None, np.inf, np.full(len(names), -2.0)
        for damping in self.dampings(trend):
            work.go_on()
            move = parts_of_state(trend, period, damping)[0]
            start, free = np.zeros(size), free.copy()
            value = maximise_parts(scaled, move, drifting, free, count, start)
            if not np.isfinite(value):
                continue
            begin = start * unit
            begin[0] += centre
            found = Learned({
                "offset": offset, "trend": float(trend), "period": period, "damping": damping, "begin": begin,
                "noise": self._scaled_variance(scaled, move, drifting, free, start) * unit**2, "ratios": np.exp(free),
                "way": float(WAYS.index(way)), "figure": figure, "cycle": len(figure), "count": count,
                "free": len(names) + 1 + (damping < 1) + (len(figure) if way else 0),
                "loglik": -value - 0.5 * (count - size) * (np.log(2 * np.pi) + 1) - (count - size) * np.log(unit),
            })  # fmt: skip
            error = self._error_ahead(found, whole, work.horizon or max(known.axis.step.season, LEAST))
            if best is None or error < least:
                best, least, chosen = found, error, free
        if best is None:
            raise TooShortError(f"{self.title} cannot tell its parts apart from so few points.", field="until")
        move = parts_of_state(trend, period, float(best["damping"]))[0]
        return best | {"covariance": self._doubt(scaled, move, drifting, chosen, count)}

    def _error_ahead(self, learned: Learned, values: Floats, horizon: int) -> float:
        """Mean absolute error of forecasts from origins in the last two thirds, as many steps ahead as are asked."""
        offset = int(learned["offset"])
        horizon = rehearsed_steps(len(values) - offset, horizon, 1)
        at = np.arange(offset + (len(values) - offset) // 3, len(values))
        at = at[:: max(len(at) // _TRIED_FROM, 1)]
        gaps = np.abs(steps_after(values, at, horizon) - self.means_of(learned, values, at, horizon))
        return float(np.nanmean(gaps)) if np.isfinite(gaps).any() else np.inf

    def as_chosen(self, learned: Learned, cut: int | None = None) -> "_Parts":
        """With its damping given."""
        given = {"damping": float(learned["damping"])} if "damping" in type(self).model_fields else {}
        return self.model_copy(update=given)

    def _doubt(self, scaled: Floats, move: Floats, drifting: Floats, free: Floats, count: int) -> Floats:
        """Covariance of the logarithms of all variances, drifts first and the noise last, (parts + 1, parts + 1).

        The noise was profiled out: it follows the ratios, and is in doubt besides. NaN for what is as good as zero.
        """
        size = len(move) - 1
        there = np.flatnonzero(free > _AS_GOOD_AS_ZERO)

        def whole(at: Floats) -> Floats:
            moved = free.copy()
            moved[there] = at
            return moved

        def minus(at: Floats) -> float:
            return float(diffuse_value(scaled, move, drifting, whole(at), count, np.zeros(size)))

        def noise(at: Floats) -> float:
            start = np.zeros(size)
            diffuse_value(scaled, move, drifting, whole(at), count, start)
            return float(np.log(max(self._scaled_variance(scaled, move, drifting, whole(at), start), 1e-300)))

        steps = 1e-2 * np.eye(len(there))
        covariance = covariance_from(minus, free[there], np.full(len(there), 1e-2))
        follows = np.array([(noise(free[there] + step) - noise(free[there] - step)) / 2e-2 for step in steps])
        own = 2.0 / max(count - size, 1)
        out = np.full((len(free) + 1, len(free) + 1), np.nan)
        told = np.append(there, len(free))
        turned = np.vstack([np.eye(len(there)), np.zeros(len(there))]) + (follows if len(there) else 0.0)
        out[np.ix_(told, told)] = turned @ covariance @ turned.T + own
        return out

    @staticmethod
    def _scaled_variance(scaled: Floats, move: Floats, drifting: Floats, free: Floats, start: Floats) -> float:
        """Variance of the noise."""
        white, kept = np.empty((len(scaled), 1)), np.empty((0, len(start)))
        ratios = np.exp(free) @ drifting
        whiten_parts(scaled[:, None], move, ratios, 1.0, start[:, None].copy(), white, kept)
        known = int(np.isfinite(scaled).sum())
        return float((white**2).sum() / max(known - len(start), 1))

    def means_of(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points of `values` (n_points,)."""
        kept, shown = self._states(learned, values, horizon)
        way, figure = season_of(learned)
        local = at - int(learned["offset"])
        out = np.full((len(at), horizon), np.nan)
        out[local > 0] = with_season(kept[local[local > 0]] @ shown.T, figure, way, local[local > 0])
        return out

    @staticmethod
    def _states(learned: Learned, values: Floats, horizon: int) -> tuple[Floats, Floats]:
        """States (n_points + 1, k) before each place, counted from the first point learned, and what is seen of a state
        at each step after it, (horizon, k)."""
        move, drifting = _moving(learned)
        size = len(move) - 1
        way, figure = season_of(learned)
        rest = without_season(np.ascontiguousarray(values[int(learned["offset"]) :]), figure, way)
        kept = np.empty((len(rest) + 1, size))
        ratios = learned["ratios"][: len(drifting)] @ drifting
        begin = np.ascontiguousarray(learned["begin"][:size, None])
        whiten_parts(rest[:, None], move, ratios, 1.0, begin, np.empty((len(rest), 1)), kept)
        shown = np.empty((horizon, size))
        shown[0] = move[size]
        for h in range(1, horizon):
            shown[h] = shown[h - 1] @ move[:size]
        return kept, shown

    def parts_of(self, learned: Learned, values: Floats, at: int, horizon: int) -> dict[str, Floats]:
        """Level, trend and season, (horizon,) each; a season that was taken out before is what it adds to the rest."""
        local = at - int(learned["offset"])
        if local <= 0:
            return {}
        kept, shown = self._states(learned, values, horizon)
        each = kept[local] * shown
        _, _, names = parts_of_state(bool(learned["trend"]), int(learned["period"]))
        stops = [*range(1, len(names)), each.shape[1]]  # a place each, the last all that are left
        out = {name: each[:, n:stop].sum(axis=1) for n, (name, stop) in enumerate(zip(names, stops, strict=True))}
        way, figure = season_of(learned)
        if way is not None:
            rest = np.sum(list(out.values()), axis=0)
            out["season"] = with_season(rest[None], figure, way, np.array([local]))[0] - rest
        return out

    def _end(self, learned: Learned, values: Floats, at: int) -> tuple[Floats, Floats, Floats, Floats]:
        """Covariance of the state before a place, how it moves, variances of its drifts, what is seen."""
        move, drifting = _moving(learned)
        size = len(move) - 1
        drift = learned["ratios"][: len(drifting)] @ drifting
        way, figure = season_of(learned)
        rest = without_season(values[int(learned["offset"]) : at], figure, way)
        known = np.flatnonzero(np.isfinite(rest))
        rest = rest[known[-_REMEMBERED] if len(known) > _REMEMBERED else 0 :]
        wide = max(float(np.nanvar(rest)) / max(float(learned["noise"]), 1e-300), 1.0) if len(known) else 1.0
        spread, inside, seen = np.eye(size) * min(_DIFFUSE * wide, 1e11), np.ascontiguousarray(move[:size]), move[size]
        spread_after(np.isfinite(rest), inside, drift, seen, spread)
        return spread, inside, np.diag(drift), seen

    def spreads_of(self, learned: Learned, values: Floats, at: int, horizon: int) -> Floats | None:
        """Standard deviations (horizon,) after `at` points, by theory."""
        variances = self._variances(learned, values, at, horizon) * self._ahead_noise(learned)
        return np.sqrt(variances) * self._wider(learned, values, at, horizon) * self._sizes(learned, at, horizon)

    @staticmethod
    def _sizes(learned: Learned, at: int, horizon: int) -> Floats:
        """What a unit of the series without its season is at each step, (horizon,)."""
        way, figure = season_of(learned)
        return season_sizes(figure, way, at - int(learned["offset"]), horizon)

    def _variances(self, learned: Learned, values: Floats, at: int, horizon: int) -> Floats:
        """Variance of each step in that of the noise, (horizon,)."""
        spread, move, drift, seen = self._end(learned, values, at)
        out = np.empty(horizon)
        for h in range(horizon):
            out[h] = seen @ spread @ seen + 1.0
            spread = move @ spread @ move.T + drift
        return out

    def _wider(self, learned: Learned, values: Floats, at: int, horizon: int) -> Floats:
        """By how much the doubt in how the variances stand to each other widens the ranges of each step, (horizon,)."""
        parts = int(np.isfinite(learned["ratios"]).sum())
        own = 2.0 / max(
            int(learned["count"]) - int(np.isfinite(learned["begin"]).sum()), 1
        )  # the doubt in all of them together
        covariance = learned["covariance"][: parts + 1, : parts + 1] - own
        shorter = 1.0 / np.sqrt(np.maximum(np.diag(covariance), 1.0))  # beyond a factor of e the curvature says little
        covariance = covariance * np.outer(shorter, shorter)

        def variance_of(logs: Floats) -> Floats:
            logs = np.clip(logs, -_FAR_OFF, _FAR_OFF)  # a doubt beyond all measure is no number
            moved = learned | {"ratios": np.exp(logs[:parts] - logs[parts])}
            return self._variances(moved, values, at, horizon) * np.exp(logs[parts])

        found = np.append(np.log(np.maximum(learned["ratios"][:parts], 1e-300)), 0.0)
        return widening(variance_of, found, covariance)

    @staticmethod
    def _ahead_noise(learned: Learned) -> float:
        """Variance of the noise, the ratios having been estimated; that the start was is in the state's covariance."""
        spent, count = int(learned["free"]) - 1, int(learned["count"])
        return prediction_variance(float(learned["noise"]) * max(count - spent, 1), count, spent)

    def paths_of(self, learned: Learned, values: Floats, at: int, noise: Noise) -> Floats | None:
        """Paths (count, horizon) after `at` points, driven by the errors of `noise`."""
        count, horizon = noise.errors.shape
        spread, move, drift, seen = self._end(learned, values, at)
        own = np.sqrt(self._ahead_noise(learned))
        mean = self.means_of(learned, values, np.array([at]), horizon)[0]
        draws = own * noise.errors
        off, out = np.zeros((count, len(seen))), np.empty((count, horizon))
        for h in range(horizon):  # one-step errors, and what the state learns from each
            variance = float(seen @ spread @ seen + 1.0)
            gain = spread @ seen / variance
            error = np.sqrt(variance) * draws[:, h]
            out[:, h] = off @ seen + error
            off = (off + error[:, None] * gain) @ move.T
            spread = move @ (spread - variance * np.outer(gain, gain)) @ move.T + drift
        return mean + out * self._wider(learned, values, at, horizon) * self._sizes(learned, at, horizon)

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Learned numbers of one series by name, in flat units."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        _, _, names = parts_of_state(bool(learned["trend"]), int(learned["period"]))
        noise = float(learned["noise"])
        found = {
            f"variance_{name}": float(ratio) * noise for name, ratio in zip(names, learned["ratios"], strict=False)
        }
        damping = {"damping": float(learned["damping"])} if float(learned["damping"]) < 1 else {}
        return found | {"variance_observation": noise} | damping

    def standard_errors(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Of all variances, from the curvature of the likelihood in their logarithms."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        _, _, names = parts_of_state(bool(learned["trend"]), int(learned["period"]))
        noise = float(learned["noise"])
        doubt = errors_of(learned["covariance"])[: len(names) + 1]
        triples = zip((*names, "observation"), (*learned["ratios"][: len(names)], 1.0), doubt, strict=True)
        return {f"variance_{name}": float(ratio * each) * noise for name, ratio, each in triples}

    def summary_of(self, learned: Learned) -> str:
        """What was learned of one series, in one sentence."""
        _, _, names = parts_of_state(bool(learned["trend"]), int(learned["period"]))
        noise = float(learned["noise"])
        parts = [f"{name} {ratio * noise:.3g}" for name, ratio in zip(names, learned["ratios"], strict=False)]
        way = season_of(learned)[0]
        damping, season = (
            float(learned["damping"]),
            {None: "", "additive": "; a season added", "multiplicative": "; a season multiplied"},
        )
        damped = f"; the slope keeps {damping:.3g} of itself a step" if damping < 1 else ""
        return f"Variances a step: {', '.join(parts)}; of the noise {noise:.3g}{damped}{season[way]}."


def _moving(learned: Learned) -> tuple[Floats, Floats]:
    """How the state moves (k + 1, k), and which entries each part drifts."""
    return parts_of_state(bool(learned["trend"]), int(learned["period"]), float(learned["damping"]))[:2]


Damping = Annotated[float | None, Field(gt=0, le=1)]
_DAMPING = Field(None, title="Damping", description="What is left of the slope a step later; empty: by the error.")
_TAKEN: Any = Field("auto", title="Season", description="Taken out beforehand; auto: by a test.")


class LocalLevel(_Parts):
    """A level that drifts, seen with noise; a season is taken out beforehand where a test shows one."""

    title: ClassVar[str] = "local level"
    can: ClassVar[tuple[str, ...]] = ("seasons", "gaps", "ranges")
    least: ClassVar[int] = 4
    kind: Literal["local_level"] = "local_level"
    season: Part = _TAKEN

    def cycle(self, step_season: int) -> tuple[int, str]:
        return step_season, self.season


class LocalTrend(_Parts):
    """A level and its slope, both drifting, seen with noise; a season is taken out where a test shows one."""

    title: ClassVar[str] = "local trend"
    can: ClassVar[tuple[str, ...]] = ("trend", "seasons", "gaps", "ranges")
    least: ClassVar[int] = 6
    kind: Literal["local_trend"] = "local_trend"
    damping: Damping = _DAMPING
    season: Part = _TAKEN

    def layout(self, season: int, known: int) -> tuple[bool, int]:
        return True, 1

    def cycle(self, step_season: int) -> tuple[int, str]:
        return step_season, self.season

    def dampings(self, trend: bool) -> tuple[float, ...]:
        return _DAMPINGS if self.damping is None else (self.damping,)


class Structural(_Parts):
    """Level, slope and season, all drifting, seen with noise; a season too long for that is taken out beforehand."""

    title: ClassVar[str] = "structural"
    can: ClassVar[tuple[str, ...]] = ("trend", "seasons", "gaps", "ranges")
    cost: ClassVar[float] = 3000.0
    rehearsals: ClassVar[tuple[float, ...]] = (2 / 3,)
    rehearsed_from: ClassVar[int] = 3
    least: ClassVar[int] = 9
    kind: Literal["structural"] = "structural"
    period: int | None = Field(None, ge=1, title="Period", description="Empty: the step's own season.")
    trend: bool = Field(True, title="Slope")
    damping: Damping = _DAMPING

    def layout(self, season: int, known: int) -> tuple[bool, int]:
        period = self.period or season
        drifts = period <= _LONGEST_SEASON and known >= 2 * period + 4
        return self.trend, period if drifts else 1

    def cycle(self, step_season: int) -> tuple[int, str]:
        return self.period or step_season, "auto"

    def dampings(self, trend: bool) -> tuple[float, ...]:
        if not trend:
            return (1.0,)
        return _DAMPINGS if self.damping is None else (self.damping,)
