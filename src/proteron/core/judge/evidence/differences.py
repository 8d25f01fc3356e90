"""Whether one sequence of losses is smaller than another by more than chance."""

from dataclasses import dataclass

import numpy as np
from scipy.special import stdtr

from proteron.core.panel import Floats

_SMOOTHING = 0.4
_FEWEST_WAVES = 3
_APART = 2.5


@dataclass(frozen=True)
class DifferenceTest:
    """Of differences of losses along time: positive `statistic` where the first lost more.

    `p_value` is two-sided, of Student's distribution with `degrees` of freedom. `textbook` and `textbook_p_value` are
    the statistic as it is mostly published, right only where losses farther apart than the horizon are independent;
    None where its variance is negative. All are None where nothing can be said.
    """

    observations: int
    mean: float | None
    statistic: float | None = None
    p_value: float | None = None
    degrees: int | None = None
    textbook: float | None = None
    textbook_p_value: float | None = None


def compare_losses(differences: Floats, overlap: int = 1) -> DifferenceTest:
    """Diebold & Mariano 1995 on differences of losses (n,) in the order of their origins; NaN are left out.

    `overlap` is how many steps of that order a forecast reaches: 1 where none overlaps the next. The long-run variance
    is the mean of the lowest cosine terms, as many as n and the overlap allow (Lazarus, Lewis, Stock & Watson 2018,
    eq. 4), so that the test holds its size under autocorrelated losses; beside it the textbook's with `overlap` - 1
    autocovariances and the small-sample correction of Harvey, Leybourne & Newbold 1997, eq. 9.
    """
    known = differences[np.isfinite(differences)]
    count = len(known)
    if not count:
        return DifferenceTest(0, None)
    mean = float(known.mean())
    if count < 3 or not np.ptp(known) > 0:
        return DifferenceTest(count, mean)
    degrees = _waves(count, overlap)
    phase = np.pi * (np.arange(count) + 0.5) / count
    terms = np.sqrt(2 / count) * np.array([(np.cos(wave * phase) * known).sum() for wave in range(1, degrees + 1)])
    statistic = mean * np.sqrt(count / (terms**2).mean())
    textbook = _textbook(known - mean, mean, min(overlap, count - 1))
    return DifferenceTest(
        count, mean, float(statistic), _two_sided(statistic, degrees), degrees, textbook,
        None if textbook is None else _two_sided(textbook, count - 1),
    )  # fmt: skip


def _waves(count: int, overlap: int) -> int:
    """How many cosine terms: few enough to be as flat as at frequency zero, whatever overlaps."""
    if overlap <= 1:
        return min(max(int(_SMOOTHING * count ** (2 / 3)), _FEWEST_WAVES), count - 1)
    return max(int(min(_SMOOTHING * count ** (2 / 3), count / (_APART * overlap))), 1)


def _textbook(away: Floats, mean: float, overlap: int) -> float | None:
    count = len(away)
    covariances = [(away[lag:] * away[: count - lag]).sum() / count for lag in range(overlap)]
    variance = (covariances[0] + 2 * sum(covariances[1:])) / count
    if not variance > 0:
        return None
    correction = (count + 1 - 2 * overlap + overlap * (overlap - 1) / count) / count
    return float(np.sqrt(correction) * mean / np.sqrt(variance))


def _two_sided(statistic: float, degrees: int) -> float:
    return float(2 * stdtr(degrees, -abs(statistic)))
