"""What looks good where it is easy: in flattened units, or on what was learned."""

import numpy as np
from scipy import special

from proteron.core.judge.cells import FLAT_SQUARE
from proteron.core.judge.deceptions.case import Case, Deception
from proteron.core.judge.evidence.verdict import signed

_GOOD = 0.3
_FEWEST = 20
_SURE = 1e-3
_WORSE = 1.5
_MEDIAN = 0.6745  # of the absolute value of a standard normal


def flat_only(case: Case) -> Deception | None:
    """In flattened units it explains much, in original units it is no better than the baseline."""
    if case.outcome is None or case.skill > 0 or FLAT_SQUARE not in case.told.names_kept:
        return None
    square = case.told.kept(FLAT_SQUARE).of(case.name)
    truth = np.where(np.isfinite(square), case.outcome.flat_truth, np.nan)
    known = np.isfinite(truth)
    if known.sum() < _FEWEST:
        return None
    centre = np.nanmean(truth, axis=(0, 2, 3), keepdims=True)
    whole = np.nansum((truth - centre) ** 2)
    explained = 1 - np.nansum(np.where(known, square, 0.0)) / whole if whole > 0 else 0.0
    if explained < _GOOD:
        return None
    return case.says(
        "flat_only", "good in flattened units only",
        f"In flattened units it explains {100 * explained:.0f} % of the variance; once its chain is undone its skill "
        f"is {signed(case.skill)}.",
    )  # fmt: skip


def inside_only(case: Case) -> Deception | None:
    """One step ahead it errs far more after the cutoff than inside what it learned."""
    if case.outcome is None or case.naive or case.folds[0].gap > 0:
        return None
    away = np.abs(case.outcome.flat_mean - case.outcome.flat_truth)[..., 0]  # (n_folds, n_series, n_origins)
    away = np.where(np.isfinite(case.squares[..., 0]), away, np.nan)
    inside = _MEDIAN * case.outcome.spread[:, :, None]
    ratios = (away / np.where(inside > 0, inside, np.nan)).reshape(-1)
    ratios = ratios[np.isfinite(ratios)]
    if len(ratios) < _FEWEST:
        return None
    chance = special.bdtr((ratios <= 1).sum(), len(ratios), 0.5)
    middle = float(np.median(ratios))
    if chance > _SURE or middle < _WORSE:
        return None
    return case.says(
        "inside_only", "better inside than after the cutoff",
        f"One step ahead its typical error after the cutoff is {middle:.1f} times that inside what it learned: how "
        "well it fits says little here.",
    )  # fmt: skip
