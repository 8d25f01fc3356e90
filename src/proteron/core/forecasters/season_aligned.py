"""Ridge on what was at the same place in one or two seasons, one per series and bucket of steps ahead."""

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field, field_validator

from proteron.core.errors import TooShortError
from proteron.core.forecasters.forecaster import ForecasterState, Work
from proteron.core.forecasters.local import Learned, LocalForecaster
from proteron.core.forecasters.ridge import ridge_weights
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints

_BUCKETS = 8  # of steps ahead, each with coefficients of its own
_SHORT, _LONG, _FEWEST = 7, 4, 3  # cycles of the shorter and the longer season that are averaged; at least
_ROWS = 8  # without which nothing is learned
_BOUND = 1.345  # robust deviations from which errors weigh less (Huber 1964)
_FARTHEST = 30.0  # seasonal differences
_CELLS_AT_ONCE = 1_000_000


class SeasonAlignedRidge(LocalForecaster):
    """For every step ahead: what was at the same place in the last cycles of a short and of a long season, the mean
    place of that kind carried on from the last cycles and points, and how far ahead it is.

    All features are less the mean of the last long season, in mean absolute seasonal differences. Ridge (Hoerl &
    Kennard 1970) over some origins, reweighted by Huber's function; steps are learned in eight buckets.
    """

    title: ClassVar[str] = "season-aligned ridge"
    family: ClassVar[str] = "windows"
    can: ClassVar[tuple[str, ...]] = ("trend", "seasons", "gaps")
    cost: ClassVar[float] = 15.0
    least: ClassVar[int] = 16
    rehearsals: ClassVar[tuple[float, ...]] = ()
    kind: Literal["season_aligned_ridge"] = "season_aligned_ridge"
    periods: tuple[int, ...] | None = Field(
        None, max_length=2, title="Seasons", description="In points, the shorter first; empty: the step's own."
    )
    origins: int = Field(60, ge=8, le=5_000, title="Origins", description="From how many, evenly spaced, it learns.")
    strength: float = Field(0.01, gt=0, title="Strength", description="Penalty on squared coefficients, a row.")

    @field_validator("periods")
    @classmethod
    def _shorter_first(cls, periods: tuple[int, ...] | None) -> tuple[int, ...] | None:
        if periods is not None and (not periods or min(periods) < 1 or list(periods) != sorted(set(periods))):
            raise ValueError("Seasons are one or two lengths in points, the shorter first.")
        return periods

    @property
    def checked(self) -> bool:
        """Its errors are those of many steps ahead."""
        return False

    def _seasons(self, known: Panel) -> tuple[int, ...]:
        """Seasons of the settings or the step; the longer one in whole cycles of the shorter."""
        if self.periods is not None:
            return self.periods
        lengths = [round(each) for each in known.axis.step.seasons[:2]] or [1]
        return tuple(lengths[0] * max(round(each / lengths[0]), 1) for each in lengths)

    def learn_series(self, known: Panel, index: int, work: Work) -> Learned:
        """What is learned of one series; raises `ProteronError` where it must decline."""
        seasons = self._seasons(known)
        values, offset = filled(known.series(index), seasons[0])
        steps = work.horizon or seasons[0]
        cycles = cycles_within(len(values) - steps - _ROWS, seasons)
        needed = max((season * count for season, count in zip(seasons, cycles, strict=True) if count), default=0)
        if not cycles[0]:
            raise TooShortError(
                f"{self.title}: {_FEWEST} cycles of {seasons[0]} points and {steps + _ROWS} points more are needed; "
                f"{len(values)} are known.", field="until",
            )  # fmt: skip
        first, last = needed, len(values) - steps
        at = np.unique(np.linspace(first, last, min(self.origins, last - first + 1)).astype(np.int64))
        apart = np.abs(values[seasons[0] :] - values[: -seasons[0]]).mean()
        unit = float(apart) if apart > 0 else max(float(np.abs(values).max()), 1.0) * 1e-3
        rows, bases = features_from(values, at, seasons, cycles, steps, steps, unit)
        targets = ((values[at[:, None] + np.arange(steps)] - bases) / unit).clip(-_FARTHEST, _FARTHEST)
        weights, intercepts, count = [], [], 0
        for mine in np.array_split(np.arange(steps), min(_BUCKETS, steps)):
            work.go_on()
            inputs, goals = rows[:, mine].reshape(-1, rows.shape[2]), targets[:, mine].ravel()
            found, intercept = _robust_ridge(inputs, goals, self.strength)
            weights.append(found)
            intercepts.append(intercept)
            count += len(goals)
        return Learned({
            "weights": np.array(weights), "intercepts": np.array(intercepts), "unit": unit, "offset": offset,
            "steps": steps, "rows": count, "seasons": np.array(seasons, dtype=float),
            "cycles": np.array(cycles, dtype=float),
        })  # fmt: skip

    def means_of(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points of `values` (n_points,)."""
        seasons, cycles = (_whole(learned[name]) for name in ("seasons", "cycles"))
        offset, steps, unit = int(learned["offset"]), int(learned["steps"]), float(learned["unit"])
        there, _ = filled(values[offset:], seasons[0])
        needed = max(season * count for season, count in zip(seasons, cycles, strict=True) if count)
        weights, intercepts = learned["weights"], learned["intercepts"]
        some = np.isfinite(intercepts)
        bucket = np.concatenate(
            [np.full(len(each), place) for place, each in enumerate(np.array_split(np.arange(steps), some.sum()))]
        )[np.minimum(np.arange(horizon), steps - 1)]
        out = np.full((len(at), horizon), np.nan)
        local = at - offset
        possible = np.flatnonzero((local >= needed) & (local <= len(there)))
        for chunk in np.array_split(possible, max(1, -(-len(possible) * max(needed, horizon) // _CELLS_AT_ONCE))):
            features, base = features_from(there, local[chunk], seasons, cycles, horizon, steps, unit)
            said = (features * weights[bucket, : features.shape[2]]).sum(axis=2) + intercepts[bucket]
            out[chunk] = base + unit * said.clip(-_FARTHEST, _FARTHEST)
        return out

    def look_back(self, state: ForecasterState, known: Panel) -> int:
        """Points of the cycles that it reads."""
        seasons, cycles = state.arrays.get("seasons"), state.arrays.get("cycles")
        if seasons is None or cycles is None:
            return 1
        return int(np.nanmax(np.nan_to_num(seasons) * np.nan_to_num(cycles)))

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Coefficients of the first bucket by feature, in seasonal differences."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        names = feature_names(_whole(learned["seasons"]), _whole(learned["cycles"]))
        return {name: float(each) for name, each in zip(names, learned["weights"][0], strict=False)}

    def summary_of(self, learned: Learned) -> str:
        """What was learned of one series, in one sentence."""
        seasons, cycles = _whole(learned["seasons"]), _whole(learned["cycles"])
        told = " and ".join(f"{count} × {season}" for season, count in zip(seasons, cycles, strict=True) if count)
        rows, steps = int(learned["rows"]), int(learned["steps"])
        return f"Ridge on cycles of {told} points; {rows:,} rows learned, {steps} steps ahead."


def _whole(values: Any) -> tuple[int, ...]:
    return tuple(int(each) for each in np.asarray(values) if np.isfinite(each))


def cycles_within(points: int, seasons: tuple[int, ...]) -> tuple[int, ...]:
    """How many cycles of each season are read where so many points may be: 0 of one that does not fit three times."""
    most = (_SHORT, _LONG)
    counts = [min(most[place], points // season) for place, season in enumerate(seasons)]
    return tuple(count if count >= _FEWEST else 0 for count in counts)


def filled(values: Floats, season: int) -> tuple[Floats, int]:
    """Values from the first that is known on, and its place; missing ones as a season before, else the one before."""
    known = np.flatnonzero(np.isfinite(values))
    first = int(known[0]) if len(known) else len(values)
    out = np.array(values[first:], dtype=float)
    for at in np.flatnonzero(~np.isfinite(out)):
        out[at] = out[at - season] if at >= season else out[at - 1]
    return out, first


def features_from(
    values: Floats, origins: Ints, seasons: tuple[int, ...], cycles: tuple[int, ...], steps: int, reach: int,
    unit: float,
) -> tuple[Floats, Floats]:  # fmt: skip
    """Features (n_origins, n_steps, n_features) of steps after `origins`, and the bases (n_origins, 1) they count from.

    Steps beyond `reach`, as far as it was learned, count as the last of these.
    """
    columns: list[Floats] = []  # each (n_origins, n_steps) or (n_origins, 1)
    base = np.zeros((len(origins), 1))
    for place, (season, count) in enumerate(zip(seasons, cycles, strict=True)):
        if not count:
            continue
        seen = np.lib.stride_tricks.sliding_window_view(values, season * count)[origins - season * count]
        tail = seen.reshape(len(seen), count, season)
        means = tail.mean(axis=2)
        figure = (tail - means[:, :, None]).mean(axis=1)
        at = np.arange(steps) % season
        ahead_figure, last = figure[:, at], seen[:, -1:]
        columns += [tail[:, -back, at] for back in (1, 2, 3)]
        columns += [means[:, -1:] + ahead_figure, last + ahead_figure - figure[:, -1:]]
        columns += [means[:, [-back]] for back in (1, 2, 3)]
        rest = (tail - figure[:, None]).reshape(len(seen), count * season)
        spans = (3, max(season // 2, 1)) if place == 0 else (1, 6, seasons[0])
        columns += [rest[:, -span:].mean(axis=1, keepdims=True) + ahead_figure for span in spans]
        base = means[:, -1:]  # of the longest
    out = np.empty((len(origins), steps, len(columns) + 2))
    for place, column in enumerate(columns):
        out[:, :, place] = (column - base) / unit
    ahead = np.minimum(np.arange(1, steps + 1), reach)
    out[:, :, -2], out[:, :, -1] = ahead, ahead / reach
    return out, base


def feature_names(seasons: tuple[int, ...], cycles: tuple[int, ...]) -> list[str]:
    """What `features_from` gives, by name."""
    names = []
    for place, (season, count) in enumerate(zip(seasons, cycles, strict=True)):
        if not count:
            continue
        names += [f"{back} × {season} before" for back in (1, 2, 3)]
        names += [f"mean {season} and figure", f"last and figure {season}"]
        names += [f"mean {season}"] + [f"mean {season}, {back} before" for back in (1, 2)]
        spans = (3, max(season // 2, 1)) if place == 0 else (1, 6, seasons[0])
        names += [f"rest {span} and figure {season}" for span in spans]
    return [*names, "step ahead", "share of the way"]


def _robust_ridge(rows: Floats, targets: Floats, strength: float) -> tuple[Floats, float]:
    """Coefficients (n_features,) and intercept of standardised rows, reweighted twice by Huber's function."""
    centre, spread = rows.mean(axis=0), rows.std(axis=0)
    spread = np.where(spread > 1e-9, spread, np.inf)
    inputs, weights = (rows - centre) / spread, np.ones(len(rows))
    found, middle = np.zeros(rows.shape[1]), 0.0
    for _ in range(3):
        middle = float(np.average(targets, weights=weights))
        level = np.average(inputs, axis=0, weights=weights)
        found = ridge_weights(inputs - level, (targets - middle)[:, None], strength * len(rows), weights)[:, 0]
        middle -= float(level @ found)
        errors = np.abs(targets - inputs @ found - middle)
        scale = 1.4826 * float(np.median(errors))
        weights = np.minimum(1.0, _BOUND * scale / np.maximum(errors, 1e-300)) if scale > 0 else np.ones(len(rows))
    slopes = np.where(np.isinf(spread), 0.0, found / spread)
    return slopes, middle - float(centre @ slopes)
