"""Too good to be true."""

import numpy as np

from proteron.core.judge.deceptions.case import Case, Deception
from proteron.core.judge.losses import reported_of

_SKILL = 0.8
_BETTER = 4.0


def too_good(case: Case) -> Deception | None:
    """Hardly any error left, where the next best entrant has many times as much on the same points."""
    if case.naive or not case.skill > _SKILL:
        return None
    mine, errors = case.compared.of(case.name), {}
    for name in case.compared.names:
        theirs = case.compared.of(name)
        both = np.isfinite(mine) & np.isfinite(theirs)
        if name != case.name and both.any():
            own, other = (float(reported_of(case.metric, each[both].mean(), 1.0)) for each in (mine, theirs))
            errors[name] = other / own if own > 0 else np.inf
    if not errors or min(errors.values()) < _BETTER:
        return None
    next_best = min(errors, key=lambda name: errors[name])
    times = f"{errors[next_best]:.0f} times" if np.isfinite(errors[next_best]) else "infinitely many times"
    return case.says(
        "too_good", "too good to be true",
        f"{next_best}, the next best, errs {times} as much: make sure that it knows nothing from after the cutoff, as "
        "the leak check does.",
    )  # fmt: skip
