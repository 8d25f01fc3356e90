"""What forecasters share that learn every series on its own: loops, declining with a reason, ranges, paths."""

import zlib
from abc import abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, ClassVar

import numpy as np

from proteron.core.errors import ProteronError, StoppedError, TooShortError
from proteron.core.forecasters.criteria import information
from proteron.core.forecasters.forecaster import (
    Forecaster,
    ForecasterState,
    Progress,
    Tried,
    Work,
    refuse_huge,
    unheard,
)
from proteron.core.forecasters.noise import Noise
from proteron.core.forecasters.ranges import normal_bounds
from proteron.core.forecasters.rehearsal import (
    LEAST,
    ORIGINS,
    PARTS,
    Looseness,
    factors_from,
    looseness,
    parts_of,
    rehearsed_steps,
    steps_after,
)
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints


@dataclass(frozen=True)
class Learned:
    """What was learned of one series: arrays and numbers by name, plain facts apart from them.

    `outside` is what is known besides the series' own values when it forecasts.
    """

    arrays: Mapping[str, Any]
    facts: Mapping[str, Any] = field(default_factory=dict)
    outside: Any = None

    def __getitem__(self, name: str) -> Any:
        return self.arrays[name]

    def __contains__(self, name: str) -> bool:
        return name in self.arrays

    def __or__(self, more: Mapping[str, Any]) -> "Learned":
        return replace(self, arrays={**self.arrays, **more})


class LocalForecaster(Forecaster):
    """Learns each series alone; one that cannot be learned gets no forecast, and the state says why.

    The state's arrays have a row per series, NaN for those declined; `facts["declined"]` has the reasons by key.
    What was learned belongs to a place in time, so arrays also carry `first`, the grid position learning began at.
    """

    panel_wide: ClassVar[bool] = False
    simulated: ClassVar[bool] = False  # ranges come from simulated paths, although there are `spreads_of`
    # Parts of what is known that are learned from anew, to widen ranges by how far they were off in what followed.
    rehearsals: ClassVar[tuple[float, ...]] = PARTS
    rehearsed_from: ClassVar[int] = ORIGINS  # places after the end of each part

    def guard(self, known: Panel) -> None:
        """Each series declines for itself."""

    def declined(self, state: ForecasterState) -> dict[str, str]:
        """Reasons by key of series without a forecast."""
        return dict(state.facts.get("declined", {}))

    def tried(self, state: ForecasterState, key: str) -> list[Tried]:
        """What was tried for one series before a form was taken."""
        told = state.facts.get("series", {}).get(key, {}).get("tried", [])
        return [Tried(each["form"], each.get("criterion", each.get("aicc")), each.get("reason", "")) for each in told]

    @property
    def checked(self) -> bool:
        """Whether residuals of a good fit are white."""
        return self.family != "baseline"

    def look_back(self, state: ForecasterState, known: Panel) -> int:
        """A few points to begin with, ten at most."""
        return min(10, max(len(known.values) // 10, 1))

    @abstractmethod
    def learn_series(self, known: Panel, index: int, work: Work) -> Learned:
        """What is learned of one series, the same shapes for all series; `least` points of it are known.

        Raises `ProteronError` where it must decline.
        """

    @abstractmethod
    def means_of(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points (n_origins,) of `values` (n,), from where learning began."""

    def learn(self, known: Panel, work: Work) -> ForecasterState:
        """Learn from flat values that end at the cutoff; raises `ProteronError` where that cannot be."""
        rows: list[Learned | None] = []
        declined: dict[str, str] = {}
        for index, key in enumerate(known.keys):
            work.go_on()
            try:
                refuse_huge(known.series(index))
                self._refuse_few(known.series(index))
                learned = self.learn_series(known, index, work)
                rows.append(learned | self._rehearse(known, index, learned, work))
            except StoppedError:
                raise
            except ProteronError as error:
                declined[key] = error.message
                rows.append(None)
            work.report(Progress((index + 1) / len(known), key))
        arrays: dict[str, Any] = {"first": known.starts.astype(np.int64)}
        made = [row for row in rows if row is not None]
        for name in made[0].arrays if made else ():
            arrays[name] = _stacked([None if row is None else np.asarray(row[name]) for row in rows])
        if 1 < len(made) <= _MOST_TOGETHER:
            arrays["together"] = self._together(known, rows)
        facts: dict[str, Any] = {"declined": declined}
        told = {key: dict(row.facts) for key, row in zip(known.keys, rows, strict=True) if row is not None}
        if any(told.values()):
            facts["series"] = told
        return ForecasterState(known.keys, arrays, facts)

    def as_chosen(self, learned: Learned, cut: int | None = None) -> "LocalForecaster":
        """Settings with what was chosen while learning, as far as they can be given: learns faster, and alike.

        With `cut`, to learn from so many points only: what was chosen without what follows them, where that is known.
        """
        return self

    def _rehearse(self, known: Panel, index: int, learned: Learned, work: Work) -> dict[str, Any]:
        """Learn from parts of a series and see how far ranges by theory are off in what follows each."""
        if not self.rehearsals:
            return {}
        alone = known.select([index])
        values, start = np.ascontiguousarray(alone.series(0)), int(alone.starts[0])
        count = int(np.isfinite(values).sum())
        if count < LEAST:
            return {"loosened": np.ones(1), "rehearsed": count}
        horizon = rehearsed_steps(count, work.horizon, alone.axis.step.season)
        quiet = replace(work, report=unheard)
        squares = [np.full((1, horizon), np.nan)]
        for cut, origins in parts_of(values, self.rehearsals, self.rehearsed_from):
            work.go_on()
            chosen = self.as_chosen(learned, cut)
            try:
                part = chosen.learn_series(alone.between(0, start + cut), 0, quiet)
            except StoppedError:
                raise
            except ProteronError:
                continue
            squares.append(chosen._squares(part, alone, values, origins, horizon))
        return {"loosened": factors_from(np.concatenate(squares), count), "rehearsed": count}

    def _squares(self, part: Learned, alone: Panel, values: Floats, origins: Ints, horizon: int) -> Floats:
        """Squared errors in those theory expects, (n_origins, horizon), NaN where the truth is not known."""
        start = int(alone.starts[0])
        learned = self._placed_at(part, alone, 0, start)
        apart = steps_after(values, origins, horizon) - self.means_of(learned, values, origins, horizon)
        out = np.full(apart.shape, np.nan)
        for row, origin in enumerate(origins.tolist()):
            spread = None if self.simulated else self.spreads_of(learned, values, origin, horizon)
            if spread is None:
                paths = self.paths_of(learned, values, origin, Noise.draw([origin], _DRAWN, horizon))
                if paths is None:
                    break
                low, high = np.quantile(paths, _ONE_SIGMA, axis=0)
                spread = (high - low) / 2
            np.divide(apart[row] ** 2, spread**2, out=out[row], where=spread > 0)
        return out

    def _placed_at(self, row: Learned, panel: Panel, index: int, first: int) -> Learned:
        """What was just learned of a series from grid position `first` on, as `means_of` and its like take it."""
        arrays = {name: np.asarray(value) for name, value in row.arrays.items()}
        return Learned(arrays, row.facts, self.outside(panel, index, first)) | {"first": first}

    def _refuse_few(self, values: Floats) -> None:
        there = int(np.isfinite(values).sum())
        if there < self.least:
            title = f"{self.title[0].upper()}{self.title[1:]}"
            raise TooShortError(f"{title} needs {self.least} known points; there are {there}.", field="until")

    def _together(self, known: Panel, rows: list[Learned | None]) -> Floats:
        """Correlations (n_series, n_series) of one-step errors over the last points; 0 where two hardly overlap."""
        end = known.end
        errors = np.full((min(_JOINT, end), len(known)), np.nan)
        for index, row in enumerate(rows):
            if row is None:
                continue
            start, length = int(known.starts[index]), int(known.lengths[index])
            at = np.arange(max(0, end - len(errors) - start), length)
            learned = self._placed_at(row, known, index, start)
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

    def learned(self, state: ForecasterState, key: str) -> Learned | None:
        """What was learned of one series; None where it was declined."""
        if key in self.declined(state):
            return None
        row = state.row(key)
        told = state.facts.get("series", {}).get(key, {})
        return Learned({name: array[row] for name, array in state.arrays.items()}, told)

    def _at(self, state: ForecasterState, panel: Panel, index: int) -> tuple[Learned, Floats, int] | None:
        """What was learned of a series, its values from where learning began on, and that grid position."""
        learned = self.learned(state, panel.keys[index])
        if learned is None:
            return None
        values, first = self._since(learned, panel, index)
        return replace(learned, outside=self.outside(panel, index, first)), values, first

    def means(self, state: ForecasterState, panel: Panel, origins: Ints, horizon: int) -> Floats:
        """Flat means (n_series, n_origins, horizon), each reading points before its origin only."""
        out = np.full((len(panel), len(origins), horizon), np.nan)
        for index in range(len(panel)):
            found = self._at(state, panel, index)
            if found is None:
                continue
            learned, values, first = found
            at = origins - first
            possible = (at >= 0) & (at <= len(values))
            if possible.any():
                out[index, possible] = self.means_of(learned, values, at[possible], horizon)
        return out

    def parts(self, state: ForecasterState, panel: Panel, key: str, origin: int, horizon: int) -> dict[str, Floats]:
        """What a flat forecast of one series is made of, (horizon,) each; empty where it is of one piece."""
        found = self._at(state, panel, panel.index(key))
        if found is None:
            return {}
        learned, values, first = found
        return self.parts_of(learned, values, origin - first, horizon) if 0 <= origin - first <= len(values) else {}

    def parts_of(self, learned: Learned, values: Floats, at: int, horizon: int) -> dict[str, Floats]:
        """What the means after `at` points are made of, (horizon,) each; empty where they are of one piece."""
        return {}

    def outside(self, panel: Panel, index: int, first: int) -> Any:
        """What is known besides the series from grid position `first` on, handed on as `learned.outside`."""
        return None

    @staticmethod
    def _since(learned: Learned, panel: Panel, index: int) -> tuple[Floats, int]:
        """Values of a series from where learning began on, and that grid position."""
        first, start = int(learned["first"]), int(panel.starts[index])
        values = panel.series(index)
        if first > start:
            return np.ascontiguousarray(values[first - start :]), first
        return np.concatenate([np.full(start - first, np.nan), values]), first

    def spreads_of(self, learned: Learned, values: Floats, at: int, horizon: int) -> Floats | None:
        """Standard deviations (horizon,) after `at` points, None where there is no theory."""
        return None

    def paths_of(self, learned: Learned, values: Floats, at: int, noise: Noise) -> Floats | None:
        """Paths after `at` points, one per row of `noise.errors` (count, horizon), None where there is no theory.

        The errors given are those of one step: they come correlated with other series'.
        """
        return None

    def ranges_from(
        self, state: ForecasterState, panel: Panel, origin: int, horizon: int, levels: Sequence[float], draws: int
    ) -> Floats | None:
        """Normal ranges by theory; where a series has none, quantiles of `draws` simulated paths."""
        out = np.full((len(levels), 2, len(panel), horizon), np.nan)
        some = False
        for index, key in enumerate(panel.keys):
            found = self._at(state, panel, index)
            if found is None:
                some = True
                continue
            learned, values, first = found
            if not 0 <= origin - first <= len(values):
                continue
            seed = [origin - first, zlib.crc32(key.encode())]
            bounds = self._bounds_of(learned, values, origin - first, horizon, levels, draws, seed)
            if bounds is not None:
                out[:, :, index] = bounds
                some = True
        return out if some else None

    def _bounds_of(
        self, learned: Learned, values: Floats, at: int, horizon: int, levels: Sequence[float], draws: int, seed: Any
    ) -> Floats | None:
        """Ends of ranges (n_levels, 2, horizon) of one series after `at` points."""
        open_for = _open_gap(values, at)
        if not self.simulated:
            spread = self.spreads_of(learned, values, at - open_for, horizon + open_for)
            if spread is not None:
                mean = self.means_of(learned, values, np.array([at]), horizon)[0]
                loose = self._looseness(learned, horizon + open_for)
                if loose is None:
                    return normal_bounds(mean, spread[open_for:], levels)
                spread = spread * loose.factor
                return normal_bounds(mean, spread[open_for:], levels, loose.freedom[open_for:])
        paths = self._loose_paths(learned, values, at - open_for, Noise.draw(seed, draws, horizon + open_for))
        if paths is None:
            return None
        ends = [[(1 - level) / 2, (1 + level) / 2] for level in levels]
        return np.quantile(paths[:, open_for:], np.ravel(ends), axis=0).reshape(len(levels), 2, horizon)

    @staticmethod
    def _looseness(learned: Learned, horizon: int) -> Looseness | None:
        """What rehearsals made of ranges by theory; None where there were none."""
        if "loosened" not in learned:
            return None
        return looseness(np.atleast_1d(learned["loosened"]), int(learned["rehearsed"]), horizon)

    def _loose_paths(self, learned: Learned, values: Floats, at: int, noise: Noise) -> Floats | None:
        """Paths (count, horizon) after `at` points, as far from the mean as rehearsals say.

        Within `limits` they are moved by how far they are between them, and never beyond.
        """
        paths = self.paths_of(learned, values, at, noise)
        count, horizon = noise.errors.shape
        loose = self._looseness(learned, horizon)
        if paths is None or loose is None:
            return paths
        scales = loose.scales(noise.rng.permutation((np.arange(count) + 0.5) / count))
        mean = self.means_of(learned, values, np.array([at]), horizon)[0]
        low, high = self.limits(learned)
        if np.isfinite(low) and paths.min() > low and mean.min() > low and max(paths.max(), mean.max()) < high:
            middle, apart = _log_odds(mean, low, high), _log_odds(paths, low, high)
            odds = np.exp(np.clip(middle + (apart - middle) * scales, -_FAR_OFF, _FAR_OFF))
            return np.asarray(low + (odds if np.isinf(high) else (high - low) * odds / (1 + odds)))
        return np.clip(mean + (paths - mean) * scales, low, high)

    def limits(self, learned: Learned) -> tuple[float, float]:
        """Between which values forecasts stay, where errors act by how far they are from either."""
        return -np.inf, np.inf

    def simulate(
        self, state: ForecasterState, panel: Panel, origin: int, horizon: int, count: int, seed: int
    ) -> Floats | None:
        """Flat joint paths from one origin, (count, n_series, horizon)."""
        out = np.full((count, len(panel), horizon), np.nan)
        shared = self.shared_noise(state, panel, count, horizon, seed)
        some = False
        for index, key in enumerate(panel.keys):
            found = self._at(state, panel, index)
            if found is None:
                continue
            learned, values, first = found
            if not 0 <= origin - first <= len(values):
                continue
            open_for = _open_gap(values, origin - first)
            mine = None if shared is None else shared[index]
            noise = Noise.draw([seed, state.row(key)], count, horizon + open_for, mine)
            paths = self._loose_paths(learned, values, origin - first - open_for, noise)
            if paths is not None:
                out[:, index] = paths[:, open_for:]
                some = True
        return out if some else None

    def shared_noise(self, state: ForecasterState, panel: Panel, count: int, horizon: int, seed: int) -> Floats | None:
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

    def likelihood_of(self, state: ForecasterState, key: str) -> str:
        """By family and the number of values it is of: differences taken leave fewer."""
        learned = self.learned(state, key)
        if learned is None or "count" not in learned:
            return self.title
        return f"{self.title} of {int(learned['count']):,} values"

    def summary(self, state: ForecasterState, key: str) -> str:
        """What was learned of one series, in one sentence."""
        learned = self.learned(state, key)
        if learned is None:
            return f"No forecast: {self.declined(state)[key]}"
        return self.summary_of(learned)

    def summary_of(self, learned: Learned) -> str:
        """What was learned of one series, in one sentence."""
        return f"{self.title}."


_DRAWN, _ONE_SIGMA = 200, (0.1586553, 0.8413447)
_FAR_OFF = 300.0
_LONGEST_GAP = 1000
_JOINT = 1000
_MOST_TOGETHER = 200


def _open_gap(values: Floats, at: int) -> int:
    """How many points just before `at` are missing, at most the last thousand; steps ahead are counted from there."""
    known = np.flatnonzero(np.isfinite(values[max(at - _LONGEST_GAP, 0) : at]))
    return min(at, _LONGEST_GAP) - int(known[-1]) - 1 if len(known) else 0


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


def _log_odds(values: Floats, low: float, high: float) -> Floats:
    """How far values (…) are from the lower limit, over how far from the upper one where there is one, logarithmic."""
    return np.asarray(np.log(values - low) - (0.0 if np.isinf(high) else np.log(high - values)))
