"""Straight lines that outliers cannot bend, and robust regression on any few columns."""

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike

from proteron.core.compiled import kernel
from proteron.core.errors import InputError, SettingsError, TooShortError
from proteron.core.panel import Floats

LineMethod = Literal["least_squares", "theil_sen", "huber", "tukey", "least_trimmed"]
Loss = Literal["squared", "huber", "tukey"]

_HUBER, _TUKEY = 1.345, 4.685  # 95 % efficient at the normal (Holland & Welsch 1977)
_DIRECT = 400
_SAMPLE = 400
_MOST_ROUNDS = 100


@dataclass(frozen=True)
class Line:
    """y = level + slope · (x - centre); `weights` (n_points,) are those of the last fit, 0 for what was left out."""

    slope: float
    level: float
    centre: float
    weights: Floats
    converged: bool = True

    @property
    def intercept(self) -> float:
        """The value at x = 0."""
        return self.level - self.slope * self.centre

    def at(self, x: ArrayLike) -> Floats:
        return np.asarray(self.level + self.slope * (np.asarray(x, dtype=np.float64) - self.centre))


def fit_line(x: ArrayLike, y: ArrayLike, method: LineMethod = "least_squares") -> Line:
    """A straight line through the known points of y (n_points,) at x (n_points,).

    least_squares; theil_sen: median of all pairwise slopes (Sen 1968), exact at any length;
    huber, tukey: M-estimates by reweighting with the MAD as scale (Huber 1981; Beaton & Tukey 1974),
    the redescending one started from least trimmed squares; least_trimmed: Rousseeuw 1984 with
    concentration steps (Rousseeuw & Van Driessen 2006), reweighted once.
    Raises `TooShortError` below two known points, `InputError` where all x are the same.
    """
    at, values = np.asarray(x, dtype=np.float64).ravel(), np.asarray(y, dtype=np.float64).ravel()
    if at.shape != values.shape:
        raise InputError(f"A line needs as many times as values; there are {len(at)} and {len(values)}.")
    present = np.isfinite(values) & np.isfinite(at)
    at, values = at[present], values[present]
    if len(at) < 2:
        raise TooShortError(f"A line needs two known points; there are {len(at)}.")
    if np.ptp(at) == 0:
        raise InputError("A line needs points at two different times.")
    centre, even = float(at.mean()), np.ones(len(at))
    at = at - centre
    if method == "least_squares":
        slope, level = _weighted_line(at, values, even)
        return Line(slope, level, centre, even)
    if method == "theil_sen":
        slope = median_slope(at, values)
        return Line(slope, float(np.median(values - slope * at)), centre, even)
    design = np.column_stack([np.ones(len(at)), at])
    if method == "huber":
        fit = regress(design, values, "huber")
    elif method == "tukey":
        slope, level, _ = _least_trimmed(at, values)
        fit = regress(design, values, "tukey", start=np.array([level, slope]))
    elif method == "least_trimmed":
        slope, level, kept = _least_trimmed(at, values)
        return Line(slope, level, centre, kept)
    else:
        raise SettingsError(f"There is no way to draw a line called “{method}”.", field="method")
    return Line(float(fit.weights[1]), float(fit.weights[0]), centre, fit.case_weights, fit.converged)


def _weighted_line(at: Floats, values: Floats, weights: Floats) -> tuple[float, float]:
    """Slope, and the value at 0, of a weighted least-squares line."""
    total = weights.sum()
    middle, level = (weights @ at) / total, (weights @ values) / total
    apart = at - middle
    spread = weights @ (apart * apart)
    slope = float((weights * apart) @ (values - level) / spread) if spread > 0 else 0.0
    return slope, float(level - slope * middle)


# the median of all pairwise slopes


@kernel
def _count_inversions(values: Floats, spare: Floats) -> int:
    """How many pairs i < j have values[i] > values[j]; sorts `values` on the way (bottom-up merge)."""
    count, width, size = 0, 1, len(values)
    source, target = values, spare
    while width < size:
        for left in range(0, size, 2 * width):
            middle, right = min(left + width, size), min(left + 2 * width, size)
            i, j, k = left, middle, left
            while i < middle and j < right:
                if source[i] <= source[j]:
                    target[k] = source[i]
                    i += 1
                else:
                    target[k] = source[j]
                    count += middle - i
                    j += 1
                k += 1
            while i < middle:
                target[k] = source[i]
                i += 1
                k += 1
            while j < right:
                target[k] = source[j]
                j += 1
                k += 1
        source, target = target, source
        width *= 2
    return count


def median_slope(at: Floats, values: Floats) -> float:
    """Median of (y_j - y_i) / (x_j - x_i) over all pairs with different x.

    Up to a few hundred points directly; beyond, by bisection on the slope: the number of pairs with
    a smaller slope is the number of inversions of y - slope · x, which a merge sort counts.
    """
    order = np.argsort(at, kind="stable")
    x, y = at[order], values[order]
    if len(x) <= _DIRECT or (np.diff(x) == 0).any():
        first, second = np.triu_indices(len(x), 1)
        apart = x[second] - x[first]
        usable = apart != 0
        return float(np.median((y[second] - y[first])[usable] / apart[usable]))
    pairs = len(x) * (len(x) - 1) // 2
    lower = _slope_of_rank(x, y, (pairs - 1) // 2)
    return lower if pairs % 2 else 0.5 * (lower + _slope_of_rank(x, y, pairs // 2))


def _slope_of_rank(x: Floats, y: Floats, rank: int) -> float:
    """The pairwise slope that `rank` others lie below, to 1e-13 of its size."""
    spare = np.empty(len(x))
    low, high = -float(np.ptp(y) / np.diff(x).min()), float(np.ptp(y) / np.diff(x).min())
    guess, room = _weighted_line(x, y, np.ones(len(x)))[0], float(np.ptp(y) / np.ptp(x)) * 1e-3
    for reach in (room, 100 * room):  # narrow the bracket around the plain line first
        if (
            _count_inversions(y - (guess - reach) * x, spare)
            <= rank
            < _count_inversions(y - (guess + reach) * x, spare)
        ):
            low, high = guess - reach, guess + reach
            break
    # False position on the count, which is smooth from afar, and every third time the middle.
    fewer = _count_inversions(y - low * x, spare)
    more = _count_inversions(y - high * x, spare)
    turn = 0
    while high - low > 1e-13 * max(abs(low), abs(high)):
        turn += 1
        share = (rank + 0.5 - fewer) / (more - fewer) if turn % 3 and more - fewer > 8 else 0.5
        middle = low + min(max(share, 0.02), 0.98) * (high - low)
        if middle in (low, high):
            break
        count = _count_inversions(y - middle * x, spare)
        if count <= rank:
            low, fewer = middle, count
        else:
            high, more = middle, count
    return 0.5 * (low + high)


# least trimmed squares


def _least_trimmed(at: Floats, values: Floats, seed: int = 0) -> tuple[float, float, Floats]:
    """Slope, value at 0 and kept points (1 or 0) of least trimmed squares over a bit more than half the points."""
    rng = np.random.default_rng(seed)
    sample = np.sort(rng.choice(len(at), min(_SAMPLE, len(at)), replace=False))
    x, y = at[sample], values[sample]
    slope = median_slope(x, y)
    starts = [(slope, float(np.median(y - slope * x)))]
    for first, second in rng.integers(len(x), size=(30, 2)):
        if x[first] != x[second]:
            slope = float((y[second] - y[first]) / (x[second] - x[first]))
            starts.append((slope, float(y[first] - slope * x[first])))
    tried = sorted(_concentrate(x, y, *start, rounds=2) for start in starts)[:10]
    _, slope, level = min(_concentrate(x, y, slope, level, rounds=50) for _, slope, level in tried)
    if len(x) < len(at):
        _, slope, level = _concentrate(at, values, slope, level, rounds=50)
    # Reweighting: points within 2.5 spreads of the raw line, the spread made consistent at the normal.
    residuals = np.abs(values - level - slope * at)
    spread = 1.4826 * float(np.median(residuals))
    kept = (residuals <= max(2.5 * spread, 1e-12 * float(np.abs(values).max()))).astype(np.float64)
    if np.ptp(at[kept > 0]) > 0:
        slope, level = _weighted_line(at, values, kept)
    return slope, level, kept


def _concentrate(x: Floats, y: Floats, slope: float, level: float, rounds: int) -> tuple[float, float, float]:
    """Refit to the closer half of the points until that half stays; returns its squared error, slope and level."""
    keep = min((len(x) + 3) // 2, len(x))
    loss = np.inf
    for _ in range(rounds):
        squares = (y - level - slope * x) ** 2
        chosen = np.argpartition(squares, keep - 1)[:keep]
        slope, level = _weighted_line(x[chosen], y[chosen], np.ones(keep))
        now = float(((y[chosen] - level - slope * x[chosen]) ** 2).sum())
        if now >= loss * (1 - 1e-12):
            break
        loss = now
    return loss, slope, level


# regression on a few columns


@dataclass(frozen=True)
class Regression:
    """Coefficients (n_columns,), weights of the cases (n_points,), scale of the residuals, whether it settled."""

    weights: Floats
    case_weights: Floats
    scale: float
    converged: bool


def regress(
    design: Floats, values: Floats, loss: Loss = "squared", start: Floats | None = None, rounds: int = _MOST_ROUNDS
) -> Regression:
    """Least squares, or an M-estimate by iterated reweighting, of `values` on `design` (n_points, n_columns).

    The scale is 1.4826 times the median absolute residual of each round. A Tukey fit without a start
    begins from Huber's.
    """
    ridge = 1e-12
    gram = design.T @ design
    penalty = ridge * np.diag(np.maximum(np.diag(gram), 1e-300))
    plain = np.linalg.lstsq(gram + penalty, design.T @ values, rcond=None)[0]
    even = np.ones(len(values))
    if loss == "squared":
        return Regression(np.asarray(plain, dtype=np.float64), even, float((values - design @ plain).std()), True)
    weights = np.asarray(plain if start is None else start, dtype=np.float64)
    if loss == "tukey" and start is None:
        weights = regress(design, values, "huber").weights
    cases, scale, converged = even, 0.0, False
    floor = 1e-12 * max(float(np.abs(values).max(initial=0.0)), 1e-300)
    for _ in range(rounds):
        residuals = values - design @ weights
        scale = 1.4826 * float(np.median(np.abs(residuals)))
        if scale <= floor:
            cases, converged = (np.abs(residuals) <= floor).astype(np.float64), True
            break
        ratio = np.abs(residuals) / scale
        if loss == "huber":
            cases = _HUBER / np.maximum(ratio, _HUBER)
        else:
            cases = np.maximum(1 - (ratio / _TUKEY) ** 2, 0.0) ** 2
        weighted = design * cases[:, None]
        moved = np.linalg.lstsq(weighted.T @ design + penalty, weighted.T @ values, rcond=None)[0]
        shift = float(np.abs(design @ (moved - weights)).max())
        weights = np.asarray(moved, dtype=np.float64)
        if shift <= 1e-7 * scale:
            converged = True
            break
    return Regression(weights, cases, scale, converged)
