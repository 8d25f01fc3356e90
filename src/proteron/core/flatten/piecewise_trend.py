"""A line with knots, given or found by optimal partitioning."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.compiled import kernel
from proteron.core.flatten.curve_trend import block_means
from proteron.core.flatten.path import weighted_columns
from proteron.core.flatten.robust_lines import regress
from proteron.core.flatten.stage import AdditiveStage, Calendar, Figure, Group, StageState, require
from proteron.core.panel import Floats
from proteron.core.timeline import Ints

_BLOCKS = 400


@kernel
def _line_cost(sums: Floats, start: int, stop: int) -> float:
    """Residual sum of squares of a least-squares line through points start ≤ i < stop."""
    count = stop - start
    t, y = sums[stop, 0] - sums[start, 0], sums[stop, 1] - sums[start, 1]
    spread = sums[stop, 2] - sums[start, 2] - t * t / count
    cross = sums[stop, 3] - sums[start, 3] - t * y / count
    rest = sums[stop, 4] - sums[start, 4] - y * y / count
    if spread > 0:
        rest -= cross * cross / spread
    return max(rest, 0.0)


@kernel
def _partition(sums: Floats, penalty: float, least: int) -> Ints:
    """Ends of the segments with the least cost plus penalty (Killick et al. 2012, with pruning)."""
    size = len(sums) - 1
    best = np.full(size + 1, np.inf)
    best[0] = -penalty
    came = np.zeros(size + 1, dtype=np.int64)
    alive = np.zeros(size + 1, dtype=np.int64)
    count = 1
    for stop in range(least, size + 1):
        for place in range(count):
            start = alive[place]
            if stop - start < least:
                continue
            total = best[start] + _line_cost(sums, start, stop) + penalty
            if total < best[stop]:
                best[stop] = total
                came[stop] = start
        kept = 0
        for place in range(count):
            start = alive[place]
            if stop - start < least or best[start] + _line_cost(sums, start, stop) <= best[stop]:
                alive[kept] = start
                kept += 1
        count = kept
        if stop >= least:
            alive[count] = stop
            count += 1
    ends = np.zeros(size + 1, dtype=np.int64)
    found, at = 0, size
    while at > 0:
        ends[found] = at
        found += 1
        at = came[at]
    return ends[:found][::-1].copy()


def find_knots(at: Floats, values: Floats, most: int = 20) -> Floats:
    """Where the slope or level of a series changes, (n_knots,) in the unit of `at`, at most `most`.

    Optimal partitioning into straight pieces (Killick, Fearnhead & Eckley 2012) of block medians; the
    penalty is 4 log n times the robust variance of the blocks around a line through their neighbours.
    """
    at, values = block_means(at, values, _BLOCKS)
    size = len(values)
    if size < 12:
        return np.zeros(0)
    bends = values[2:] - 2 * values[1:-1] + values[:-2]
    variance = (1.4826 * float(np.median(np.abs(bends)))) ** 2 / 6 + 1e-12 * float(np.var(values)) + 1e-300
    t, y = (at - at[0]) / (at[-1] - at[0]), values - values.mean()
    sums = np.zeros((size + 1, 5))
    sums[1:] = np.cumsum(np.column_stack([t, y, t * t, t * y, y * y]), axis=0)
    least = max(4, size // 40)
    penalty = 4 * np.log(size) * variance
    ends = _partition(sums, penalty, least)
    while len(ends) - 1 > most:
        penalty *= 2
        ends = _partition(sums, penalty, least)
    inner = ends[:-1]
    return np.asarray(0.5 * (at[inner] + at[inner - 1]))


class PiecewiseTrend(AdditiveStage):
    """A continuous line that bends at knots; its last piece runs on beyond the cutoff."""

    title: ClassVar[str] = "trend with knots"
    group: ClassVar[Group] = "trend"
    bends: ClassVar[bool] = True
    kind: Literal["piecewise_trend"] = "piecewise_trend"
    needs: ClassVar[int] = 4
    shareable: ClassVar[bool] = False
    knots: int | None = Field(None, ge=0, le=40, title="Knots", description="Evenly spaced; nothing: found.")
    robust: bool = Field(True, title="Robust", description="Spikes cannot bend it.")

    def fit(self, values: Floats, positions: Ints, calendar: Calendar) -> StageState:
        """Learn from known values (n_known,) at grid `positions`; raises `TooShortError` or `UnitsError`."""
        require(values, self.needs, self.title)
        present = np.isfinite(values)
        at, known = positions[present].astype(np.float64), values[present]
        origin, span = at[0], max(at[-1] - at[0], 1.0)
        if self.knots is None:
            season = calendar.axis.step.season
            knots = find_knots(at, _less_season(positions[present], known, season))
        else:
            knots = origin + span * np.arange(1, self.knots + 1) / (self.knots + 1)
        centre = float(np.median(known))
        fit = regress(self._design(at, knots, origin, span), known - centre, "tukey" if self.robust else "squared")
        weights = fit.weights + np.concatenate([[centre], np.zeros(len(knots) + 1)])
        notes = () if fit.converged else ("the reweighting did not settle",)
        numbers = {"origin": np.float64(origin), "span": np.float64(span)}
        return StageState({"weights": weights, "knots": np.asarray(knots), **numbers}, notes)

    @staticmethod
    def _design(at: Floats, knots: Floats, origin: float, span: float) -> Floats:
        bends = [np.maximum(at - knot, 0.0) / span for knot in knots]
        return np.stack([np.ones(np.shape(at)), (at - origin) / span, *bends], axis=-1)

    def parts(self, state: StageState, positions: Ints, calendar: Calendar) -> dict[str, Floats]:
        """What is taken out at `positions`, (n_positions,) by name."""
        at = np.asarray(positions, dtype=np.float64)
        design = self._design(at, state.array("knots"), state.number("origin"), state.number("span"))
        return {"trend": weighted_columns(design, state.array("weights"))}

    def facts(self, state: StageState) -> dict[str, float]:
        """What was learned, as numbers by name."""
        slope = float(state.array("weights")[1:].sum() / state.number("span"))
        return {"knots": float(len(state.array("knots"))), "last slope per step": slope}

    def figures(self, state: StageState, calendar: Calendar) -> list[Figure]:
        """What was learned, as pictures."""
        knots = state.array("knots")
        if not len(knots):
            return []
        slopes = np.cumsum(state.array("weights")[1:]) / state.number("span")
        starts = np.concatenate([[state.number("origin")], knots]).astype(np.int64)
        labels = np.datetime_as_string(calendar.axis.local(starts), unit="D").tolist()
        return [Figure("slope per step, by piece", tuple(labels), tuple(slopes.tolist()))]


def _less_season(positions: Ints, known: Floats, season: int) -> Floats:
    """The values less the median of their phase, where three cycles are known."""
    if season < 2 or len(known) < 3 * season:
        return known
    phases = positions % season
    apart = np.zeros(season)
    for phase in range(season):
        of_phase = known[phases == phase]
        apart[phase] = np.median(of_phase) if len(of_phase) else np.nan
    return known - np.nan_to_num(apart - np.nanmean(apart))[phases]
