"""Demand that is mostly zero: sizes and intervals smoothed apart."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field
from scipy import special

from proteron.core.compiled import kernel
from proteron.core.errors import TooShortError, UnitsError
from proteron.core.forecasters.forecaster import ForecasterState, Work
from proteron.core.forecasters.local import Learned, LocalForecaster
from proteron.core.forecasters.noise import Noise
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints

_WEIGHTS = np.linspace(0.01, 0.5, 50)
_MOSTLY = 0.2
_METHODS = {"croston": 0, "approximated": 1, "probability": 2}


@kernel
def demand_rates(values: Floats, weight: float, rest: float, method: int, out: Floats) -> None:
    """The expected demand per step before each point and after the last, into (n + 1,), NaN before the first demand."""
    size, gap, since = np.nan, np.nan, 1.0
    for t in range(len(values) + 1):
        if method == 2:
            out[t] = size * gap
        else:
            out[t] = size / gap if method == 0 else (1.0 - rest / 2.0) * size / gap
        if t == len(values):
            break
        value = values[t]
        if value != value:
            continue
        if method == 2:
            happened = 1.0 if value != 0.0 else 0.0
            if size == size:
                gap += rest * (happened - gap)
                if happened:
                    size += weight * (value - size)
            elif happened:
                size, gap = value, 1.0 / since
            since += 1.0
        elif value != 0.0:
            if size == size:
                size += weight * (value - size)
                gap += rest * (since - gap)
            else:
                size, gap = value, since
            since = 1.0
        else:
            since += 1.0


class Intermittent(LocalForecaster):
    """Demand per step where most steps have none: the size of a demand and how often there is one, each smoothed.

    Croston 1972; its bias taken out (Syntetos & Boylan 2005); by the probability of demand, which falls while there
    is none (Teunter, Syntetos & Babai 2011). Weights that are empty are those of the smallest squared error.
    """

    title: ClassVar[str] = "intermittent demand"
    family: ClassVar[str] = "smoothing"
    rehearsals: ClassVar[tuple[float, ...]] = ()
    can: ClassVar[tuple[str, ...]] = ("gaps", "ranges")
    cost: ClassVar[float] = 60.0
    kind: Literal["intermittent"] = "intermittent"
    method: Literal["croston", "approximated", "probability"] = Field(
        "approximated", title="Method", description="Plain, with its bias taken out, or by the probability of demand."
    )
    weight: float | None = Field(None, gt=0, le=1, title="Weight of sizes")
    interval_weight: float | None = Field(None, gt=0, le=1, title="Weight of intervals")

    @property
    def tells_rates(self) -> bool:
        """Always."""
        return True

    def objection(self, known: Panel) -> str | None:
        """What speaks against a panel of one series that has points enough; None: nothing."""
        values = known.values[np.isfinite(known.values)]
        if len(values) and values.min() < 0:
            return "Demand is never below zero; this series is."
        share = float((values == 0).mean()) if len(values) else 0.0
        if share < _MOSTLY:
            return f"It is for demand that is often zero; {share:.0%} of these values are."
        return None

    def learn_series(self, known: Panel, index: int, work: Work) -> Learned:
        """What is learned of one series; raises `ProteronError` where it must decline."""
        values = np.ascontiguousarray(known.series(index))
        there = np.isfinite(values)
        if not (values[there] > 0).any():
            raise TooShortError("There is no demand above zero to learn from.", field="until")
        if values[there].min() < 0:
            raise UnitsError("Demand is never below zero; this series is.", field="until")
        best, chosen = np.inf, (0.1, 0.1)
        out = np.empty(len(values) + 1)
        for weight in _WEIGHTS if self.weight is None else (self.weight,):
            for rest in (weight,) if self.interval_weight is None else (self.interval_weight,):
                demand_rates(values, float(weight), float(rest), _METHODS[self.method], out)
                gaps = values - out[:-1]
                gaps = gaps[np.isfinite(gaps)]
                error = (gaps**2).mean() if len(gaps) else 0.0
                if error < best:
                    best, chosen = error, (float(weight), float(rest))
        return Learned({"weight": chosen[0], "rest": chosen[1]})

    def paths_of(self, learned: Learned, values: Floats, at: int, noise: Noise) -> Floats | None:
        """Demand happens as often, and is as large, as it was, so that its mean is the forecast."""
        count, horizon = noise.errors.shape
        rate = float(self.means_of(learned, values, np.array([at]), 1)[0, 0])
        past = values[:at][np.isfinite(values[:at])]
        sizes = past[past > 0]
        if not rate > 0 or not len(sizes):
            return None
        chance = min(len(sizes) / len(past), 1.0)
        happens = special.ndtr(noise.errors) > 1 - chance
        return np.where(happens, noise.rng.choice(sizes, size=(count, horizon)) * rate / (chance * sizes.mean()), 0.0)

    def means_of(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points of `values` (n_points,)."""
        out = np.empty(len(values) + 1)
        demand_rates(
            np.ascontiguousarray(values), float(learned["weight"]), float(learned["rest"]), _METHODS[self.method], out
        )
        return np.repeat(out[at][:, None], horizon, axis=1)

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Learned numbers of one series by name, in flat units."""
        learned = self.learned(state, key)
        if learned is None:
            return {}
        return {"level_weight": float(learned["weight"]), "interval_weight": float(learned["rest"])}

    def summary_of(self, learned: Learned) -> str:
        """What was learned of one series, in one sentence."""
        return (
            f"Demand per step from sizes smoothed with weight {learned['weight']:.3g} and intervals with "
            f"{learned['rest']:.3g}, {self.method}."
        )
