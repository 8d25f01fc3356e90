"""Naive forecasters: the bar that everything else has to clear.

Ranges take the residuals as normal and independent: Hyndman & Athanasopoulos 2021, § 5.5.
"""

from abc import abstractmethod
from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.forecasters.forecaster import ForecasterState, Work
from proteron.core.forecasters.local import Learned, LocalForecaster
from proteron.core.forecasters.noise import Noise
from proteron.core.panel import Floats, Panel
from proteron.core.phases import last_known, previous_of_phase
from proteron.core.timeline import Ints

_MOST_AVERAGED = 200


class Baseline(LocalForecaster):
    """Forecasts with hardly anything to learn; `spread` is that of one-step errors inside what is known."""

    family: ClassVar[str] = "baseline"
    rehearsals: ClassVar[tuple[float, ...]] = ()  # the bar, as it is known
    can: ClassVar[tuple[str, ...]] = ("gaps", "ranges")

    def learn_series(self, known: Panel, index: int, work: Work) -> Learned:
        """What is learned of one series; raises `ProteronError` where it must decline."""
        values = known.series(index)
        count = int(np.isfinite(values).sum())
        learned = Learned(self.look(np.ascontiguousarray(values), known))
        gaps = values - self.means_of(learned, values, np.arange(len(values)), 1)[:, 0]
        gaps = gaps[np.isfinite(gaps)]
        spent = self.spent(learned)
        spread = float(np.sqrt((gaps**2).sum() / max(len(gaps) - spent, 1))) if len(gaps) else 0.0
        return learned | {"spread": spread, "count": count}

    def spent(self, learned: Learned) -> int:
        """Numbers estimated besides the spread."""
        return 0

    def look(self, values: Floats, known: Panel) -> dict[str, Any]:
        """What is learned besides the spread."""
        return {}

    @abstractmethod
    def paths_around(self, learned: Learned, noise: Floats, rng: np.random.Generator) -> Floats:
        """Deviations of paths from the mean, from independent one-step errors `noise` (count, horizon)."""

    @abstractmethod
    def growth(self, learned: Learned, horizon: int) -> Floats:
        """Variances of the steps ahead in those of one-step errors, (horizon,)."""

    def spreads_of(self, learned: Learned, values: Floats, at: int, horizon: int) -> Floats | None:
        """Standard deviations (horizon,) after `at` points, by theory."""
        return float(learned["spread"]) * np.sqrt(self.growth(learned, horizon))

    def paths_of(self, learned: Learned, values: Floats, at: int, noise: Noise) -> Floats | None:
        """Paths (count, horizon) after `at` points, driven by the errors of `noise`."""
        horizon = noise.errors.shape[1]
        mean = self.means_of(learned, values, np.array([at]), horizon)[0]
        return mean + self.paths_around(learned, float(learned["spread"]) * noise.errors, noise.rng)


def _too_few_cycles(known: Panel, period: int | None) -> str | None:
    period = period or known.axis.step.season
    there = int(np.isfinite(known.values).sum())
    return f"Not one whole cycle of {period} steps is known." if there < period else None


class LastValue(Baseline):
    """The last known value, for every step ahead."""

    title: ClassVar[str] = "last value"
    kind: Literal["last_value"] = "last_value"

    def means_of(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points of `values` (n_points,)."""
        return np.repeat(last_known(values, at)[:, None], horizon, axis=1)

    def growth(self, learned: Learned, horizon: int) -> Floats:
        """Variances of the steps ahead in those of one-step errors, (horizon,)."""
        return np.arange(1.0, horizon + 1)

    def paths_around(self, learned: Learned, noise: Floats, rng: np.random.Generator) -> Floats:
        """Deviations of paths (count, horizon) from the mean, from one-step errors `noise`."""
        return np.cumsum(noise, axis=1)

    def summary_of(self, learned: Learned) -> str:
        """What was learned of one series, in one sentence."""
        return "Every step ahead equals the last known value."


class SeasonalLastValue(Baseline):
    """The last known value of the same phase; where it was never known, the last value."""

    title: ClassVar[str] = "same season last cycle"
    can: ClassVar[tuple[str, ...]] = ("seasons", "gaps", "ranges")
    kind: Literal["seasonal_last_value"] = "seasonal_last_value"
    period: int | None = Field(
        None, ge=1, title="Period", description="Steps in a cycle; empty: the step's own season."
    )

    def look(self, values: Floats, known: Panel) -> dict[str, Any]:
        """What is learned of one series (n_points,), by name."""
        return {"period": self.period or known.axis.step.season}

    def objection(self, known: Panel) -> str | None:
        """What speaks against a panel of one series that has points enough; None: nothing."""
        return _too_few_cycles(known, self.period)

    def means_of(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points of `values` (n_points,)."""
        period = int(learned["period"])
        references = previous_of_phase(np.ascontiguousarray(values), period)
        ahead = at[:, None] + np.arange(horizon) % period
        return np.where(np.isnan(references[ahead]), last_known(values, at)[:, None], references[ahead])

    def growth(self, learned: Learned, horizon: int) -> Floats:
        """Variances of the steps ahead in those of one-step errors, (horizon,)."""
        return np.asarray(1.0 + np.floor(np.arange(horizon) / int(learned["period"])))

    def paths_around(self, learned: Learned, noise: Floats, rng: np.random.Generator) -> Floats:
        """Deviations of paths (count, horizon) from the mean, from one-step errors `noise`."""
        out = noise.copy()
        period = int(learned["period"])
        for h in range(period, noise.shape[1]):
            out[:, h] += out[:, h - period]
        return out

    def summary_of(self, learned: Learned) -> str:
        """What was learned of one series, in one sentence."""
        return f"Every step equals the last known value {int(learned['period'])} steps or whole cycles before it."

    @property
    def label(self) -> str:
        """A short name with the settings that matter."""
        return f"{self.title}, {self.period}" if self.period else self.title


class Drift(Baseline):
    """The last value, carried on along the line from the first to the last known value."""

    title: ClassVar[str] = "drift"
    can: ClassVar[tuple[str, ...]] = ("trend", "gaps", "ranges")
    kind: Literal["drift"] = "drift"

    def spent(self, learned: Learned) -> int:
        """Numbers estimated besides the spread."""
        return 1

    def look(self, values: Floats, known: Panel) -> dict[str, Any]:
        """What is learned of one series (n_points,), by name."""
        at = np.flatnonzero(~np.isnan(values))
        slope = (values[at[-1]] - values[at[0]]) / (at[-1] - at[0]) if len(at) > 1 else 0.0
        return {"slope": slope, "steps": max(int(at[-1] - at[0]), 1)}

    def means_of(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points of `values` (n_points,)."""
        return last_known(values, at)[:, None] + float(learned["slope"]) * np.arange(1, horizon + 1)

    def growth(self, learned: Learned, horizon: int) -> Floats:
        """Variances of the steps ahead in those of one-step errors, (horizon,)."""
        steps = np.arange(1.0, horizon + 1)
        return steps * (1 + steps / float(learned["steps"]))

    def paths_around(self, learned: Learned, noise: Floats, rng: np.random.Generator) -> Floats:
        """Deviations of paths (count, horizon) from the mean, from one-step errors `noise`."""
        doubt = rng.normal(scale=float(learned["spread"]) / np.sqrt(float(learned["steps"])), size=(len(noise), 1))
        return np.cumsum(noise, axis=1) + doubt * np.arange(1, noise.shape[1] + 1)

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Learned numbers of one series by name, in flat units."""
        learned = self.learned(state, key)
        return {} if learned is None else {"drift": float(learned["slope"])}

    def standard_errors(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Standard errors by parameter, where theory gives them."""
        learned = self.learned(state, key)
        return {} if learned is None else {"drift": float(learned["spread"] / np.sqrt(learned["steps"]))}

    def summary_of(self, learned: Learned) -> str:
        """What was learned of one series, in one sentence."""
        return f"The last known value, plus {learned['slope']:.4g} per step."


class _Level(Baseline):
    """Forecasts that stay at a level; their errors are independent, their level is known with some doubt."""

    def doubt(self, learned: Learned) -> float:
        """Variance of the level in that of one-step errors."""
        return 0.0

    def growth(self, learned: Learned, horizon: int) -> Floats:
        """Variances of the steps ahead in those of one-step errors, (horizon,)."""
        return np.full(horizon, 1.0 + self.doubt(learned))

    def paths_around(self, learned: Learned, noise: Floats, rng: np.random.Generator) -> Floats:
        """Deviations of paths (count, horizon) from the mean, from one-step errors `noise`."""
        scale = float(learned["spread"]) * np.sqrt(self.doubt(learned))
        return noise + rng.normal(scale=scale, size=(len(noise), 1))


class Mean(_Level):
    """The mean of all known values, for every step ahead."""

    title: ClassVar[str] = "mean"
    kind: Literal["mean"] = "mean"

    def spent(self, learned: Learned) -> int:
        """Numbers estimated besides the spread."""
        return 1

    def look(self, values: Floats, known: Panel) -> dict[str, Any]:
        """What is learned of one series (n_points,), by name."""
        return {"mean": float(np.nanmean(values))}

    def means_of(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points of `values` (n_points,)."""
        return np.full((len(at), horizon), float(learned["mean"]))

    def doubt(self, learned: Learned) -> float:
        return 1.0 / float(learned["count"])

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Learned numbers of one series by name, in flat units."""
        learned = self.learned(state, key)
        return {} if learned is None else {"mean": float(learned["mean"])}

    def standard_errors(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Standard errors by parameter, where theory gives them."""
        learned = self.learned(state, key)
        return {} if learned is None else {"mean": float(learned["spread"] / np.sqrt(learned["count"]))}

    def summary_of(self, learned: Learned) -> str:
        """What was learned of one series, in one sentence."""
        return f"Every step ahead equals the mean so far, {learned['mean']:.6g}."


class SeasonalMean(_Level):
    """The mean of all known values of the same phase; where there is none, the mean of all."""

    title: ClassVar[str] = "seasonal mean"
    can: ClassVar[tuple[str, ...]] = ("seasons", "gaps", "ranges")
    kind: Literal["seasonal_mean"] = "seasonal_mean"
    period: int | None = Field(None, ge=1, title="Period", description="Empty: the step's own season.")

    def look(self, values: Floats, known: Panel) -> dict[str, Any]:
        """What is learned of one series (n_points,), by name."""
        period = self.period or known.axis.step.season
        phases, present = np.arange(len(values)) % period, np.isfinite(values)
        counts = np.bincount(phases[present], minlength=period)
        sums = np.bincount(phases[present], weights=values[present], minlength=period)
        figure = np.where(counts > 0, sums / np.maximum(counts, 1), np.nanmean(values))
        seen = np.where(counts > 0, counts, np.nan)
        return {"figure": figure, "period": period, "cycles": max(float(counts.mean()), 1.0), "seen": seen}

    def spent(self, learned: Learned) -> int:
        """Numbers estimated besides the spread."""
        return int(learned["period"])

    def objection(self, known: Panel) -> str | None:
        """What speaks against a panel of one series that has points enough; None: nothing."""
        return _too_few_cycles(known, self.period)

    def means_of(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points of `values` (n_points,)."""
        period = int(learned["period"])
        return np.asarray(learned["figure"][(at[:, None] + np.arange(horizon)) % period])

    def doubt(self, learned: Learned) -> float:
        return 1.0 / float(learned["cycles"])

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Learned numbers of one series by name, in flat units."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        return {f"phase {i + 1}": float(value) for i, value in enumerate(learned["figure"][: int(learned["period"])])}

    def standard_errors(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Standard errors by parameter, where theory gives them."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        errors = float(learned["spread"]) / np.sqrt(learned["seen"][: int(learned["period"])])
        return {f"phase {i + 1}": float(value) for i, value in enumerate(errors)}

    def summary_of(self, learned: Learned) -> str:
        """What was learned of one series, in one sentence."""
        figure = learned["figure"][: int(learned["period"])]
        return f"The mean of each of {len(figure)} phases, from {figure.min():.4g} to {figure.max():.4g}."


class MovingAverage(_Level):
    """The mean of the last known points, as many as asked or as would have done best one step ahead."""

    title: ClassVar[str] = "moving average"
    cost: ClassVar[float] = 30.0
    kind: Literal["moving_average"] = "moving_average"
    length: int | None = Field(None, ge=1, title="Length", description="Points; empty: chosen by one-step error.")

    def look(self, values: Floats, known: Panel) -> dict[str, Any]:
        """What is learned of one series (n_points,), by name."""
        if self.length is not None:
            return {"length": self.length}
        most = min(_MOST_AVERAGED, max(len(values) // 2, 1))
        if np.isfinite(values).sum() < 4:
            return {"length": 1}
        from_where = np.arange(len(values)) >= most  # every length is judged on the same points
        errors = []
        for length in range(1, most + 1):
            gaps = (values - _mean_of_last(values, length)[:-1])[from_where]
            gaps = gaps[np.isfinite(gaps)]
            errors.append((gaps**2).mean() if len(gaps) else np.inf)
        return {"length": int(np.argmin(errors)) + 1}

    def means_of(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points of `values` (n_points,)."""
        return np.repeat(_mean_of_last(values, int(learned["length"]))[at][:, None], horizon, axis=1)

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Learned numbers of one series by name, in flat units."""
        learned = self.learned(state, key)
        return {} if learned is None else {"length": float(learned["length"])}

    def summary_of(self, learned: Learned) -> str:
        """What was learned of one series, in one sentence."""
        return f"Every step ahead equals the mean of the last {int(learned['length'])} known points."


def _mean_of_last(values: Floats, length: int) -> Floats:
    """Mean of the last `length` known values before each place 0 … n, of fewer where there are not so many."""
    present = np.flatnonzero(np.isfinite(values))
    known = values[present]
    out = np.full(len(values) + 1, np.nan)
    if len(known):
        centre = known[0]  # no later one: what lies after a place changes not a bit of what is before
        sums = np.concatenate([[0.0], np.cumsum(known - centre)])
        ends = np.arange(1, len(known) + 1)
        starts = np.maximum(ends - length, 0)
        means = centre + (sums[ends] - sums[starts]) / (ends - starts)
        rank = np.searchsorted(present, np.arange(len(values) + 1), side="left")
        out = np.where(rank > 0, means[np.maximum(rank - 1, 0)], np.nan)
    return out


class Zero(_Level):
    """Zero for every step ahead: what a flattened series is expected to be."""

    title: ClassVar[str] = "zero"
    kind: Literal["zero"] = "zero"

    def means_of(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points of `values` (n_points,)."""
        return np.zeros((len(at), horizon))

    def summary_of(self, learned: Learned) -> str:
        """What was learned of one series, in one sentence."""
        return "Every step ahead is zero."
