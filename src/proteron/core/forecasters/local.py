"""What forecasters share that learn every series on its own: loops, declining with a reason, normal ranges."""

from abc import abstractmethod
from collections.abc import Callable, Sequence
from typing import Any, ClassVar

import numpy as np
from scipy import special

from proteron.core.errors import ProteronError, TooShortError, UnitsError
from proteron.core.forecasters.forecaster import Forecaster, ForecasterState, Work
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints


def normal_bounds(mean: Floats, spread: Floats, levels: Sequence[float]) -> Floats:
    """Normal ranges (n_levels, 2, …) around `mean` with standard deviation `spread`, both (…)."""
    reach = [special.ndtri(0.5 + level / 2) for level in levels]
    return np.stack([np.stack([mean - z * spread, mean + z * spread]) for z in reach])


def refuse_huge(values: Floats) -> None:
    """Raise `UnitsError` where squares of values (n,) would leave the range of numbers."""
    present = values[np.isfinite(values)]
    if len(present) and np.abs(present).max() > _LARGEST:
        raise UnitsError(f"Values beyond {_LARGEST:.0e} cannot be squared: take their logarithm first.", field="until")


def information(loglik: float, free: int, count: int) -> dict[str, float]:
    """Log-likelihood with AIC, AICc (Hurvich & Tsai 1989; infinite where it is undefined) and BIC."""
    aic = -2 * loglik + 2 * free
    left = count - free - 1
    return {
        "loglik": loglik, "aic": aic, "aicc": aic + 2 * free * (free + 1) / left if left > 0 else np.inf,
        "bic": float(-2 * loglik + free * np.log(max(count, 1))),
    }  # fmt: skip


def prediction_variance(squares: float, count: int, spent: int) -> float:
    """Variance of a one-step error to come, from the sum of `count` squared ones and the numbers learned from them.

    The final prediction error (Akaike 1969): squares are too small by what was fitted, and what was fitted is in
    doubt by as much again.
    """
    left = max(count - spent, count / 4, 1.0)
    return float(squares / left * (1 + spent / max(count, 1)))


def widening(variance_of: Callable[[Floats], Floats], numbers: Floats, covariance: Floats) -> Floats:
    """By how much the doubt in `numbers` (k,) widens ranges whose variances (horizon,) are `variance_of` them.

    The square root of the variance to be expected, to second order, over that without the doubt. `covariance` (k, k)
    is the doubt; numbers for which it is not known stand. At least 1, and at most what doubles the variance, as far as
    second order can be trusted.
    """
    plain = variance_of(numbers)
    known = np.flatnonzero(np.isfinite(np.diag(covariance)))
    if not len(known):
        return np.ones_like(plain)
    sizes, directions = np.linalg.eigh(covariance[np.ix_(known, known)])
    more = np.zeros_like(plain)
    for size, direction in zip(sizes, directions.T, strict=True):
        if size > 0:
            moved = np.zeros(len(numbers))
            moved[known] = np.sqrt(size) * direction
            more += 0.5 * (variance_of(numbers + moved) + variance_of(numbers - moved)) - plain
    return np.asarray(np.sqrt(1.0 + np.clip(np.where(np.isfinite(more), more, plain) / plain, 0.0, 1.0)))


def variance_error(variance: float, count: int) -> float:
    """Standard error of the variance of `count` normal errors."""
    return variance * float(np.sqrt(2 / max(count, 1)))


class LocalForecaster(Forecaster):
    """Learns each series alone; one that cannot be learned gets no forecast, and the state says why.

    The state's arrays have a row per series, NaN for those declined; `facts["declined"]` has the reasons by key.
    What was learned belongs to a place in time, so arrays also carry `first`, the grid position learning began at.
    """

    panel_wide: ClassVar[bool] = False
    simulated: ClassVar[bool] = False  # ranges come from simulated paths, although there are `spreads_of`

    @abstractmethod
    def learn_series(self, known: Panel, index: int, work: Work) -> dict[str, Any]:
        """What is learned of one series: arrays or numbers by name, the same shapes for all series.

        `least` points of it are known. A name that begins with “~” is a plain fact of this series. Raises
        `ProteronError` where it must decline.
        """

    @abstractmethod
    def means_of(self, learned: dict[str, Any], values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points (n_origins,) of `values` (n,), from where learning began."""

    def learn(self, known: Panel, work: Work) -> ForecasterState:
        rows: list[dict[str, Any] | None] = []
        declined: dict[str, str] = {}
        for index, key in enumerate(known.keys):
            try:
                refuse_huge(known.series(index))
                self._refuse_few(known.series(index))
                rows.append(self.learn_series(known, index, work))
            except ProteronError as error:
                declined[key] = error.message
                rows.append(None)
        arrays: dict[str, Any] = {"first": known.starts.astype(np.int64)}
        made = [row for row in rows if row is not None]
        for name in made[0] if made else ():
            if not name.startswith("~"):
                arrays[name] = _stacked([None if row is None else np.asarray(row[name]) for row in rows])
        if 1 < len(made) <= _MOST_TOGETHER:
            arrays["together"] = self._together(known, rows)
        facts: dict[str, Any] = {"declined": declined}
        told = {key: {name[1:]: value for name, value in row.items() if name.startswith("~")}
                for key, row in zip(known.keys, rows, strict=True) if row is not None}  # fmt: skip
        if any(told.values()):
            facts["series"] = told
        return ForecasterState(known.keys, arrays, facts)

    def _refuse_few(self, values: Floats) -> None:
        there = int(np.isfinite(values).sum())
        if there < self.least:
            title = f"{self.title[0].upper()}{self.title[1:]}"
            raise TooShortError(f"{title} needs {self.least} known points; there are {there}.", field="until")

    def _together(self, known: Panel, rows: list[dict[str, Any] | None]) -> Floats:
        """Correlations (n_series, n_series) of one-step errors over the last points; 0 where two hardly overlap."""
        end = known.end
        errors = np.full((min(_JOINT, end), len(known)), np.nan)
        for index, row in enumerate(rows):
            if row is None:
                continue
            start, length = int(known.starts[index]), int(known.lengths[index])
            at = np.arange(max(0, end - len(errors) - start), length)
            learned = row | {"first": start, "outside": self.outside(known, index, start)}
            learned |= {name: np.asarray(value) for name, value in row.items() if not name.startswith("~")}
            values = np.ascontiguousarray(known.series(index))
            gaps = values[at] - self.means_of(learned, values, at, 1)[:, 0]
            errors[at + start - (end - len(errors)), index] = gaps
        present = np.isfinite(errors)
        unit = np.where(present, errors - np.nanmean(np.where(present.any(axis=0), errors, 0.0), axis=0), 0.0)
        size = np.sqrt((unit**2).sum(axis=0))
        unit = unit / np.where(size > 0, size, np.inf)
        shared = present.T.astype(float) @ present
        found = np.where(shared >= 10, unit.T @ unit, 0.0)
        np.fill_diagonal(found, 1.0)
        return found

    def learned(self, state: ForecasterState, key: str) -> dict[str, Any] | None:
        """What was learned of one series, by name; None where it was declined."""
        if key in state.facts["declined"]:
            return None
        row = state.row(key)
        told = state.facts.get("series", {}).get(key, {})
        return {name: array[row] for name, array in state.arrays.items()} | {f"~{n}": v for n, v in told.items()}

    def means(self, state: ForecasterState, panel: Panel, origins: Ints, horizon: int) -> Floats:
        out = np.full((len(panel), len(origins), horizon), np.nan)
        for index, key in enumerate(panel.keys):
            learned = self.learned(state, key)
            if learned is None:
                continue
            values, first = self._since(learned, panel, index)
            learned["outside"] = self.outside(panel, index, first)
            at = origins - first
            possible = (at >= 0) & (at <= len(values))
            if possible.any():
                out[index, possible] = self.means_of(learned, values, at[possible], horizon)
        return out

    def outside(self, panel: Panel, index: int, first: int) -> Any:
        """What is known besides the series from grid position `first` on, handed on as `learned["outside"]`."""
        return None

    @staticmethod
    def _since(learned: dict[str, Any], panel: Panel, index: int) -> tuple[Floats, int]:
        """Values of a series from where learning began on, and that grid position."""
        first, start = int(learned["first"]), int(panel.starts[index])
        values = panel.series(index)
        if first > start:
            return np.ascontiguousarray(values[first - start :]), first
        return np.concatenate([np.full(start - first, np.nan), values]), first

    def spreads_of(self, learned: dict[str, Any], values: Floats, at: int, horizon: int) -> Floats | None:
        """Standard deviations (horizon,) after `at` points, None where there is no theory."""
        return None

    def paths_of(
        self, learned: dict[str, Any], values: Floats, at: int, horizon: int, count: int, rng: np.random.Generator
    ) -> Floats | None:
        """Simulated paths (count, horizon) after `at` points, None where there is no theory.

        The first errors drawn, (count, horizon), must be those of one step: they come correlated with other series'.
        """
        return None

    def ranges(
        self, state: ForecasterState, panel: Panel, origin: int, horizon: int, levels: Sequence[float]
    ) -> Floats | None:
        """Normal ranges by theory; where a series has none, quantiles of simulated paths."""
        out = np.full((len(levels), 2, len(panel), horizon), np.nan)
        some = False
        for index, key in enumerate(panel.keys):
            learned = self.learned(state, key)
            if learned is None:
                some = True
                continue
            values, first = self._since(learned, panel, index)
            learned["outside"] = self.outside(panel, index, first)
            at = origin - first
            if not 0 <= at <= len(values):
                continue
            open_for = _open_gap(values, at)
            spread = None
            if not self.simulated:
                spread = self.spreads_of(learned, values, at - open_for, horizon + open_for)
            if spread is not None:
                mean = self.means_of(learned, values, np.array([at]), horizon)[0]
                out[:, :, index] = normal_bounds(mean, spread[open_for:], levels)
                some = True
                continue
            rng = np.random.default_rng([at, index])
            paths = self.paths_of(learned, values, at - open_for, horizon + open_for, _PATHS, rng)
            if paths is not None:
                ends = [[(1 - level) / 2, (1 + level) / 2] for level in levels]
                bounds = np.quantile(paths[:, open_for:], np.ravel(ends), axis=0)
                out[:, :, index] = bounds.reshape(len(levels), 2, horizon)
                some = True
        return out if some else None

    def simulate(
        self, state: ForecasterState, panel: Panel, origin: int, horizon: int, count: int, seed: int
    ) -> Floats | None:
        out = np.full((count, len(panel), horizon), np.nan)
        shared = self._shared_noise(state, panel, count, horizon, seed)
        some = False
        for index, key in enumerate(panel.keys):
            learned = self.learned(state, key)
            if learned is None:
                continue
            values, first = self._since(learned, panel, index)
            learned["outside"] = self.outside(panel, index, first)
            if not 0 <= origin - first <= len(values):
                continue
            open_for = _open_gap(values, origin - first)
            rng = Draws([seed, state.row(key)], None if shared is None else shared[index], open_for)
            paths = self.paths_of(learned, values, origin - first - open_for, horizon + open_for, count, rng)
            if paths is not None:
                out[:, index] = paths[:, open_for:]
                some = True
        return out if some else None

    @staticmethod
    def _shared_noise(state: ForecasterState, panel: Panel, count: int, horizon: int, seed: int) -> Floats | None:
        """Standard normal draws (n_series, count, horizon) with the correlation that one-step errors had."""
        together = state.arrays.get("together")
        if together is None or len(panel) < 2:
            return None
        rows = [state.row(key) for key in panel.keys]
        values, vectors = np.linalg.eigh(together[np.ix_(rows, rows)])
        root = vectors * np.sqrt(np.maximum(values, 0.0))
        root /= np.sqrt((root**2).sum(axis=1, keepdims=True))
        draws = np.random.default_rng([seed, len(panel)]).normal(size=(len(rows), count, horizon))
        return np.asarray(np.einsum("ij,jch->ich", root, draws))

    def criteria(self, state: ForecasterState, key: str) -> dict[str, float]:
        """From `loglik`, `free` numbers estimated and `count` of points, where these were learned."""
        learned = self.learned(state, key)
        if learned is None or "loglik" not in learned:
            return {}
        return information(float(learned["loglik"]), int(learned["free"]), int(learned["count"]))

    def summary(self, state: ForecasterState, key: str) -> str:
        learned = self.learned(state, key)
        if learned is None:
            return f"No forecast: {state.facts['declined'][key]}"
        return self.summary_of(learned)

    def summary_of(self, learned: dict[str, Any]) -> str:
        """What was learned of one series, in one sentence."""
        return f"{self.title}."


_PATHS = 5000
_LARGEST = 1e140
_LONGEST_GAP = 1000
_JOINT = 1000
_MOST_TOGETHER = 200


def _open_gap(values: Floats, at: int) -> int:
    """How many points just before `at` are missing, at most the last thousand; steps ahead are counted from there."""
    known = np.flatnonzero(np.isfinite(values[max(at - _LONGEST_GAP, 0) : at]))
    return min(at, _LONGEST_GAP) - int(known[-1]) - 1 if len(known) else 0


def spread_out(noise: Floats, weights: Floats) -> Floats:
    """What errors (count, horizon) add up to when each goes on with `weights` (horizon,)."""
    out = np.zeros_like(noise)
    for back in range(noise.shape[1]):
        out[:, back:] += weights[back] * noise[:, : noise.shape[1] - back]
    return out


class Draws(np.random.Generator):
    """A source of random numbers whose first matrix of normal ones is given, behind `alone` columns of its own."""

    def __init__(self, seed: Any, first: Floats | None = None, alone: int = 0) -> None:
        super().__init__(np.random.PCG64(seed))
        self._first = first
        if first is not None and alone:
            self._first = np.concatenate([super().normal(size=(len(first), alone)), first], axis=1)

    def normal(self, loc: Any = 0.0, scale: Any = 1.0, size: Any = None) -> Any:
        if self._first is not None and size == self._first.shape:
            given, self._first = self._first, None
            return loc + scale * given
        return super().normal(loc, scale, size)


def _stacked(rows: list[Any]) -> Any:
    """Rows under each other, declined ones and missing ends as NaN."""
    if all(row is None or row.shape == () for row in rows):
        return np.array([np.nan if row is None else float(row) for row in rows])
    shapes = [row.shape for row in rows if row is not None]
    shape = tuple(max(each) for each in zip(*shapes, strict=True)) if shapes and shapes[0] else ()
    out = np.full((len(rows), *shape), np.nan)
    for place, row in enumerate(rows):
        if row is not None:
            out[place][tuple(slice(0, size) for size in row.shape)] = row
    return out
