"""Volatility: errors whose variance depends on what just happened."""

from typing import Any, ClassVar, Literal

import numpy as np
from pydantic import Field
from scipy import special

from proteron.core.compiled import kernel
from proteron.core.errors import TooShortError
from proteron.core.forecasters.forecaster import ForecasterState, Work
from proteron.core.forecasters.local import Learned, LocalForecaster
from proteron.core.forecasters.minimise import GO_ON, bfgs_room, bfgs_tell, errors_from
from proteron.core.forecasters.noise import Noise
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints

_LEAST = 30
_REMEMBERS = 0.5
_APART = 1e-6


@kernel
def variances(
    values: Floats, mean: float, omega: float, alphas: Floats, betas: Floats, leverage: float, out: Floats
) -> None:  # fmt: skip
    """Conditional variances (n + 1,): ω + Σ (α + leverage where negative) e² + Σ β σ², before the start the mean of e².

    Bollerslev 1986; leverage: Glosten, Jagannathan & Runkle 1993. A missing error counts as its variance.
    """
    before, count = 0.0, 0
    for value in values:
        if value == value:
            before += (value - mean) * (value - mean)
            count += 1
    before /= max(count, 1)
    squares = np.empty(len(values))
    for t in range(len(values) + 1):
        total = omega
        for i in range(len(alphas)):
            back = t - 1 - i
            if back < 0:
                total += (alphas[i] + (0.5 * leverage if i == 0 else 0.0)) * before
            else:
                down = 1.0 if values[back] < mean else 0.0
                if values[back] != values[back]:
                    down = 0.5
                total += (alphas[i] + (leverage * down if i == 0 else 0.0)) * squares[back]
        for j in range(len(betas)):
            total += betas[j] * (out[t - 1 - j] if t - 1 - j >= 0 else before)
        out[t] = total
        if t < len(values):
            gap = values[t] - mean
            squares[t] = gap * gap if gap == gap else total


@kernel
def unpacked(free: Floats, lags: int, past: int, skewed: bool, fat: bool) -> Floats:
    """Mean, ω, α…, β…, leverage, degrees of freedom from unbounded numbers; the sum that persists stays below one."""
    out = np.zeros(4 + lags + past)
    out[0], out[1] = free[0], np.exp(min(max(free[1], -60.0), 60.0))
    most = max(0.0, free[2 : 2 + lags + past + skewed].max()) if lags + past else 0.0
    total = np.exp(-most)
    for i in range(lags + past + skewed):
        total += np.exp(free[2 + i] - most)
    for i in range(lags + past):
        out[2 + i] = 0.9999 * np.exp(free[2 + i] - most) / total
    if skewed:
        out[2 + lags + past] = 2.0 * 0.9999 * np.exp(free[2 + lags + past] - most) / total
    out[3 + lags + past] = 2.05 + np.exp(min(free[-1], 5.0)) if fat else np.inf
    return out


@kernel
def minus_likelihood(values: Floats, numbers: Floats, lags: int, past: int, constant: float, room: Floats) -> float:
    """Minus the log-likelihood; `constant` is that of the t density with its degrees of freedom, 0 for the normal."""
    freedom = numbers[3 + lags + past]
    variances(values, numbers[0], numbers[1], numbers[2 : 2 + lags], numbers[2 + lags : 2 + lags + past],
              numbers[2 + lags + past], room)  # fmt: skip
    total = 0.0
    for t in range(len(values)):
        gap = values[t] - numbers[0]
        if gap == gap:
            if not room[t] > 0:
                return np.inf
            if freedom < 1e9:
                total += 0.5 * np.log(room[t]) - constant
                total += 0.5 * (freedom + 1.0) * np.log1p(gap * gap / (room[t] * (freedom - 2.0)))
            else:
                total += 0.5 * (np.log(2.0 * np.pi * room[t]) + gap * gap / room[t])
    return total


class Garch(LocalForecaster):
    """A constant mean with errors whose variance follows past squares and past variances, normal or t.

    Best on what is flat: returns, or what a chain leaves. Source: Bollerslev 1986, 1987.
    """

    title: ClassVar[str] = "volatility"
    family: ClassVar[str] = "volatility"
    rehearsals: ClassVar[tuple[float, ...]] = ()
    can: ClassVar[tuple[str, ...]] = ("gaps", "ranges")
    cost: ClassVar[float] = 300.0
    simulated: ClassVar[bool] = True  # several steps ahead errors are a mixture, whose tails are not those of one
    least: ClassVar[int] = _LEAST
    kind: Literal["garch"] = "garch"
    order: tuple[int, int] = Field((1, 1), title="Order", description="Lags of variances, and of squares at least 1.")
    errors: Literal["normal", "t"] = Field("normal", title="Errors")
    leverage: bool = Field(False, title="Leverage", description="Falls move the variance more than rises.")

    def objection(self, known: Panel) -> str | None:
        """What speaks against a panel of one series that has points enough; None: nothing."""
        values = known.values[np.isfinite(known.values)]
        apart = values - values.mean() if len(values) else values
        memory = float((apart[1:] * apart[:-1]).sum() / max(float((apart**2).sum()), 1e-300))
        if memory > _REMEMBERS:
            return f"Its mean stays put, and neighbours correlate by {memory:.2f}: flatten with a chain first."
        return None

    def learn_series(self, known: Panel, index: int, work: Work) -> Learned:
        """What is learned of one series; raises `ProteronError` where it must decline."""
        values = np.ascontiguousarray(known.series(index))
        present = values[np.isfinite(values)]
        past, lags = self.order
        if lags < 1 or past < 0:
            raise TooShortError("Volatility needs at least one lag of squares.", field="order")
        centre, unit = float(present.mean()), float(present.std())
        if not unit > 1e-12 * max(float(np.abs(present).max()), 1e-300):
            raise TooShortError("Volatility needs a series that varies.", field="order")
        scaled = (values - centre) / unit
        fat = self.errors == "t"
        free = np.zeros(3 + lags + past + self.leverage + fat - 1)
        free[1] = np.log(0.1)
        free[2 : 2 + lags] = np.log(1.0 / lags)
        free[2 + lags : 2 + lags + past] = np.log(8.0 / max(past, 1))
        if self.leverage:
            free[2 + lags + past] = -2.0
        if fat:
            free[-1] = np.log(6.0)
        room = np.empty(len(values) + 1)

        def value(at: Floats) -> float:
            numbers = unpacked(at, lags, past, self.leverage, fat)
            return float(minus_likelihood(scaled, numbers, lags, past, _t_constant(numbers[-1]), room))

        free, lowest = _minimised(value, free)
        numbers = unpacked(free, lags, past, self.leverage, fat)
        steps = np.where(np.abs(numbers) < 1e6, np.maximum(1e-3 * np.abs(numbers), 1e-4), 0.0)
        used = np.flatnonzero(self._used(lags, past))
        errors = np.full(len(numbers), np.nan)

        def natural(at: Floats) -> float:
            moved = numbers.copy()
            moved[used] = at
            return float(minus_likelihood(scaled, moved, lags, past, _t_constant(moved[-1]), room))

        errors[used] = errors_from(natural, numbers[used], steps[used])
        count = len(present)
        sizes = np.ones(len(numbers))
        sizes[0], sizes[1] = unit, unit**2
        return Learned({
            "numbers": np.where(np.isfinite(numbers), numbers, 1e12) * sizes + np.eye(1, len(numbers))[0] * centre,
            "errors": errors * sizes, "loglik": -lowest - count * np.log(unit), "count": count,
            "free": len(used),
        })  # fmt: skip

    def _used(self, lags: int, past: int) -> list[bool]:
        return [True, True, *([True] * (lags + past)), self.leverage, self.errors == "t"]

    def _taken(self, learned: Learned) -> tuple[float, float, Floats, Floats, float, float]:
        past, lags = self.order
        numbers = learned["numbers"]
        return (
            float(numbers[0]), float(numbers[1]), np.ascontiguousarray(numbers[2 : 2 + lags]),
            np.ascontiguousarray(numbers[2 + lags : 2 + lags + past]), float(numbers[2 + lags + past]),
            float(numbers[3 + lags + past]),
        )  # fmt: skip

    def means_of(self, learned: Learned, values: Floats, at: Ints, horizon: int) -> Floats:
        """Means (n_origins, horizon) after `at` points of `values` (n_points,)."""
        return np.full((len(at), horizon), float(learned["numbers"][0]))

    def spreads_of(self, learned: Learned, values: Floats, at: int, horizon: int) -> Floats | None:
        """Standard deviations (horizon,) after `at` points, by theory."""
        mean, omega, alphas, betas, leverage, _ = self._taken(learned)
        past = np.empty(at + 1)
        variances(np.ascontiguousarray(values[:at]), mean, omega, alphas, betas, leverage, past)
        weights = alphas.copy()
        weights[0] += 0.5 * leverage
        squares = np.where(np.isfinite(values[:at]), (values[:at] - mean) ** 2, past[:at])
        out = np.empty(horizon)
        out[0] = past[at]
        for h in range(1, horizon):
            total = omega
            for i, weight in enumerate(weights):
                back = h - 1 - i
                total += weight * (out[back] if back >= 0 else squares[at + back] if at + back >= 0 else past[0])
            for j, weight in enumerate(betas):
                back = h - 1 - j
                total += weight * (out[back] if back >= 0 else past[at + back + 1] if at + back + 1 >= 0 else past[0])
            out[h] = total
        return np.sqrt(out)

    def paths_of(self, learned: Learned, values: Floats, at: int, noise: Noise) -> Floats | None:
        """Paths (count, horizon) after `at` points, driven by the errors of `noise`."""
        count, horizon = noise.errors.shape
        mean, omega, alphas, betas, leverage, freedom = self._taken(learned)
        past = np.empty(at + 1)
        variances(np.ascontiguousarray(values[:at]), mean, omega, alphas, betas, leverage, past)
        draws = noise.errors
        if freedom < 1e9:
            draws = special.stdtrit(freedom, special.ndtr(draws)) * np.sqrt((freedom - 2) / freedom)
        known = np.where(np.isfinite(values[:at]), values[:at] - mean, np.sqrt(past[:at]))
        errors, spreads = np.empty((count, horizon)), np.empty((count, horizon))
        for h in range(horizon):
            total = np.full(count, omega)
            for i, weight in enumerate(alphas):
                back = h - 1 - i
                error = errors[:, back] if back >= 0 else np.full(count, known[at + back] if at + back >= 0 else 0.0)
                total += (weight + (leverage * (error < 0) if i == 0 else 0.0)) * error**2
            for j, weight in enumerate(betas):
                back = h - 1 - j
                total += weight * (spreads[:, back] if back >= 0 else past[max(at + back + 1, 0)])
            spreads[:, h] = total if h else past[at]
            errors[:, h] = np.sqrt(spreads[:, h]) * draws[:, h]
        return mean + errors

    def parameters(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Learned numbers of one series by name, in flat units."""
        learned = self.learned(state, key)
        return {} if learned is None else self._named(learned["numbers"])

    def standard_errors(self, state: ForecasterState, key: str) -> dict[str, float]:
        """Standard errors by parameter, where theory gives them."""
        learned = self.learned(state, key)
        return {} if learned is None else self._named(learned["errors"])

    def _named(self, numbers: Floats) -> dict[str, float]:
        past, lags = self.order
        names = ["mean", "omega", *(f"alpha{i + 1}" for i in range(lags)), *(f"beta{i + 1}" for i in range(past)),
                 "leverage", "degrees_of_freedom"]  # fmt: skip
        used = self._used(lags, past)
        return {name: float(number) for name, number, use in zip(names, numbers, used, strict=True) if use}

    def summary_of(self, learned: Learned) -> str:
        """What was learned of one series, in one sentence."""
        _, omega, alphas, betas, leverage, _ = self._taken(learned)
        persistence = float(alphas.sum() + betas.sum() + 0.5 * leverage)
        level = np.sqrt(omega / (1 - persistence)) if persistence < 1 else np.inf
        return f"Shocks to the variance persist by {persistence:.3g} a step; spread in the long run {level:.4g}."


def _t_constant(freedom: float) -> float:
    if not freedom < 1e9:
        return 0.0
    return float(
        special.gammaln((freedom + 1) / 2) - special.gammaln(freedom / 2) - 0.5 * np.log(np.pi * (freedom - 2))
    )


def _minimised(value: Any, free: Floats) -> tuple[Floats, float]:
    """The place (k,) of the smallest value found by BFGS with slopes by central differences, and that value."""
    room, at = bfgs_room(len(free)), free.copy()
    best, lowest, told, calls = at.copy(), np.inf, GO_ON, 0
    while told == GO_ON and calls < 300:
        here = value(at)
        slope = np.array([(value(at + step) - value(at - step)) / (2 * _APART) for step in _APART * np.eye(len(at))])
        slope[~np.isfinite(slope)] = 0.0
        if here < lowest:
            best, lowest = at.copy(), here
        told = bfgs_tell(room, at, here, slope, 1e-10)
        calls += 1
    return best, float(lowest)
