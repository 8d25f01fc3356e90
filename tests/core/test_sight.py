"""What units of a network see: moving a point changes the steps that see it and no others."""

import numpy as np
import pytest

import proteron as pt
from proteron.core.forecasters.networks.layout import Layout
from proteron.core.forecasters.networks.learned import LearnedNetwork
from proteron.core.forecasters.neural import bound, layers
from proteron.core.forecasters.neural.bound import Drawing
from proteron.core.forecasters.neural.network import Network
from proteron.core.forecasters.neural.sight import sights
from quick import LEARNERS, QUICK

KINDS = [kind for kind in LEARNERS if isinstance(pt.forecaster(kind).forecaster, LearnedNetwork)]


def values_of(network: Network, parameters: np.ndarray, row: np.ndarray) -> list[np.ndarray]:
    """What every layer makes of one row."""
    made = []
    for layer in network.layers:
        short = Network(network.width, list(network.shapes), network.layers[: network.layers.index(layer) + 1])
        short.size, short.shapes = network.size, network.shapes
        whole = short.bind(parameters, np.zeros_like(parameters), 1, Drawing(np.random.default_rng(0)))
        whole.input[:] = row
        whole.forward()
        steps, channels = network.shape(layer.out)
        made.append(whole.output.reshape(steps, channels).copy())
    return made


def spread_out(kind: str) -> Network:
    net = Network(14)
    one = net.taken(1, 12)
    if kind == "convolution":
        net.convolution(net.convolution(one, 3, 3, 2), 2, 2, stride=2)
    elif kind == "pools":
        net.thinned(net.mean(net.most(net.dense(one, 2, layers.TANH), 2), 2), 2)
    elif kind == "smooth":
        net.without(one, net.smooth(net.dense(one, 1), 5))
    elif kind == "both ways":
        net.attention(net.attention(net.dense(one, 4), 2, causal=False), 2, last=True)
    elif kind == "pieces":
        net.last(net.recurrent(net.taken(2, 3, 4), 3, "lstm"))
    else:
        net.joined(net.flat(net.dense(one, 1)), net.taken(13, 1))
    return net


@pytest.mark.parametrize("kind", [*KINDS, "convolution", "pools", "smooth", "both ways", "pieces", "join"])
def test_a_step_changes_with_the_points_it_sees_and_no_others(kind: str, rng: np.random.Generator) -> None:
    if kind in KINDS:
        settings = {name: value for name, value in QUICK[kind].items() if name != "lags"}
        model = pt.forecaster(kind, **settings).forecaster
        window = 10 if model.reads_window else 0
        network = model.build(Layout(window, 14 - window, 2, rng.normal(size=(14, 2)), np.zeros(2)))
    else:
        network = spread_out(kind)
    parameters = network.begin(rng) + 0.3 * rng.normal(size=network.count)
    row = rng.normal(size=14)
    told, before = sights(network), values_of(network, parameters, row)
    assert [each.weights for each in told] == [layer.count for layer in network.layers]
    quiet = (
        "dense",
        "sum",
        "largest of",
        *(["convolution", "every 2 steps"] if kind in KINDS else []),
    )  # silent, or others win
    seen = [[set() for _ in each.spans] for each in told]
    for point in range(14):
        for _ in range(3):
            moved = row.copy()
            moved[point] += rng.normal() * 3
            for place, made in enumerate(values_of(network, parameters, moved)):
                for step in np.flatnonzero((made != before[place]).any(axis=1)):
                    seen[place][step].add(point)
    for each, mine in zip(told, seen, strict=True):
        for (first, last), points in zip(each.spans, mine, strict=True):
            assert points <= set(range(first, last + 1)), each.title
            if points and each.title not in quiet:
                assert min(points) == first and max(points) == last, each.title


def test_every_kind_of_layer_is_known() -> None:
    """What is not said of reach reads each step by itself."""
    from proteron.core.forecasters.neural.sight import REACH

    alone = {"dense", "position", "norm", "batch_norm", "dropout", "embedding", "basis"}
    assert {name for name in vars(bound) if name.startswith("bind_")} == {
        *(each.__name__ for each in REACH), *(f"bind_{name}" for name in alone)
    }  # fmt: skip


def test_lags_of_a_drawing_are_those_of_the_plan() -> None:
    values = np.sin(np.arange(400)) + np.arange(400) % 7
    panel = pt.Panel.from_arrays({"a": values}, "2020-01-01", "1d")
    settings = {"filters": 2, "taps": 3, "pool": 2, "epochs": 1, "lags": [*range(1, 9), 14]}
    fitted = pt.forecaster("convolutional_network", calendar=["weekday"], **settings).fit(panel, horizon=2)
    drawn = {each.title: each for each in fitted.contender.forecaster.drawn(fitted.state)}
    assert drawn["input"].lags == tuple((lag, lag) for lag in range(8, 0, -1)) and not drawn["input"].beside
    assert drawn["convolution"].lags[-1] == (3, 1) and drawn["convolution"].lags[0] == (8, 8)
    assert drawn["largest of"].lags[-1] == (4, 1) and drawn["largest of"].steps == 4
    assert drawn["straight line"].lags == ((14, 1),) and drawn["straight line"].beside
    assert sum(each.weights for each in drawn.values()) <= fitted.state.facts["weights"]
    assert pt.forecaster("drift").fit(panel).contender.forecaster.drawn(None) == []
