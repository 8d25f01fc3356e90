"""Losses of ranges: the pinball loss of their ends, and the continuous ranked probability score."""

import numpy as np

from proteron.core.judge.metrics.metric import Loss, Metric, Need, Scored
from proteron.core.panel import Floats


def pinball(quantile: Floats, truth: Floats, share: Floats) -> Floats:
    """Pinball loss (Koenker & Bassett 1978) of a quantile said to have `share` of the truth below it."""
    below = truth - quantile
    return np.maximum(share * below, (share - 1) * below)


def _quantiles(scored: Scored) -> tuple[Floats, Floats]:
    """Shares (n_quantiles,) from low to high and the quantiles (n_quantiles, …), the mean standing for the middle."""
    assert scored.lower is not None and scored.upper is not None
    tails = (1 - np.array(scored.levels)) / 2
    shares = np.concatenate([tails, [0.5], 1 - tails])
    ends = np.concatenate([scored.lower, scored.mean[None], scored.upper])
    order = np.argsort(shares, kind="stable")
    return shares[order], ends[order]


def _pinball(scored: Scored) -> Floats:
    """Mean pinball loss of the ends of all ranges, the middle left out: each range weighs the same."""
    assert scored.lower is not None and scored.upper is not None
    tails = (1 - np.array(scored.levels)).reshape(-1, 1, 1, 1) / 2
    both = pinball(scored.lower, scored.truth, tails) + pinball(scored.upper, scored.truth, 1 - tails)
    return np.asarray(both.mean(axis=0) / 2)


def _crps(scored: Scored) -> Floats:
    """Twice the integral of the pinball loss over all shares (Gneiting & Raftery 2007), by the trapezoidal rule.

    From paths it is exact for their distribution: E|X - y| - E|X - X'| / 2 (eq. 21 there).
    """
    if scored.paths is not None:
        ordered = np.sort(scored.paths, axis=0)
        count = len(ordered)
        places = (2 * np.arange(1, count + 1) - count - 1).reshape(-1, 1, 1, 1)
        between = 2 * (places * ordered).sum(axis=0) / count**2
        return np.asarray(np.abs(ordered - scored.truth).mean(axis=0) - between / 2)
    shares, ends = _quantiles(scored)
    losses = pinball(ends, scored.truth, shares.reshape(-1, 1, 1, 1))
    nothing = np.zeros((1, *scored.truth.shape))
    losses = np.concatenate([nothing, losses, nothing])
    return np.asarray(2 * np.trapezoid(losses, np.concatenate([[0.0], shares, [1.0]]), axis=0))


_RANGES: frozenset[Need] = frozenset({"ranges"})
PINBALL = Metric(
    "pinball", "pinball", "series", Loss("pinball", _pinball, _RANGES),
    "mean over both ends q of all ranges of max(p (y - q), (p - 1) (y - q))", "Koenker & Bassett 1978",
    undefined="there are no ranges",
)  # fmt: skip
CRPS = Metric(
    "crps", "CRPS", "series", Loss("crps", _crps, _RANGES), "E|X - y| - E|X - X'| / 2, or the pinball loss integrated",
    "Gneiting & Raftery 2007, eq. 21", undefined="there are no ranges",
)  # fmt: skip
