"""Random walks of growth: with drift, or drawn back to a level."""

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.errors import UnitsError
from proteron.core.forecasters.criteria import information
from proteron.core.forecasters.forecaster import ForecasterState, Work
from proteron.core.forecasters.local import Learned, LocalForecaster
from proteron.core.forecasters.minimise import errors_from
from proteron.core.forecasters.noise import Noise
from proteron.core.panel import Floats, Panel
from proteron.core.phases import previous_of_phase
from proteron.core.timeline import Ints

_WILDEST = 4.0  # variance of growth a step


class RandomWalkProcess(LocalForecaster):
    """Logarithms that walk with a drift (geometric Brownian motion), or are drawn back to a level as they walk.

    Exact for points that are missing: steps are as long as the time between known points (Ornstein & Uhlenbeck 1930
    for the one drawn back). Means are those of the value itself, so they lie above the middle of the range.
    """

    title: ClassVar[str] = "random walk of growth"
    family: ClassVar[str] = "volatility"
    rehearsals: ClassVar[tuple[float, ...]] = ()
    can: ClassVar[tuple[str, ...]] = ("trend", "gaps", "ranges")
    cost: ClassVar[float] = 20.0
    least: ClassVar[int] = 4
    kind: Literal["random_walk_process"] = "random_walk_process"
    reverting: bool = Field(False, title="Drawn back", description="To a level, by a share a step.")
    jointly: bool = Field(
        False, title="Paths together", description="Paths of several series keep the correlation their growth had."
    )

    def objection(self, known: Panel) -> str | None:
        """What speaks against a panel of one series that has points enough; None: nothing."""
        values = known.values[np.isfinite(known.values)]
        if len(values) and values.min() <= 0:
            return f"Growth needs values above zero; the smallest is {values.min():g}."
        return None

    def learn_series(self, known: Panel, index: int, work: Work) -> Learned:
        """What is learned of one series; raises `ProteronError` where it must decline."""
        values = known.series(index)
        at = np.flatnonzero(np.isfinite(values))
        if values[at].min() <= 0:
            raise UnitsError("Growth needs values above zero; this series has others.", field="until")
        logs, steps = np.log(values[at]), np.diff(at).astype(np.float64)
        count = len(steps)
        if self.reverting:
            learned = Learned(_drawn_back(logs, steps))
        else:
            moves = np.diff(logs)
            drift = moves.sum() / steps.sum()
            variance = float(((moves - drift * steps) ** 2 / steps).mean())
            loglik = -0.5 * float((np.log(2 * np.pi * max(variance, 1e-300) * steps) + 1).sum())
            doubt = {"error": np.sqrt(variance / steps.sum()), "spread_error": np.sqrt(2 / count)}
            told = {"drift": drift, "variance": variance, "pull": 0.0, "level": 0.0, "loglik": loglik}
            learned = Learned(told | doubt)
        if learned["variance"] > _WILDEST:
            raise UnitsError("Growth is so wild that the mean of what may come says nothing.", field="until")
        return learned | {"loglik": learned["loglik"] - float(logs[1:].sum()), "count": count}

    def _moments(self, learned: Learned, last: Floats, horizon: int) -> tuple[Floats, Floats]:
        """Mean (n, horizon) and variance (horizon,) of the logarithm."""
        ahead = np.arange(1.0, horizon + 1)
        variance, pull = float(learned["variance"]), float(learned["pull"])
        if not self.reverting:
            return last[:, None] + float(learned["drift"]) * ahead, variance * ahead
        kept = np.exp(-pull * ahead)
        level = float(learned["level"])
        return level + (last[:, None] - level) * kept, variance * (1 - kept**2) / (2 * pull)

    def means_of(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points of `values` (n_points,)."""
        last = previous_of_phase(np.ascontiguousarray(values), 1)[at]
        logs = np.log(np.where(last > 0, last, np.nan))
        mean, variance = self._moments(learned, logs, horizon)
        return np.exp(mean + 0.5 * variance)

    def shared_noise(self, state: ForecasterState, panel: Panel, count: int, horizon: int, seed: int) -> Floats | None:
        """Paths of one series are independent of another's unless asked for jointly."""
        return super().shared_noise(state, panel, count, horizon, seed) if self.jointly else None

    def paths_of(self, learned: Learned, values: Floats, at: int, noise: Noise) -> Floats | None:
        """Paths (count, horizon) after `at` points, driven by the errors of `noise`."""
        count, horizon = noise.errors.shape
        last = float(previous_of_phase(np.ascontiguousarray(values), 1)[at])
        if not last > 0:
            return None
        variance, pull = float(learned["variance"]), float(learned["pull"])
        logs, out = np.full(count, np.log(last)), np.empty((count, horizon))
        for h in range(horizon):
            error = noise.errors[:, h]
            if self.reverting:
                kept, level = np.exp(-pull), float(learned["level"])
                logs = level + (logs - level) * kept + np.sqrt(variance * (1 - kept**2) / (2 * pull)) * error
            else:
                logs = logs + float(learned["drift"]) + np.sqrt(variance) * error
            out[:, h] = np.exp(logs)
        return out

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Learned numbers of one series by name, in flat units."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        found = {"variance": float(learned["variance"])}
        if self.reverting:
            return {"pull": float(learned["pull"]), "level": float(np.exp(learned["level"]))} | found
        return {"drift": float(learned["drift"])} | found

    def standard_errors(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Standard errors by parameter, where theory gives them."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        doubt = {"variance": float(learned["variance"] * learned["spread_error"])}
        if self.reverting:
            pull, level = float(learned["pull"]), float(np.exp(learned["level"]))
            return {"pull": pull * float(learned["pull_error"]), "level": level * float(learned["error"])} | doubt
        return {"drift": float(learned["error"])} | doubt

    def criteria(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Log-likelihood and criteria of one series, where there is a likelihood."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        return information(float(learned["loglik"]), 3 if self.reverting else 2, int(learned["count"]))

    def summary_of(self, learned: Learned) -> str:
        """What was learned of one series, in one sentence."""
        spread = np.sqrt(float(learned["variance"]))
        if self.reverting:
            half, count = np.log(2) / max(float(learned["pull"]), 1e-300), int(learned["count"])
            if half > count:  # not even half the way in all that is known
                return f"Whether it is drawn back to a level cannot be told in {count} steps; spread {spread:.2%}."
            level = np.exp(learned["level"])
            return f"Drawn back to {level:.4g}, half the way in {half:.3g} steps; spread {spread:.2%}."
        return f"Grows by {learned['drift']:+.3%} a step, with a spread of {spread:.2%}."


def _drawn_back(logs: Floats, steps: Floats) -> dict[str, Any]:
    """Maximum likelihood of a process drawn back to a level, over a grid of pulls made finer twice."""

    def minus(numbers: Floats) -> float:
        """Minus the log-likelihood at the logarithms of pull and variance, and the level."""
        kept = np.exp(-np.exp(numbers[0]) * steps)
        wide = np.exp(numbers[1]) * (1 - kept**2) / (2 * np.exp(numbers[0]))
        rest = logs[1:] - numbers[2] - (logs[:-1] - numbers[2]) * kept
        return 0.5 * float((np.log(2 * np.pi * wide) + rest**2 / wide).sum())

    def at(pull: float) -> tuple[float, float, float]:
        kept = np.exp(-pull * steps)
        wide = (1 - kept**2) / (2 * pull)
        level = float(((logs[1:] - kept * logs[:-1]) * (1 - kept) / wide).sum() / ((1 - kept) ** 2 / wide).sum())
        rest = logs[1:] - level - (logs[:-1] - level) * kept
        variance = float((rest**2 / wide).mean())
        loglik = -0.5 * float((np.log(2 * np.pi * max(variance, 1e-300) * wide) + 1).sum())
        return loglik, level, variance

    low, high = np.log(1e-4), np.log(5.0)
    for _ in range(4):
        grid = np.linspace(low, high, 41)
        best = int(np.argmax([at(float(np.exp(each)))[0] for each in grid]))
        low, high = grid[max(best - 1, 0)], grid[min(best + 1, 40)]
    pull = float(np.exp(grid[best]))
    loglik, level, variance = at(pull)
    place = np.array([np.log(pull), np.log(max(variance, 1e-300)), level])
    far = np.sqrt(max(variance, 1e-300) / (2 * pull))
    errors = errors_from(minus, place, np.array([0.02, 0.01, 0.02 * far]))
    return {"drift": 0.0, "variance": variance, "pull": pull, "level": level, "loglik": loglik,
            "pull_error": errors[0], "spread_error": errors[1], "error": errors[2]}  # fmt: skip
