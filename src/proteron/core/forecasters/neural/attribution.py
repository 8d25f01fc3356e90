"""What every input of a network adds to what it says (integrated gradients, Sundararajan et al. 2017)."""

from collections.abc import Sequence

import numpy as np

from proteron.core.forecasters.influence import ALONG, along
from proteron.core.forecasters.neural.bound import Drawing
from proteron.core.forecasters.neural.network import Bound, Network
from proteron.core.forecasters.neural.training import answers
from proteron.core.panel import Floats


def integrated(
    network: Network, repeats: Floats, end: Floats, categories: Sequence[int], place: int
) -> tuple[Floats, float]:
    """Means over repeats (n_repeats, n_parameters) of what inputs `end` (n_inputs,) add to output `place`, and of what
    it is where all are zero. Categories have no slope: they are put in before, one after the other."""
    ways = [np.zeros_like(end)]
    for column in categories:
        ways.append(ways[-1].copy())
        ways[-1][column] = end[column]
    total, base = np.zeros(len(end)), 0.0
    for parameters in repeats:
        bound = network.bind(parameters, np.zeros_like(parameters), ALONG, Drawing(np.random.default_rng(0)), True)

        def slopes(rows: Floats, bound: Bound = bound) -> Floats:
            bound.input[:] = rows
            bound.forward()
            bound.flows[:] = 0
            bound.by_output[:, place] = 1
            bound.back()
            return bound.by_input

        said = answers(network, parameters, np.array(ways))[:, place]
        total += along(slopes, ways[-1], end)
        for column, jump in zip(categories, np.diff(said), strict=True):
            total[column] += jump
        base += float(said[0])
    return total / len(repeats), base / len(repeats)
