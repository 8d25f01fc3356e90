"""What a network learns from, row by row."""

from typing import NamedTuple

import numpy as np

from proteron.core.compiled import kernel
from proteron.core.panel import Floats
from proteron.core.timeline import Ints


class Rows(NamedTuple):
    """Inputs (n_rows, n_features), targets (n_rows, n_steps), weights and units of counts (n_rows,)."""

    inputs: Floats
    targets: Floats
    weights: Floats
    units: Floats


def plain_rows(inputs: Floats, targets: Floats, weights: Floats | None = None) -> Rows:
    """Rows whose targets are told as they are, of equal weight where none is given."""
    ones = np.ones(len(inputs))
    return Rows(inputs, targets, ones if weights is None else weights, ones)


@kernel
def gather(rows: Rows, chosen: Ints, inputs: Floats, targets: Floats, weights: Floats, units: Floats) -> None:
    """Copy chosen rows side by side."""
    for place in range(len(chosen)):
        inputs[place] = rows.inputs[chosen[place]]
        targets[place] = rows.targets[chosen[place]]
        weights[place] = rows.weights[chosen[place]]
        units[place] = rows.units[chosen[place]]
