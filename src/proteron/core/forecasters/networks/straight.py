"""The straight line that a network begins as: what a season ago says, corrected by ridge."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from proteron.core.forecasters.aligned import some_of
from proteron.core.forecasters.networks.eye import pieces_of
from proteron.core.forecasters.neural.rows import Rows
from proteron.core.forecasters.ridge import ridge_weights
from proteron.core.panel import Floats
from proteron.core.timeline import Ints
from proteron.core.windows import Table

_LOOKED_AT = 10_000  # rows
_LEAST = 0.01  # of what is usual: no series errs less
_STRENGTHS = (1e-4, 1e-3, 1e-2, 0.1, 1.0, 10.0, 100.0)  # penalties a row
_BOUND = 1.345  # robust deviations from which errors weigh less (Huber 1964)


@dataclass(frozen=True)
class StraightLine:
    """Slopes (n_features, n_steps), biases (n_steps,), and the mean absolute error held out, each row's as its series
    is worth."""

    slopes: Floats
    biases: Floats
    error: float


def worth_of(table: Table, rows: NDArray[np.bool_], line: Floats) -> Floats:
    """For chosen rows one over what a line (n_features, n_steps) errs in their series, so that each counts alike,
    whatever its level has been before."""
    errors = np.concatenate([
        np.abs(np.nan_to_num(table.features[at]) @ line - table.targets[at]).mean(axis=1) for _, at in pieces_of(rows)
    ])  # fmt: skip
    series = table.series[rows]
    usual = np.bincount(series, errors) / np.maximum(np.bincount(series), 1)
    least = _LEAST * float(np.median(usual[np.unique(series)]))
    return 1 / np.maximum(usual[series], least) if least > 0 else np.ones(len(series))


def straight_start(learned: Rows, later: Rows, scales: Floats, base: Floats) -> StraightLine:
    """The line whose held-out absolute error is the least; `scales` (n_rows,) are what held-out rows count.

    It is `base` (n_features, n_steps) and the ridge (Hoerl & Kennard 1970) of what that leaves, reweighted by Huber's
    function; of several strengths one, or none at all.
    """
    some, (held_out, chosen) = _some(learned)[0], _some(later)
    left, left_later = some.targets - some.inputs @ base, held_out.targets - held_out.inputs @ base
    none = np.zeros(left.shape[1])
    weights = held_out.weights * scales[chosen]
    best = StraightLine(base, none, _error(left_later, weights))
    centre, spread = some.inputs.mean(axis=0), some.inputs.std(axis=0)
    spread = np.where(spread > 1e-6, spread, np.inf)
    inputs = (some.inputs - centre) / spread
    for strength in _STRENGTHS:
        found, middle = _robust(inputs, left, some.weights, strength * len(inputs))
        slopes = found / spread[:, None]
        bias = middle - centre @ slopes
        error = _error(left_later - held_out.inputs @ slopes - bias, weights)
        if error < best.error:
            best = StraightLine(base + slopes, bias, error)
    return best


def level_start(width: int, steps: int, bias: float) -> StraightLine:
    """No line but a level that is the same for all."""
    return StraightLine(np.zeros((width, steps)), np.full(steps, bias), float("inf"))


def _some(rows: Rows) -> tuple[Rows, Ints]:
    """Rows in double precision, some where there are many, and which."""
    at = some_of(np.ones(len(rows.inputs), dtype=bool), _LOOKED_AT)
    return Rows(rows.inputs[at].astype(float), rows.targets[at].astype(float), rows.weights[at], rows.units[at]), at


def _error(errors: Floats, weights: Floats) -> float:
    return float((np.abs(errors).mean(axis=1) * weights).mean())


def _robust(inputs: Floats, targets: Floats, weights: Floats, strength: float) -> tuple[Floats, Floats]:
    """Slopes (n_features, n_steps) and middles (n_steps,) of centred columns; rows far off weigh less."""
    mine = weights
    found, middle = np.zeros((inputs.shape[1], targets.shape[1])), np.zeros(targets.shape[1])
    for _ in range(2):
        middle = np.average(targets, axis=0, weights=mine)
        found = ridge_weights(inputs, targets - middle, strength, mine)
        far = np.abs(targets - inputs @ found - middle).mean(axis=1)
        usual = float(np.median(far))
        if usual <= 0:
            break
        mine = weights * np.minimum(1.0, _BOUND * usual / np.maximum(far, 1e-300))
    return found, middle
