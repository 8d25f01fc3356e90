"""Good on average, and not where one looks: one fold carries it, most series lose, fewer points are scored."""

import numpy as np

from proteron.core.judge.deceptions.case import Case, Deception
from proteron.core.words import counted

_WORTH = 0.02  # a skill below it is not told of as a win
_FEW_SERIES = 5
_FEW_FOLDS = 4
_ALMOST_ALL = 0.999


def one_fold(case: Case) -> Deception | None:
    """Without its best fold it would be no better than the baseline, and in two folds of three it is not."""
    by_fold = case.pair.skill(1, 2)
    known = np.flatnonzero(np.isfinite(by_fold))
    if not case.skill > _WORTH or len(known) < _FEW_FOLDS:
        return None
    saved = (case.pair.theirs - case.pair.mine).sum(axis=(1, 2))
    best = int(saved.argmax())
    rest = np.arange(len(by_fold)) != best
    if saved[rest].sum() > 0 or (by_fold[known] <= 0).sum() * 3 < 2 * len(known):
        return None
    return case.says(
        "one_fold", "one fold carries it",
        f"It owes its skill to fold {best + 1}: it is worse than {case.baseline} in "
        f"{(by_fold[known] <= 0).sum()} of {len(known)} folds, and without that one on average.",
    )  # fmt: skip


def most_series(case: Case) -> Deception | None:
    """Better on average, worse on most series."""
    by_series = case.pair.skill(0, 2)
    known = by_series[np.isfinite(by_series)]
    worse = int((known < 0).sum())
    if not case.skill > _WORTH or len(known) < _FEW_SERIES or worse * 2 <= len(known):
        return None
    return case.says(
        "most_series", "worse on most series",
        f"It is better than {case.baseline} on average, and worse on {worse} of {len(known)} series.",
    )  # fmt: skip


def fewer_points(case: Case) -> Deception | None:
    """Some of the points that the baseline is scored on are missing: its own error is of the others."""
    mine, theirs = (int(np.isfinite(case.compared.of(name)).sum()) for name in (case.name, case.baseline))
    common = int(case.pair.counts.sum())
    if case.naive or not theirs or common >= _ALMOST_ALL * theirs:
        return None
    return case.says(
        "fewer_points", "fewer points scored",
        f"It has forecasts for {common:,} of the {counted(theirs, 'point')} of {case.baseline}; skill compares these, "
        f"its error is of {'these' if mine == common else f'{mine:,}'} alone.",
    )  # fmt: skip
