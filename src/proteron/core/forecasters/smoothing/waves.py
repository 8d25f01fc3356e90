"""Smoothing with several seasons made of turning waves, and ARMA errors (De Livera, Hyndman & Snyder 2011)."""

from contextlib import suppress
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.errors import TooShortError
from proteron.core.forecasters.arima.fit import Orders
from proteron.core.forecasters.arima.polynomials import from_partial, to_partial
from proteron.core.forecasters.arima.search import Limits, choose_orders
from proteron.core.forecasters.local import information
from proteron.core.forecasters.minimise import GO_ON, bfgs_room, bfgs_tell
from proteron.core.forecasters.normal_equations import solve_normal
from proteron.core.panel import Floats

_APART = 1e-6
_MOST_STEPS, _FEW_STEPS = 120, 30
_GROWS, _GROWS_AS_TIME = 1.02, 2.2  # late over early effect on the errors; more is a start that is never forgotten
_LONGEST_CHOICE = 2500
_MOST_WAVES = 10
_NEVER = 1e9
_SAME_ANGLE = 1e-6


@dataclass(frozen=True)
class WaveForm:
    """The parts: `trend` none, straight or damped; seasons as (period, waves); ARMA orders of the errors."""

    trend: str
    seasons: tuple[tuple[float, int], ...]
    arma: tuple[int, int] = (0, 0)

    @cached_property
    def _waves(self) -> list[tuple[float, int]]:
        """Angle a step of every wave, and its season; one that a shorter season has already is left out."""
        out: list[tuple[float, int]] = []
        for place, (period, waves) in enumerate(self.seasons):
            for j in range(1, waves + 1):
                angle = 2 * np.pi * j / period
                if all(abs(angle - other) > _SAME_ANGLE for other, _ in out):
                    out.append((angle, place))
        return out

    @property
    def turns(self) -> Floats:
        """Angle a step of every wave, (k,)."""
        return np.array([angle for angle, _ in self._waves], dtype=np.float64)

    @property
    def owners(self) -> Floats:
        """Which season every wave belongs to, (k,)."""
        return np.array([place for _, place in self._waves], dtype=np.float64)

    @property
    def seeds(self) -> int:
        """Numbers of the start: level, slope, two for each wave."""
        return 1 + (self.trend != "none") + 2 * len(self.turns)

    @property
    def weights(self) -> int:
        """Numbers that stay: level, slope and damping, two for each season, ARMA."""
        return 1 + {"none": 0, "add": 1, "damped": 2}[self.trend] + 2 * len(self.seasons) + sum(self.arma)

    @property
    def size(self) -> int:
        return self.seeds + sum(self.arma)

    @property
    def words(self) -> str:
        trend = {"none": "no trend", "add": "a trend", "damped": "a damped trend"}[self.trend]
        seasons = ", ".join(f"{waves} wave{'s' if waves > 1 else ''} of {period:g}" for period, waves in self.seasons)
        errors = f", ARMA {self.arma} errors" if any(self.arma) else ""
        return f"{trend}, {seasons or 'no season'}{errors}"


@kernel
def pass_waves(  # noqa: C901
    values: Floats, numbers: Floats, turns: Floats, gammas: Floats, ar: Floats, ma: Floats, sloped: bool,
    begin: Floats, zero: bool, errors: Floats, kept: Floats,
) -> None:  # fmt: skip
    """One-step errors (n,) from a start (size,); `kept` (n + 1, size), or with no rows, gets the states.

    `numbers` are level and slope weights and damping, `gammas` (k, 2) the weights of each wave. The state: level, slope
    where `sloped`, both halves of each wave, the last p disturbances, the last q errors. With `zero`, values count as
    nothing where they are known, which gives what a start does to the errors. NaN is missing.
    """
    p, q, waves = len(ar), len(ma), len(turns)
    first = 2 if sloped else 1
    after = first + 2 * waves
    alpha, beta, phi = numbers[0], numbers[1], numbers[2]
    cosines, sines = np.cos(turns), np.sin(turns)
    state = begin.copy()
    for t in range(len(values)):
        if t < len(kept):
            kept[t] = state
        base = state[0] + (phi * state[1] if sloped else 0.0)
        mean = base
        for k in range(waves):
            mean += state[first + 2 * k]
        pushed = 0.0
        for i in range(p):
            pushed += ar[i] * state[after + i]
        for i in range(q):
            pushed += ma[i] * state[after + p + i]
        mean += pushed
        value = values[t]
        error = 0.0
        if value == value:
            error = (0.0 if zero else value) - mean
            errors[t] = error
        else:
            errors[t] = 0.0
        moved = pushed + error
        state[0] = base + alpha * moved
        if sloped:
            state[1] = phi * state[1] + beta * moved
        for k in range(waves):
            here, there = state[first + 2 * k], state[first + 2 * k + 1]
            state[first + 2 * k] = cosines[k] * here + sines[k] * there + gammas[k, 0] * moved
            state[first + 2 * k + 1] = cosines[k] * there - sines[k] * here + gammas[k, 1] * moved
        for i in range(p - 1, 0, -1):
            state[after + i] = state[after + i - 1]
        if p:
            state[after] = moved
        for i in range(q - 1, 0, -1):
            state[after + p + i] = state[after + p + i - 1]
        if q:
            state[after + p] = error
    if len(kept) > len(values):
        kept[len(values)] = state


@kernel
def wave_numbers(
    free: Floats, trend: int, turns: Floats, owners: Floats, seasons: int, p: int, q: int
) -> tuple[Floats, Floats, Floats, Floats]:
    """Weights (3,), weights of each wave (k, 2), AR and MA from unbounded numbers.

    A season's two weights act on its waves before they turn: there the first need only be above zero for any wave to
    be forgotten, while weights after the turn, as in the paper, would have to differ from wave to wave.
    """
    numbers = np.zeros(3)
    numbers[0] = 1.0 / (1.0 + np.exp(-free[0]))
    numbers[2] = 1.0
    at = 1
    if trend:
        numbers[1] = numbers[0] / (1.0 + np.exp(-free[at]))
        at += 1
    if trend == 2:
        numbers[2] = 0.8 + 0.2 / (1.0 + np.exp(-free[at]))
        at += 1
    gammas = np.empty((len(owners), 2))
    for k in range(len(owners)):
        place = at + 2 * int(owners[k])
        ahead = 0.5 / (1.0 + np.exp(-free[place]))
        aside = ahead * np.tanh(free[place + 1])
        cosine, sine = np.cos(turns[k]), np.sin(turns[k])
        gammas[k, 0], gammas[k, 1] = cosine * ahead + sine * aside, cosine * aside - sine * ahead
    at += 2 * seasons
    ar = from_partial(np.tanh(free[at : at + p]))
    ma = -from_partial(np.tanh(free[at + p : at + p + q]))
    return numbers, gammas, ar, ma


@kernel
def start_of_waves(
    values: Floats, numbers: Floats, turns: Floats, gammas: Floats, ar: Floats, ma: Floats, sloped: bool,
    begin: Floats, room: Floats,
) -> float:  # fmt: skip
    """The start (seeds of `begin`) with the smallest squares, and these; inf where some start is never forgotten.

    The model is linear in its start, so this is least squares on what a unit of each part of it does (n, seeds).
    """
    seeds = room.shape[1] - 1
    nothing = np.empty((0, len(begin)))
    begin[:] = 0.0
    pass_waves(values, numbers, turns, gammas, ar, ma, sloped, begin, False, room[:, 0], nothing)
    half, quarter = len(values) // 2, len(values) - len(values) // 4
    for i in range(seeds):
        begin[i] = 1.0
        pass_waves(values, numbers, turns, gammas, ar, ma, sloped, begin, True, room[:, 1 + i], nothing)
        begin[i] = 0.0
        early, late = 0.0, 0.0
        for t in range(len(values)):
            size = abs(room[t, 1 + i])
            if not size < _NEVER:
                return np.inf
            if t < half:
                early = max(early, size)
            elif t >= quarter:
                late = max(late, size)
        if late > (_GROWS_AS_TIME if sloped and i < 2 else _GROWS) * early:
            return np.inf
    inner, right, squares = np.zeros((seeds, seeds)), np.zeros(seeds), 0.0
    for t in range(len(values)):
        squares += room[t, 0] * room[t, 0]
        for i in range(seeds):
            right[i] -= room[t, 1 + i] * room[t, 0]
            for j in range(i + 1):
                inner[i, j] += room[t, 1 + i] * room[t, 1 + j]
    explained = solve_normal(inner, right, np.empty(seeds))
    if explained != explained:
        return np.inf
    begin[:seeds] = right
    return max(squares - explained, 1e-300)


@kernel
def maximise_waves(
    values: Floats, turns: Floats, owners: Floats, seasons: int, trend: int, p: int, q: int, count: int,
    free: Floats, begin: Floats, most: int,
) -> float:  # fmt: skip
    """Minimise half the count times the logarithm of the mean square from `free` on, in place; `begin` is set."""
    size = len(free)
    seeds = len(begin) - p - q
    table = np.empty((len(values), seeds + 1))
    room, gradient = bfgs_room(size), np.zeros(size)
    best, lowest, told, steps = free.copy(), np.inf, GO_ON, 0
    while told == GO_ON and steps < most:
        value = 0.0
        for k in range(-1, size):
            at = free.copy()
            if k >= 0:
                at[k] += _APART
            numbers, gammas, ar, ma = wave_numbers(at, trend, turns, owners, seasons, p, q)
            squares = start_of_waves(values, numbers, turns, gammas, ar, ma, trend > 0, begin, table)
            found = 0.5 * count * np.log(squares / count)
            if k < 0:
                value = found
                if not value < room[size + 4, 0] and room[size + 4, 4] == 0.0:
                    break  # it will be turned down, so its slope is not needed
            else:
                gradient[k] = (found - value) / _APART if np.isfinite(found) else 0.0
        if value < lowest:
            lowest = value
            best[:] = free
        told = bfgs_tell(room, free, value, gradient, 1e-9)
        steps += 1
    free[:] = best
    numbers, gammas, ar, ma = wave_numbers(free, trend, turns, owners, seasons, p, q)
    start_of_waves(values, numbers, turns, gammas, ar, ma, trend > 0, begin, table)
    return lowest


@dataclass(frozen=True)
class FittedWaves:
    """A form with what was learned: unbounded `free` numbers, `begin` (size,) the start, `variance` of the errors."""

    form: WaveForm
    free: Floats
    begin: Floats
    variance: float
    loglik: float
    count: int

    @property
    def criteria(self) -> dict[str, float]:
        return information(self.loglik, self.form.weights + self.form.seeds + 1, self.count)

    @property
    def learned(self) -> tuple[Floats, Floats, Floats, Floats]:
        """Weights (3,), weights of each wave (k, 2), AR and MA."""
        form = self.form
        return wave_numbers(self.free, _TRENDS[form.trend], form.turns, form.owners, len(form.seasons), *form.arma)

    def passed(self, values: Floats) -> tuple[Floats, Floats]:
        """One-step errors (n,), nothing where a value is missing; states before each point and after the last."""
        numbers, gammas, ar, ma = self.learned
        errors, kept = np.empty(len(values)), np.empty((len(values) + 1, self.form.size))
        pass_waves(np.ascontiguousarray(values), numbers, self.form.turns, gammas, ar, ma, self.form.trend != "none",
                   self.begin, False, errors, kept)  # fmt: skip
        return errors, kept

    def matrices(self) -> tuple[Floats, Floats, Floats]:
        """How the state moves by itself (size, size), what of it is seen (size,), what an error does to it (size,)."""
        numbers, gammas, ar, ma = self.learned
        form, size = self.form, self.form.size
        sloped = form.trend != "none"
        columns = np.empty((size, size))
        seen, gain = np.empty(size), np.empty((2, size))
        for i in range(size):
            kept, errors = np.empty((2, size)), np.empty(1)
            pass_waves(np.full(1, np.nan), numbers, form.turns, gammas, ar, ma, sloped, np.eye(size)[i], True,
                       errors, kept)  # fmt: skip
            columns[:, i] = kept[1]
            pass_waves(np.zeros(1), numbers, form.turns, gammas, ar, ma, sloped, np.eye(size)[i], True, errors, kept)
            seen[i] = -errors[0]
        pass_waves(np.ones(1), numbers, form.turns, gammas, ar, ma, sloped, np.zeros(size), False, np.empty(1), gain)
        return columns, seen, gain[1]


_TRENDS = {"none": 0, "add": 1, "damped": 2}


def fit_waves(values: Floats, form: WaveForm, start: Floats | None = None, steps: int = _MOST_STEPS) -> FittedWaves:
    """Fit one form to a series (n,), NaN where missing, from unbounded numbers `start` or the usual ones."""
    known = np.isfinite(values)
    count = int(known.sum())
    if count <= form.seeds + form.weights + 2:
        raise TooShortError(
            f"Smoothing with {form.words} needs more than {form.seeds + form.weights + 2} known points; "
            f"there are {count}.", field="periods",
        )  # fmt: skip
    centre, unit = float(np.mean(values[known])), float(np.std(values[known])) or 1.0
    scaled = np.ascontiguousarray((values - centre) / unit)
    free = np.zeros(form.weights) if start is None else start.copy()
    if start is None:
        free[0] = -2.0
        free[1 : 1 + _TRENDS[form.trend]] = (-4.5, 1.0)[: _TRENDS[form.trend]]
        free[form.weights - sum(form.arma) - 2 * len(form.seasons) : form.weights - sum(form.arma) : 2] = -4.0
    begin = np.zeros(form.size)
    value = maximise_waves(scaled, form.turns, form.owners, len(form.seasons), _TRENDS[form.trend], *form.arma, count,
                           free, begin, steps)  # fmt: skip
    if not np.isfinite(value):
        raise TooShortError(f"Smoothing with {form.words} cannot be told from these points.", field="periods")
    begin[: form.seeds] *= unit
    begin[0] += centre
    loglik = -value - 0.5 * count * (np.log(2 * np.pi) + 1) - count * np.log(unit)
    return FittedWaves(form, free, begin, float(np.exp(2 * value / count)) * unit**2, float(loglik), count)


def choose_waves(
    values: Floats, periods: tuple[float, ...], waves: int | None, trends: tuple[str, ...], arma: tuple[int, int] | None
) -> tuple[FittedWaves, list[FittedWaves]]:  # fmt: skip
    """The form with the smallest AICc, and all that were tried, best first, which are judged on the last points.

    Waves for each season by BIC of a regression; then the trend; then ARMA orders of what is left, where they help.
    """
    recent = max(_LONGEST_CHOICE, int(3 * max(periods, default=1)) + 1)
    short = values[-recent:]
    seasons = tuple(zip(periods, _waves_of(short, periods, waves), strict=True))
    tried = []
    reason: TooShortError | None = None
    for trend in trends:
        try:
            tried.append(fit_waves(short, WaveForm(trend, seasons, arma or (0, 0))))
        except TooShortError as error:
            reason = error
    if not tried:
        raise reason or TooShortError("There is nothing to smooth.", field="periods")
    best = min(tried, key=lambda each: each.criteria["aicc"])
    if arma is None:
        form, errors = best.form, best.passed(short)[0]
        free = {"p": True, "q": True, "seasonal_p": False, "seasonal_q": False}
        found = choose_orders(errors, Orders(), free, False, limits=Limits(3, 3, 0, 0, 4))[0]
        if found.orders.p or found.orders.q:
            form = WaveForm(form.trend, seasons, (found.orders.p, found.orders.q))
            inside = [np.arctanh(np.clip(to_partial(sign * each), -0.95, 0.95))
                      for sign, each in ((1, found.coefficients[: found.orders.p]),
                                         (-1, found.coefficients[found.orders.p :]))]  # fmt: skip
            with suppress(TooShortError):
                tried.append(fit_waves(short, form, np.concatenate([best.free, *inside])))
    tried.sort(key=lambda each: each.criteria["aicc"])
    best = tried[0]
    if len(short) == len(values):
        return best, tried
    try:
        return fit_waves(values, best.form, best.free, _FEW_STEPS), tried
    except TooShortError:  # what was found on the last points does not go with all of them
        return fit_waves(values, best.form), tried


def _waves_of(values: Floats, periods: tuple[float, ...], waves: int | None) -> list[int]:
    """How many waves each season has: as many as lower the BIC of a regression on a bending trend and all waves."""
    at = np.flatnonzero(np.isfinite(values)).astype(np.float64)
    known = values[np.isfinite(values)]
    most = [max(1, min(waves or _MOST_WAVES, int((period - 1e-9) / 2))) for period in periods]
    if waves is not None:
        return most
    places = np.linspace(0, len(values), 12)[1:-1]
    base = [np.ones(len(at)), at, *(np.maximum(at - place, 0.0) for place in places[: max(len(at) // 20, 0)])]
    out = [1] * len(periods)

    def criterion(counts: list[int]) -> float:
        angles = [turn * at for turn in WaveForm("none", tuple(zip(periods, counts, strict=True))).turns]
        columns = np.column_stack([*base, *(wave for angle in angles for wave in (np.sin(angle), np.cos(angle)))])
        if columns.shape[1] >= len(at) - 2:
            return np.inf
        rest = known - columns @ np.linalg.lstsq(columns, known)[0]
        return float(len(at) * np.log(max((rest**2).mean(), 1e-300)) + columns.shape[1] * np.log(len(at)))

    best = criterion(out)
    for place in range(len(periods)):
        while out[place] < most[place]:
            more = [count + (i == place) for i, count in enumerate(out)]
            found = criterion(more)
            if not found < best:
                break
            out, best = more, found
    return out
