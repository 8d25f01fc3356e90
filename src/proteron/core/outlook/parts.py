"""What a forecast is made of, as a sum that adds up."""

from itertools import takewhile

import numpy as np

from proteron.core.forecasters import FittedContender
from proteron.core.panel import Floats

_NOTHING = 1e-12  # of the largest value


def parts_of(fitted: FittedContender, mean: Floats) -> dict[str, Floats]:
    """Parts by name, (n_series, horizon) each, zero for series without such a part, that add up to `mean` (n_series,
    horizon) as it is shown, in the units of the data; NaN where there is no forecast."""
    each = [_of_series(fitted, mean[index], index) for index in range(len(mean))]
    names = dict.fromkeys(name for parts in each for name in parts)
    return {name: np.stack([parts.get(name, np.zeros(mean.shape[1])) for parts in each]) for name in names}


def part_errors_of(fitted: FittedContender, horizon: int) -> dict[str, Floats]:
    """Standard errors of a forecaster's own parts, (n_series, horizon), NaN where it states none."""
    if fitted.chain.stages:
        return {}
    learner, known = fitted.contender.forecaster, fitted.known
    each = [learner.part_errors(fitted.state, known, key, fitted.until, horizon) for key in known.keys]
    names = dict.fromkeys(name for errors in each for name in errors)
    return {name: np.stack([errors.get(name, np.full(horizon, np.nan)) for errors in each]) for name in names}


def _of_series(fitted: FittedContender, mean: Floats, index: int) -> dict[str, Floats]:
    """Those of one series, whose mean (horizon,) is shown.

    Each stage of the chain adds what it gives back of itself alone, from the first on; the forecaster adds what its
    forecast changes of that, in its own parts where it has some; what is left is what limits and safeguards moved.
    Behind a transform of single values a part is what it adds to those before it.
    """
    known, horizon = fitted.known, len(mean)
    key, first = known.keys[index], int(known.starts[index])
    origins = np.array([fitted.until], dtype=np.int64)
    inside = np.clip(origins, first, first + int(known.lengths[index]))
    lanes = fitted.chain.lanes(known, index)

    def undone(flat: Floats, stages: int) -> Floats:
        return fitted.chain.undo_ahead(key, flat[None], inside, first, lanes, stages)[0]

    names = list[str]()
    sums = [np.zeros(horizon)]
    plain = len(list(takewhile(lambda stage: stage.group == "transform", fitted.chain.stages)))
    for place in range(plain, len(fitted.chain.stages)):
        names.append(_unused(fitted.chain.stages[place].title, names))
        sums.append(undone(np.zeros(horizon), place + 1))
    flat = fitted.means(known, origins, horizon)[1][index, 0]
    learner = fitted.contender.forecaster
    own = learner.parts(fitted.state, fitted.chain.apply(known), key, fitted.until, horizon) or {learner.title: flat}
    so_far = np.zeros(horizon)
    for name, values in own.items():
        so_far = so_far + values
        names.append(_unused(name, names))
        sums.append(undone(so_far, len(fitted.chain.stages)))
    told = {name: sums[place + 1] - sums[place] for place, name in enumerate(names)}
    left = mean - sums[-1]
    if np.nanmax(np.abs(left), initial=0.0) > _NOTHING * np.nanmax(np.abs(mean), initial=1.0):
        told["limits and safeguards"] = left
    return told


def _unused(name: str, names: list[str]) -> str:
    """A name that is not taken yet."""
    taken = sum(each == name or each.startswith(f"{name} (") for each in names)
    return f"{name} ({taken + 1})" if taken else name
