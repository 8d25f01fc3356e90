"""What ranges by theory are made of: the variance of errors to come, and the doubt in what was learned."""

from collections.abc import Callable, Sequence

import numpy as np
from scipy import special

from proteron.core.forecasters.forecast import quantiles_of_rows
from proteron.core.panel import Floats


def normal_bounds(mean: Floats, spread: Floats, levels: Sequence[float], freedom: Floats | None = None) -> Floats:
    """Normal ranges (n_levels, 2, …) around `mean` with standard deviation `spread`, both (…).

    With degrees of `freedom` (…), ranges of Student's t.
    """
    shares = [0.5 + level / 2 for level in levels]
    reach = [special.ndtri(share) if freedom is None else special.stdtrit(freedom, share) for share in shares]
    return np.stack([np.stack([mean - z * spread, mean + z * spread]) for z in reach])


def enough_errors(level: float) -> int:
    """How many past errors tell both ends of a range: below the least and above the largest of n lies 2 / (n + 1)."""
    return int(np.ceil(2 / (1 - level) - 1 - 1e-9))


def are_few(errors: int, levels: Sequence[float]) -> bool:
    """Whether so many errors do not tell the ends of the widest of these ranges."""
    return errors < max(map(enough_errors, levels), default=0)


def ends_from_errors(possible: Floats, centre: Floats, levels: Sequence[float]) -> Floats:
    """Ranges (n_levels, 2, …) of what might have been (n_rows, …) around a forecast (…), NaN where there is no error.

    Quantiles where there are enough errors for the widest level; with fewer, as far to either side as Student's t with
    so many degrees of freedom says of their root mean square: as often as the level says where errors are normal.
    Either way the forecast lies in its own range.
    """
    counts = np.isfinite(possible).sum(axis=0)
    squares = np.where(np.isfinite(possible), (possible - centre) ** 2, 0.0).sum(axis=0)
    spread = np.sqrt(squares / np.maximum(counts, 1))
    out = np.full((len(levels), 2, *centre.shape), np.nan)
    enough = max(map(enough_errors, levels), default=0)
    few = counts < enough
    shares = [share for level in levels for share in ((1 - level) / 2, (1 + level) / 2)]
    told = [] if few.all() else quantiles_of_rows(possible, shares)
    for place in range(len(levels)):
        for end in (0, 1):
            share = shares[2 * place + end]
            found = told[2 * place + end] if told else out[place, end].copy()
            found[few] = centre[few] + special.stdtrit(np.maximum(counts[few], 1), share) * spread[few]
            within = np.minimum if end == 0 else np.maximum
            out[place, end] = np.where(counts > 0, within(found, centre), np.nan)
    return out


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


def spread_out(noise: Floats, weights: Floats) -> Floats:
    """What errors (count, horizon) add up to when each goes on with `weights` (horizon,)."""
    out = np.zeros_like(noise)
    for back in range(noise.shape[1]):
        out[:, back:] += weights[back] * noise[:, : noise.shape[1] - back]
    return out
