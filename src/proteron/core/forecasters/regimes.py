"""Two regimes that take turns by chance: a level or spread that switches (Hamilton 1989)."""

from typing import ClassVar, Literal

import numpy as np
from pydantic import Field

from proteron.core.compiled import kernel
from proteron.core.errors import TooShortError
from proteron.core.forecasters.arima.polynomials import from_partial
from proteron.core.forecasters.forecaster import ForecasterState, Work
from proteron.core.forecasters.local import Learned, LocalForecaster
from proteron.core.forecasters.minimise import GO_ON, bfgs_room, bfgs_tell, errors_from
from proteron.core.forecasters.noise import Noise
from proteron.core.forecasters.pictures import Curve, Picture
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints

_APART = 1e-6
_TIGHTEST = 0.02  # of the series' own spread: a regime that sits on one point has no likelihood to speak of


@kernel
def filter_regimes(  # noqa: C901
    values: Floats, levels: Floats, spreads: Floats, stays: Floats, ar: Floats, seen: Floats, kept: Floats
) -> float:
    """Log-likelihood given the first p values; `kept` (n + 1, 2^(p + 1)) gets what is known after each point.

    Entry j is the chance of the regimes now and at the p points before, bit i standing for i points ago. `levels`,
    `spreads` and `stays` (2,) are of both regimes; `seen` (n,) gets the values, missing ones as they were expected.
    """
    lags = len(ar)
    size = 2 << lags
    chance = np.empty((2, 2))
    for s in range(2):
        chance[s, s], chance[s, 1 - s] = stays[s], 1.0 - stays[s]
    often = (1.0 - stays[0]) / max(2.0 - stays[0] - stays[1], 1e-300)
    for j in range(size):
        last = (j >> lags) & 1
        kept[0, j] = often if last else 1.0 - often
        for i in range(lags - 1, -1, -1):
            kept[0, j] *= chance[last, (j >> i) & 1]
            last = (j >> i) & 1
    ahead, total = np.empty(size), 0.0
    for t in range(len(values)):
        if t < lags:
            seen[t] = values[t]
            if values[t] != values[t]:
                seen[t] = seen[t - 1] if t else (1.0 - often) * levels[0] + often * levels[1]
            kept[t + 1] = kept[0]
            continue
        ahead[:] = 0.0
        if t == lags:
            ahead[:] = kept[0]
        else:
            for j in range(size):
                for s in range(2):
                    ahead[((j << 1) & (size - 1)) | s] += kept[t, j] * chance[j & 1, s]
        known = values[t] == values[t]
        likely, expected = 0.0, 0.0
        for j in range(size):
            mean = levels[j & 1]
            for i in range(lags):
                mean += ar[i] * (seen[t - 1 - i] - levels[(j >> (i + 1)) & 1])
            expected += ahead[j] * mean
            if known:
                gap = (values[t] - mean) / spreads[j & 1]
                kept[t + 1, j] = ahead[j] * np.exp(-0.5 * gap * gap) / spreads[j & 1]
                likely += kept[t + 1, j]
        seen[t] = values[t] if known else expected
        if known and likely > 1e-290:
            kept[t + 1] /= likely
            total += np.log(likely) - 0.9189385332046727
        else:
            kept[t + 1] = ahead
            total -= 700.0 if known else 0.0
    return total


@kernel
def regimes_of(free: Floats, switches: int, lags: int) -> tuple[Floats, Floats, Floats, Floats]:
    """Levels, spreads, chances to stay, AR from unbounded numbers; `switches` 1: the level, 2: the spread, 3: both."""
    levels, spreads, stays = np.empty(2), np.empty(2), np.empty(2)
    at = 0
    for s in range(2):
        if s == 0 or switches & 1:
            levels[s] = free[at]
            at += 1
        else:
            levels[s] = levels[0]
    for s in range(2):
        if s == 0 or switches & 2:
            spreads[s] = _TIGHTEST + np.exp(min(max(free[at], -20.0), 20.0))
            at += 1
        else:
            spreads[s] = spreads[0]
    for s in range(2):
        stays[s] = 1.0 / (1.0 + np.exp(-min(max(free[at], -12.0), 12.0)))
        at += 1
    return levels, spreads, stays, from_partial(np.tanh(free[at : at + lags]))


@kernel
def maximise_regimes(values: Floats, switches: int, lags: int, free: Floats, most: int) -> float:
    """Maximise the likelihood from `free` on, in place; returns minus its logarithm."""
    size = len(free)
    seen, kept = np.empty(len(values)), np.empty((len(values) + 1, 2 << lags))
    room, gradient = bfgs_room(size), np.zeros(size)
    best, lowest, told, steps = free.copy(), np.inf, GO_ON, 0
    while told == GO_ON and steps < most:
        value = 0.0
        for k in range(-1, size):
            at = free.copy()
            if k >= 0:
                at[k] += _APART
            levels, spreads, stays, ar = regimes_of(at, switches, lags)
            found = -filter_regimes(values, levels, spreads, stays, ar, seen, kept)
            if k < 0:
                value = found
            else:
                gradient[k] = (found - value) / _APART
        if value < lowest:
            lowest = value
            best[:] = free
        told = bfgs_tell(room, free, value, gradient, 1e-11)
        steps += 1
    free[:] = best
    return lowest


_SWITCHES = {"level": 1, "spread": 2, "both": 3}


class SwitchingRegimes(LocalForecaster):
    """Two regimes with their own level, spread or both; which one holds is never seen, only told from the values.

    Each regime goes on with a chance of its own. What is left of the level may be autoregressive. Fitted by exact
    maximum likelihood given the first values, from several starts (Hamilton 1989).
    """

    title: ClassVar[str] = "two regimes"
    family: ClassVar[str] = "volatility"
    rehearsals: ClassVar[tuple[float, ...]] = ()
    can: ClassVar[tuple[str, ...]] = ("gaps", "ranges")
    cost: ClassVar[float] = 800.0
    simulated: ClassVar[bool] = True
    least: ClassVar[int] = 20
    kind: Literal["switching_regimes"] = "switching_regimes"
    switches: Literal["level", "spread", "both"] = Field("both", title="What switches")
    lags: int = Field(0, ge=0, le=5, title="Lags", description="Of what is left of the level.")

    def learn_series(self, known: Panel, index: int, work: Work) -> Learned:
        """What is learned of one series; raises `ProteronError` where it must decline."""
        values = np.ascontiguousarray(known.series(index))
        present = values[np.isfinite(values)]
        least = 20 + 4 * self.lags
        if len(present) < least:
            raise TooShortError(f"Two regimes need {least} known points; there are {len(present)}.", field="until")
        centre, unit = float(present.mean()), float(present.std())
        if not unit > 1e-12 * max(float(np.abs(present).max()), 1e-300):
            raise TooShortError("Two regimes need a series that varies.", field="until")
        scaled = (values - centre) / unit
        which, lags = _SWITCHES[self.switches], self.lags
        tried = [(maximise_regimes(scaled, which, lags, start, 25), start) for start in _starts(scaled, which, lags)]
        lowest, free = min(tried, key=lambda each: each[0])
        lowest = maximise_regimes(scaled, which, lags, free, 300)
        levels, spreads, stays, ar = regimes_of(free, which, lags)
        numbers = np.concatenate([levels, spreads, stays, ar])
        errors = self._errors(scaled, numbers)
        order = [1, 0] if (levels[0], spreads[0]) > (levels[1], spreads[1]) else [0, 1]
        places = [*order, *(2 + i for i in order), *(4 + i for i in order), *range(6, 6 + lags)]
        numbers, errors = numbers[places], errors[places]
        sizes = np.concatenate([np.full(4, unit), np.ones(2 + lags)])
        shift = np.concatenate([np.full(2, centre), np.zeros(4 + lags)])
        first = int(np.isfinite(values[:lags]).sum())
        count = len(present) - first
        return Learned({
            "numbers": numbers * sizes + shift, "errors": errors * sizes, "free": len(free), "count": count,
            "loglik": -lowest - count * np.log(unit),
        })  # fmt: skip

    def _used(self) -> list[bool]:
        which = _SWITCHES[self.switches]
        return [True, bool(which & 1), True, bool(which & 2), True, True, *([True] * self.lags)]

    def _errors(self, scaled: Floats, numbers: Floats) -> Floats:
        """Standard errors (6 + lags,) from the curvature of the likelihood."""
        used = np.flatnonzero(self._used())
        seen, kept = np.empty(len(scaled)), np.empty((len(scaled) + 1, 2 << self.lags))

        def minus(at: Floats) -> float:
            moved = numbers.copy()
            moved[used] = at
            for place in (1, 3):
                if place not in used:
                    moved[place] = moved[place - 1]
            stays = np.clip(moved[4:6], 1e-9, 1 - 1e-9)
            return -float(filter_regimes(scaled, moved[:2], moved[2:4], stays, moved[6:].copy(), seen, kept))

        out = np.full(len(numbers), np.nan)
        steps = np.where(used >= 4, 1e-4, 1e-3)
        out[used] = errors_from(minus, numbers[used], steps)
        return out

    def _passed(self, learned: Learned, values: Floats) -> tuple[Floats, Floats]:
        """Values with what was expected of missing ones (n,); chances (n + 1, 2^(lags + 1)) after each point."""
        numbers = np.ascontiguousarray(learned["numbers"][: 6 + self.lags])
        seen, kept = np.empty(len(values)), np.empty((len(values) + 1, 2 << self.lags))
        filter_regimes(np.ascontiguousarray(values), numbers[:2], numbers[2:4], numbers[4:6], numbers[6:], seen, kept)
        return seen, kept

    def means_of(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points of `values` (n_points,)."""
        numbers, lags = learned["numbers"], self.lags
        seen, kept = self._passed(learned, values)
        out = np.full((len(at), horizon), np.nan)
        usable = at >= lags
        chances, places = kept[at[usable]], at[usable]
        high = np.arange(2 << lags) & 1 == 1
        now = chances[:, high].sum(axis=1)
        rest = np.zeros((len(places), lags + horizon))  # expected deviations from the level, oldest first
        for back in range(lags):
            share = chances[:, (np.arange(2 << lags) >> back) & 1 == 1].sum(axis=1)
            level = numbers[0] + share * (numbers[1] - numbers[0])
            rest[:, lags - 1 - back] = seen[places - 1 - back] - level if len(places) else 0.0
        for h in range(horizon):
            now = now * numbers[5] + (1 - now) * (1 - numbers[4])
            for i in range(lags):
                rest[:, lags + h] += numbers[6 + i] * rest[:, lags + h - 1 - i]
            out[usable, h] = numbers[0] + now * (numbers[1] - numbers[0]) + rest[:, lags + h]
        return out

    def paths_of(self, learned: Learned, values: Floats, at: int, noise: Noise) -> Floats | None:
        """Paths (count, horizon) after `at` points, driven by the errors of `noise`."""
        count, horizon = noise.errors.shape
        numbers, lags = learned["numbers"], self.lags
        if at < lags:
            return None
        seen, kept = self._passed(learned, values[:at])
        joint = noise.rng.choice(2 << lags, size=count, p=kept[at] / kept[at].sum())
        rest = np.zeros((count, lags + horizon))
        for back in range(lags):
            rest[:, lags - 1 - back] = seen[at - 1 - back] - numbers[(joint >> back) & 1]
        now = np.asarray(joint & 1)
        out = np.empty((count, horizon))
        for h in range(horizon):
            now = np.where(noise.rng.uniform(size=count) < numbers[4 + now], now, 1 - now)
            for i in range(lags):
                rest[:, lags + h] += numbers[6 + i] * rest[:, lags + h - 1 - i]
            rest[:, lags + h] += numbers[2 + now] * noise.errors[:, h]
            out[:, h] = numbers[now] + rest[:, lags + h]
        return out

    def pictures(self, state: ForecasterState, panel: Panel, key: str) -> list[Picture]:
        """The chance of the second regime at each point, as it was known at that point."""
        learned = self.learned(state, key)
        if learned is None:
            return []
        values, _ = self._since(learned, panel, panel.index(key))
        _, kept = self._passed(learned, values)
        high = kept[1:, 1::2].sum(axis=1)
        name = "higher" if _SWITCHES[self.switches] & 1 else "wilder"
        return [Picture(f"Chance of the {name} regime", "steps", (Curve(name, np.arange(float(len(high))), high),))]

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Learned numbers of one series by name, in flat units."""
        learned = self.learned(state, key)
        return {} if learned is None else self._named(learned["numbers"])

    def standard_errors(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Standard errors by parameter, where theory gives them."""
        learned = self.learned(state, key)
        return {} if learned is None else self._named(learned["errors"])

    def _named(self, numbers: Floats) -> dict[str, float]:
        low, high = ("low", "high") if _SWITCHES[self.switches] & 1 else ("calm", "wild")
        names = [f"level_{low}", f"level_{high}", f"spread_{low}", f"spread_{high}", f"stay_{low}", f"stay_{high}",
                 *(f"ar{i + 1}" for i in range(self.lags))]  # fmt: skip
        named = {}
        for name, number, used in zip(names, numbers, self._used(), strict=False):
            if used:
                single = name.startswith("level") and not _SWITCHES[self.switches] & 1
                single |= name.startswith("spread") and not _SWITCHES[self.switches] & 2
                named[name.split("_")[0] if single else name] = float(number)
        return named

    def summary_of(self, learned: Learned) -> str:
        """What was learned of one series, in one sentence."""
        numbers = learned["numbers"]
        low, high = ("low", "high") if _SWITCHES[self.switches] & 1 else ("calm", "wild")
        parts = [
            f"{name}: level {numbers[s]:.4g}, spread {numbers[2 + s]:.3g}, "
            f"{1 / max(1 - numbers[4 + s], 1e-9):.3g} steps on average"
            for s, name in enumerate((low, high))
        ]
        return f"Two regimes. {parts[0].capitalize()}; {parts[1]}."


def _starts(scaled: Floats, switches: int, lags: int) -> list[Floats]:
    """Places (k,) to look from: the values parted at some quantiles, or by how far they are from the mean."""
    present = scaled[np.isfinite(scaled)]
    out = []
    for share in (0.15, 0.3, 0.5, 0.7, 0.85):
        for near in (False, True) if switches == 3 else (switches == 2,):
            by = np.abs(present - np.median(present)) if near else present
            split = by > np.quantile(by, share)
            parts = [present[~split], present[split]]
            if min(len(part) for part in parts) < 2:
                continue
            levels = [float(part.mean()) for part in parts] if switches & 1 else [float(present.mean())]
            inner = [max(float(part.std()), 0.1) for part in parts]
            spreads = inner if switches & 2 else [float(np.sqrt(np.mean(np.square(inner))))]
            chances = [np.log(9.0), np.log(9.0)]
            out.append(np.array([*levels, *(np.log(each) for each in spreads), *chances, *([0.0] * lags)]))
    return out
