"""Networks as lists of layers: gradients of each layer and architecture, losses, optimisers."""

import numpy as np
import pytest
from scipy import stats

from proteron.core.forecasters.neural import layers, losses, training
from proteron.core.forecasters.neural.bound import Drawing
from proteron.core.forecasters.neural.network import Network
from proteron.core.forecasters.neural.rows import plain_rows

RNG = np.random.default_rng


def gradient_of(network, parameters, inputs, targets, weights, loss="squared", shares=(1.0,)):
    """Loss and gradient of all rows."""
    lesson = training.Lesson(network, parameters, training.Recipe(loss=loss, shares=shares), RNG(5))
    loss = lesson.gradient_of(plain_rows(inputs, targets, weights), np.arange(len(inputs)))
    return loss, lesson.gradient


def check(network, steps, loss="squared", shares=(1.0,), seed=0):
    """A network's gradient is that of central differences, and asking again gives the same."""
    rng = RNG(seed)
    parameters = network.begin(rng) + 0.05 * rng.normal(size=network.count)
    inputs, targets, weights = rng.normal(size=(4, network.width)), rng.normal(size=(4, steps)), rng.uniform(1, 2, 4)
    inputs[:, -1] = rng.integers(0, 3, 4)
    _, found = gradient_of(network, parameters, inputs, targets, weights, loss, shares)
    exact = np.empty_like(parameters)
    for place in range(len(parameters)):
        ends = []
        for sign in (1, -1):
            moved = parameters.copy()
            moved[place] += sign * 1e-6
            ends.append(gradient_of(network, moved, inputs, targets, weights, loss, shares)[0])
        exact[place] = (ends[0] - ends[1]) / 2e-6
    assert np.abs(found - exact).max() <= 1e-6 * max(np.abs(exact).max(), 0.1), np.argmax(np.abs(found - exact))
    assert np.abs(exact).max() > 1e-3


def sequence(network, steps=6):
    return network.taken(0, steps)


def built(kind: str) -> Network:
    """A small network with one layer of a kind between others, whose channel 6 is a feature and 7 a category."""
    net = Network(8)
    one = sequence(net)
    wide = net.dense(one, 4, layers.TANH)
    if kind in ("plain", "lstm", "gru"):
        wide = net.recurrent(net.recurrent(wide, 3, kind), 4, kind)
    elif kind == "attention":
        wide = net.norm(net.added(wide, net.attention(net.position(wide), 2)))
    elif kind == "both ways":
        wide = net.attention(wide, 2, causal=False)
    elif kind == "last step alone":
        wide = net.attention(wide, 2, last=True)
    elif kind == "convolution":
        wide = net.convolution(net.convolution(wide, 3, 3, 2, activation=layers.TANH), 4, 2, stride=2)
    elif kind == "pools":
        wide = net.mean(net.thinned(net.most(wide, 2), 2), 2)
    elif kind == "smooth":
        wide = net.without(wide, net.smooth(wide, 3))
    elif kind == "basis":
        wide = net.basis(wide, RNG(9).normal(size=(4, 5)))
    elif kind == "repeated":
        wide = net.added(wide, net.repeated(net.dense(net.taken(6, 1), 4), 6))
    elif kind == "batch norm":
        wide = net.batch_norm(wide)
    elif kind == "dropout":
        wide = net.dropout(wide, 0.4)
    last = net.last(wide) if kind in ("lstm", "plain") else net.flat(wide)
    beside = net.joined(net.taken(6, 1), net.embedded(net.taken(7, 1), 3, 2))
    net.dense(net.joined(last, beside), 6)
    return net


KINDS = (
    "dense",
    "plain",
    "lstm",
    "gru",
    "attention",
    "both ways",
    "last step alone",
    "convolution",
    "pools",
    "smooth",
    "basis",
    "dropout",
    "batch norm",
    "repeated",
)


@pytest.mark.parametrize("kind", KINDS)
def test_gradients_of_every_layer_in_a_network(kind: str) -> None:
    check(built(kind), 6)


@pytest.mark.parametrize(
    ("loss", "shares"),
    [("squared", (1.0,)), ("absolute", (1.0,)), ("huber", (0.7,)), ("quantiles", (0.1, 0.5, 0.9)), ("gaussian", (1,))],
)
def test_gradients_of_every_loss(loss: str, shares: tuple[float, ...]) -> None:
    net = Network(5)
    net.dense(net.dense(0, 4, layers.TANH), 3 * losses.width_of(loss, len(shares)))
    check(net, 3, loss, shares)


def stacked(kind: str) -> Network:
    """Networks whose layers are all taught in one call."""
    net = Network(8)
    if kind == "dense":
        net.dense(net.dense(net.dense(0, 8, layers.RELU), 6, layers.TANH), 3)
        return net
    everything = net.joined(0, net.embedded(net.taken(7, 1), 3, 2))
    window = net.taken(0, 6)
    slow = net.smooth(window, 3)
    rest = net.dense(net.joined(net.flat(net.without(window, slow)), everything), 5, layers.SIGMOID)
    said = net.added(net.basis(net.dense(rest, 4), RNG(9).normal(size=(4, 3))), net.dense(net.flat(slow), 3))
    net.added(said, net.line(np.ones((8, 3)), np.zeros(3)))
    return net


@pytest.mark.parametrize("dtype", [np.float32, np.float64])
@pytest.mark.parametrize("kind", ["dense", "all others"])
def test_what_is_taught_in_one_call_is_what_layers_say_one_by_one_to_the_bit(kind: str, dtype: type) -> None:
    rng, net, done = RNG(7), stacked(kind), []
    inputs, targets = rng.normal(size=(95, 8)).astype(dtype), rng.normal(size=(95, 3)).astype(dtype)
    inputs[:, 7] = rng.integers(-1, 5, 95)
    rows = plain_rows(inputs, targets, rng.uniform(0, 1, 95))
    for one_call in (True, False):
        lesson = training.Lesson(net, net.begin(RNG(3)).astype(dtype), training.Recipe(batch=20, clip=0.5), rng)
        assert lesson.stack is not None
        lesson.stack = lesson.stack if one_call else None
        begun = lesson.parameters.copy()
        told = [lesson.epoch(rows, order, 1e-2) for order in (np.arange(95), np.arange(94, 0, -1))]
        done.append((lesson.parameters, told, lesson.steps))
        assert (lesson.parameters != begun).all()
    np.testing.assert_array_equal(done[0][0], done[1][0])
    assert done[0][1:] == done[1][1:] and done[0][2] == 10


def test_steps_that_the_last_one_does_not_see_need_not_be_computed() -> None:
    """With the same parameters the answers are those of all steps: attention, and convolutions ever further apart."""
    every, last = Network(6), Network(6)
    every.last(every.attention(every.dense(every.taken(0, 6), 4), 2))
    last.attention(last.dense(last.taken(0, 6), 4), 2, last=True)
    wide, thin = Network(11), Network(11)
    one, other = wide.taken(0, 11), thin.taken(0, 11)
    for place in range(3):
        one = wide.convolution(one, 3, 3, 2**place, activation=layers.TANH)
        other = thin.convolution(thin.thinned(other, 1), 3, 3, stride=2, activation=layers.TANH)
    wide.last(one)
    thin.last(other)
    for full, short in ((every, last), (wide, thin)):
        parameters, rows = full.begin(RNG(2)), RNG(1).normal(size=(5, full.width))
        said = training.answers(short, parameters, rows)
        np.testing.assert_allclose(said, training.answers(full, parameters, rows), atol=1e-14)
        assert np.abs(said).min() > 0


def test_other_layers_are_called_one_by_one() -> None:
    assert all(training.Lesson(built(kind), np.zeros(built(kind).count), training.Recipe(), RNG(0)).stack is None
               for kind in ("lstm", "dropout", "pools"))  # fmt: skip


def test_losses_are_what_they_say() -> None:
    rng = RNG(3)
    said, targets, weights = rng.normal(size=(6, 2, 3)), rng.normal(size=(6, 2)), rng.uniform(0, 2, 6)
    levels, flow = np.array([0.1, 0.5, 0.8]), np.empty((6, 2, 3))
    apart = np.log1p(np.exp(said))
    quantiles = np.stack([said[..., 1] - apart[..., 0], said[..., 1], said[..., 1] + apart[..., 2]], axis=2)
    np.testing.assert_allclose(losses.quantiles_of(said.reshape(12, 3)), quantiles.reshape(12, 3))
    errors = targets[..., None] - quantiles
    slow = np.average(np.maximum(levels * errors, (levels - 1) * errors).sum(axis=2).mean(axis=1), weights=weights)
    assert losses.loss_and_flow(said, targets, weights, weights, losses.QUANTILES, levels, flow) == pytest.approx(slow)
    errors = said[..., :1] - targets[..., None]
    bent = np.where(np.abs(errors) <= 0.5, errors**2 / 2, 0.5 * np.abs(errors) - 0.125)[..., 0]
    for code, cells in ((losses.SQUARED, errors[..., 0] ** 2), (losses.ABSOLUTE, np.abs(errors[..., 0])),
                        (losses.HUBER, bent)):  # fmt: skip
        found = losses.loss_and_flow(
            said[..., :1].copy(), targets, weights, weights, code, np.array([0.5]), flow[..., :1].copy()
        )
        assert found == pytest.approx(np.average(cells.mean(axis=1), weights=weights))
    spread = np.log1p(np.exp(said[..., 1])) + 1e-4
    normal = 0.5 * (errors[..., 0] / spread) ** 2 + np.log(spread)
    found = losses.loss_and_flow(
        said[..., :2].copy(), targets, weights, weights, losses.GAUSSIAN, levels, flow[..., :2].copy()
    )
    assert found == pytest.approx(np.average(normal.mean(axis=1), weights=weights))
    assert losses.loss_and_flow(said, targets, np.zeros(6), weights, losses.QUANTILES, levels, flow) == 0


def test_forward_is_plain_numpy_and_dropout_only_while_learning() -> None:
    rng, net = RNG(1), Network(3)
    net.dense(net.dropout(net.dense(0, 4, layers.RELU), 0.5), 2)
    p, x = net.begin(rng), rng.normal(size=(700, 3))
    hidden = np.maximum(x @ p[:12].reshape(3, 4) + p[12:16], 0)
    assert training.answers(net, p, x[:0]).shape == (0, 2)
    np.testing.assert_allclose(training.answers(net, p, x), hidden @ p[16:24].reshape(4, 2) + p[24:], atol=1e-14)
    drops = Network(20_000)
    drops.dropout(0, 0.25)
    bound = drops.bind(np.zeros(0), np.zeros(0), 1, Drawing(RNG(2), True))
    bound.input[:] = 1
    bound.forward()
    assert set(bound.output[0]) == {0.0, 1 / 0.75} and abs(bound.output.mean() - 1) < 0.02


@pytest.mark.parametrize("optimiser", ["adam", "momentum"])
def test_two_steps_are_those_of_the_papers(optimiser: str) -> None:
    rng, net = RNG(2), Network(2)
    net.dense(0, 1)
    x, y, w = rng.normal(size=(8, 2)), 3 * rng.normal(size=(8, 1)), np.ones(8)
    recipe = training.Recipe(
        optimiser=optimiser, rate=0.01, decay=0.1, clip=0.5, batch=8, epochs=2, schedule="constant"
    )
    rows = plain_rows(x, y, w)
    done = training.train(net, rows, rows, recipe, 4, float)
    p = net.begin(RNG(4))
    m = v = np.zeros(3)
    for step in (1, 2):
        g = gradient_of(net, p, x, y, w)[1].copy()
        assert np.linalg.norm(g) > 0.5
        g *= 0.5 / np.linalg.norm(g)
        if optimiser == "adam":
            m, v = 0.9 * m + 0.1 * g, 0.999 * v + 0.001 * g**2
            move = m / (1 - 0.9**step) / (np.sqrt(v / (1 - 0.999**step)) + 1e-8)
        else:
            m = 0.9 * m + g
            move = m
        p = p * (1 - 0.001) - 0.01 * move
    np.testing.assert_allclose(done.parameters, p, rtol=1e-9)


def test_the_rate_warms_up_then_follows_its_schedule_and_the_best_epoch_stays() -> None:
    recipe = training.Recipe(rate=1.0, epochs=10, warm_up=4)
    rates = [training._rate(recipe, epoch) for epoch in range(10)]
    assert rates[:4] == pytest.approx([0.2, 0.4, 0.6, 0.8]) and rates[4] == 1.0
    assert all(np.diff(rates[4:]) < 0) and 0.05 < rates[-1] < 0.2
    rng, net = RNG(6), Network(2)
    net.dense(0, 1)
    x = rng.normal(size=(200, 2))
    learned = plain_rows(x, x[:, :1] + rng.normal(size=(200, 1)), np.ones(200))
    told = []
    later = plain_rows(x[:20], rng.normal(size=(20, 1)), np.ones(20))
    recipe = training.Recipe(rate=0.05, epochs=80, patience=5, schedule="plateau")
    done = training.train(
        net, learned, later, recipe, 1, float, tell=lambda *each: told.append(tuple(map(tuple, each)))
    )
    assert done.kept == int(np.argmin(done.later_losses)) and len(done.losses) == done.kept + 6 < 80
    assert [len(each[0]) for each in told] == list(range(1, len(told) + 1))
    assert told[-1] == (done.losses, done.later_losses) and done.best == min(done.later_losses)
    assert training.mean_loss(net, done.parameters, later, recipe) == done.later_losses[done.kept]


def test_batch_norm_is_that_of_the_batch_while_learning_and_its_running_means_after() -> None:
    rng, net = RNG(4), Network(3)
    net.batch_norm(0)
    parameters = net.begin(rng)
    parameters[:6] = rng.normal(size=6)
    rows = 5 + 3 * rng.normal(size=(50, 3))
    drawing = Drawing(rng, True)
    bound = net.bind(parameters, np.zeros(12), 50, drawing)
    for _ in range(200):
        bound.input[:] = rows
        bound.forward()
    normed = (rows - rows.mean(axis=0)) / np.sqrt(rows.var(axis=0) + 1e-5)
    np.testing.assert_allclose(bound.output, normed * parameters[:3] + parameters[3:6], atol=1e-12)
    np.testing.assert_allclose(parameters[6:9], rows.mean(axis=0), rtol=1e-6)
    np.testing.assert_allclose(training.answers(net, parameters, rows), bound.output, atol=1e-6)
    drawing.learning = False
    whole = net.bind(parameters, np.zeros(12), 50, drawing, True)
    whole.input[:] = rows
    whole.forward()
    whole.by_output[:] = 1
    whole.back()
    np.testing.assert_allclose(whole.by_input, np.tile(parameters[:3] / np.sqrt(parameters[9:12] + 1e-5), (50, 1)))


def test_counts_cost_what_their_likelihood_is_and_its_gradient_is_that_of_differences() -> None:
    rng = RNG(6)
    said, targets, units = rng.normal(size=(5, 2, 2)), rng.integers(0, 40, (5, 2)) / 4.0, np.full(5, 4.0)
    flow, shares, weights = np.empty((5, 2, 2)), np.ones(1), rng.uniform(0.5, 2, 5)

    def cost(said):
        return losses.loss_and_flow(said, targets, weights, units, losses.COUNTS, shares, flow)

    mean = np.log1p(np.exp(said[..., 0])) * 4
    size = 1 / (np.log1p(np.exp(said[..., 1])) + 1e-4)
    exact = -stats.nbinom.logpmf(np.round(targets * 4), size, size / (size + mean))
    assert cost(said) == pytest.approx(np.average(exact.mean(axis=1), weights=weights), rel=1e-6)
    cost(said)
    found, slopes = flow.copy(), np.empty_like(said)
    for place in np.ndindex(said.shape):
        ends = []
        for sign in (1, -1):
            moved = said.copy()
            moved[place] += sign * 1e-6
            ends.append(cost(moved))
        slopes[place] = (ends[0] - ends[1]) / 2e-6
    assert np.abs(found - slopes).max() < 1e-6 * np.abs(slopes).max()


def test_ranges_of_counts_are_those_of_their_distribution() -> None:
    said = np.log(np.expm1(np.array([[[[3.0, 0.5]]], [[[3.0, 0.5]]]])))
    ends = losses.counted_ends(said, 2.0, [(0.1, 0.9)])
    size = 1 / (0.5 + 1e-4)
    for end, share in zip(ends[0], (0.1, 0.9), strict=True):
        assert end[0, 0] == stats.nbinom.ppf(share, size, size / (size + 6))
    apart = np.log(np.expm1(np.array([[[[1.0, 0.5]]], [[[5.0, 0.5]]]])))
    assert losses.counted_ends(apart, 2.0, [(0.1, 0.9)])[0, 1, 0, 0] > ends[0, 1, 0, 0]
