"""How candidates are weighed: by their errors in folds that each had not seen."""

import numpy as np

from proteron.core.panel import Floats

LEVELS = (0.5, 0.8, 0.95)  # of ranges that folds are asked about
_LEAST = 0.05  # of the median error: what is nearer to none counts as that
_TRUSTED = 8  # errors by which what own folds say counts half of all it can
_NARROWEST = 0.2  # times theory, however little folds erred
_DROPPED = 2.0  # times the best: what errs more has no weight


def weighed_errors(truth: Floats, forecasts: Floats, scale: Floats | float) -> Floats:
    """Errors of candidates (n_candidates,) from forecasts (n_candidates, n_folds, horizon), NaN where there is none.

    Mean over folds of w·|y - f| with w = 0.5 / scale + 1 / (|y| + |mean of candidates|); what a candidate did not
    forecast counts as the mean of the others. `truth` (n_folds, horizon); `scale`, one or (n_folds, 1).
    """
    there = np.isfinite(forecasts)
    count = there.sum(axis=0)
    middle = np.where(there, forecasts, 0.0).sum(axis=0) / np.maximum(count, 1)
    filled = np.where(there, forecasts, middle)
    weights = 0.5 / scale + 1 / np.maximum(np.abs(truth) + np.abs(middle), 1e-300)
    losses = weights * np.abs(truth - filled)
    scored = np.isfinite(truth) & (count > 0)
    return np.where(scored, losses, 0.0).sum(axis=(1, 2)) / max(int(scored.sum()), 1)


def inverse_weights(errors: Floats, power: float = 3.0, drop: float = _DROPPED) -> Floats:
    """Shares (n_candidates,) that add up to one: errors to minus the power, none above `drop` times the best."""
    floored = np.maximum(errors, _LEAST * np.median(errors))
    if not (floored > 0).all():
        return np.full(len(errors), 1 / len(errors))
    best = floored.min()
    raw = np.where(floored <= drop * best, (best / floored) ** power, 0.0)
    return np.asarray(raw / raw.sum())


def blended(parts: Floats, weights: Floats) -> Floats:
    """Weighted means over the first axis of what is there of parts (n_candidates, …); NaN where nothing is.

    Weights are (n_candidates,), or reach as far as the parts."""
    there = np.isfinite(parts)
    wide = weights.reshape(-1, *[1] * (parts.ndim - 1)) if weights.ndim == 1 else weights
    shares = wide * there
    mass, total = shares.sum(axis=0), (shares * np.where(there, parts, 0.0)).sum(axis=0)
    return np.where(mass > 0, total / np.where(mass > 0, mass, 1.0), np.nan)


def shares_of_reach(truth: Floats, blend: Floats, halves: Floats) -> Floats:
    """Errors of a blend as shares of what its range reaches to their side, (n_known,).

    `truth` and `blend` (…), `halves` (2, …) how far the range reaches below and above."""
    off = truth - blend
    reach = np.where(off < 0, halves[0], halves[1])
    known = np.isfinite(off) & (reach > 0)
    return np.abs(off[known]) / reach[known]


def range_factor(level: float, own: Floats, others: Floats | None = None) -> float:
    """By what a range of a level is stretched: the geometric mean of what own folds say, of what those of other series
    say, and of 1, which is theory's and what is said where there are none.

    Folds say the quantile at the level of errors as shares of the reach, `own` and `others` (n,); few say less.
    """
    return float((_said(level, np.zeros(0) if others is None else others) * _said(level, own)) ** (1 / 3))


def _said(level: float, shares: Floats) -> float:
    said = max(float(np.quantile(shares, level)), _NARROWEST) if len(shares) else 1.0
    return float(said ** _trust(shares))


def _trust(shares: Floats) -> float:
    return len(shares) / (len(shares) + _TRUSTED)
