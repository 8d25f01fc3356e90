"""Errors drawn from past ones: any number of joint futures, each series and step with its own distribution."""

import numpy as np
from scipy import special

from proteron.core.forecasters.ranges import enough_errors
from proteron.core.panel import Floats

_ENOUGH = enough_errors(0.95)


def drawn(errors: Floats, count: int, seed: int = 0, joint: bool = True) -> Floats:
    """Errors (count, n_series, horizon) drawn from past ones (n_rows, n_series, horizon), NaN where none is known.

    Each series and step has the quantiles of its own past errors, of Student's t where they are few. They belong
    together as past ones did, across steps and, where `joint`, across series: weighted sums of the rows' normal scores
    with normal weights, so a Gaussian copula with their rank correlation (Nelsen 2006, chapter 2; van der Waerden
    scores). Series that are drawn on their own differ in their weights only.
    """
    n_rows, n_series, horizon = errors.shape
    out = np.full((count, n_series, horizon), np.nan)
    if not n_rows:
        return out
    rng = np.random.default_rng(seed)
    weights = rng.normal(size=(count, n_rows))
    for index in range(n_series):
        own = errors[:, index]
        known = np.isfinite(own)
        if not known.any():
            continue
        mine = weights if joint or index == 0 else rng.normal(size=(count, n_rows))
        out[:, index] = _quantiles(own, known, mine @ _unit_scores(own, known))
    return out


def apart(paths: Floats, seed: int = 0) -> Floats:
    """The same values (n_paths, n_series, horizon) at every series and step, of which none belong together.

    What totals and chances would be if errors of neighbouring steps and of series had nothing to do with each other.
    """
    rng = np.random.default_rng(seed)
    return rng.permuted(paths, axis=0)


def _unit_scores(own: Floats, known: np.ndarray) -> Floats:
    """Normal scores (n_rows, horizon) of the errors of each step, zero where none is known, of length 1 by step."""
    ranks = np.argsort(np.argsort(own, axis=0, kind="stable"), axis=0, kind="stable") + 1.0  # unknown ones come last
    counts = known.sum(axis=0)
    scores = np.where(known, special.ndtri(np.clip(ranks / (counts + 1.0), 1e-9, 1 - 1e-9)), 0.0)
    length = np.sqrt((scores**2).sum(axis=0))
    alone = length < 1e-12  # a single error
    scores[:, alone] = known[:, alone]
    length[alone] = np.maximum(np.sqrt(counts[alone]), 1.0)
    return np.asarray(scores / length)


def _quantiles(own: Floats, known: np.ndarray, normal: Floats) -> Floats:
    """Normal draws (count, horizon) as errors of each step."""
    order = np.sort(own, axis=0)  # NaN last
    counts = known.sum(axis=0)
    share = special.ndtr(normal)
    out = np.empty_like(normal)
    for step, n in enumerate(counts.tolist()):
        if n >= _ENOUGH:
            out[:, step] = np.interp(share[:, step] * (n + 1) - 1, np.arange(n), order[:n, step])
        elif n:
            spread = np.sqrt((order[:n, step] ** 2).mean())
            out[:, step] = special.stdtrit(n, share[:, step]) * spread
        else:
            out[:, step] = np.nan
    return out
