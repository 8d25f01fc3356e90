"""Compiled layers: gradients against central differences, recurrences and attention against slow twins."""

import numpy as np
import pytest

from proteron.core.forecasters.neural import layers

RNG = np.random.default_rng


def differences(loss, arrays, step=1e-6):
    """Central differences of a loss in every cell of some arrays, which are changed in place and restored."""
    found = []
    for array in arrays:
        out = np.empty_like(array)
        for at in np.ndindex(array.shape):
            kept = array[at]
            array[at] = kept + step
            above = loss()
            array[at] = kept - step
            out[at] = (above - loss()) / (2 * step)
            array[at] = kept
        found.append(out)
    return found


def equal(found, exact):
    for mine, true in zip(found, exact, strict=True):
        assert np.abs(mine - true).max() <= 1e-6 * max(np.abs(true).max(), 1e-3)


@pytest.mark.parametrize("activation", [layers.NONE, layers.RELU, layers.TANH, layers.SIGMOID])
def test_dense(activation: int) -> None:
    rng = RNG(0)
    rows, weights, biases = rng.normal(size=(5, 4)), rng.normal(size=(4, 3)), rng.normal(size=3)
    pull, out = rng.normal(size=(5, 3)), np.empty((5, 3))

    def loss():
        layers.dense(rows, weights, biases, activation, out)
        return (out * pull).sum()

    exact = differences(loss, (weights, biases, rows))
    loss()
    found = [np.empty((4, 3)), np.empty(3), np.zeros((5, 4))]
    layers.dense_back(rows, weights, out, activation, pull.copy(), *found, False)
    equal(found, exact)


@pytest.mark.parametrize(("taps", "dilation", "stride", "steps_out"), [(3, 1, 1, 9), (2, 3, 1, 9), (3, 2, 2, 4)])
def test_a_convolution_sees_itself_and_what_lies_before(taps: int, dilation: int, stride: int, steps_out: int) -> None:
    rng = RNG(1)
    series, weights = rng.normal(size=(2, 9, 3)), rng.normal(size=(taps * 3, 2))
    seen, pull = np.empty((2, steps_out, taps * 3)), rng.normal(size=(2, steps_out, 2))
    layers.unfold(series, taps, dilation, stride, seen)
    slow = np.zeros((2, steps_out, 2))
    for step in range(steps_out):
        for tap in range(taps):
            at = 8 - (steps_out - 1 - step) * stride - (taps - 1 - tap) * dilation
            if at >= 0:
                slow[:, step] += series[:, at] @ weights[tap * 3 : tap * 3 + 3]
    assert np.allclose(seen @ weights, slow)

    def loss():
        layers.unfold(series, taps, dilation, stride, seen)
        return ((seen @ weights) * pull).sum()

    found = np.zeros_like(series)
    layers.fold(pull @ weights.T, taps, dilation, stride, found)
    equal([found], differences(loss, (series,)))


def test_pools_count_from_the_end() -> None:
    rng = RNG(2)
    series, pull = rng.normal(size=(2, 7, 3)), rng.normal(size=(2, 2, 3))
    most, mean, kept = np.empty((2, 2, 3)), np.empty((2, 2, 3)), np.empty((2, 2, 3))
    layers.pool_most(series, 3, most, kept)
    layers.pool_mean(series, 3, mean)
    parts = series[:, 1:].reshape(2, 2, 3, 3)  # the first step is in no pool
    assert np.array_equal(most, parts.max(axis=2)) and np.allclose(mean, parts.mean(axis=2))

    def by_most():
        layers.pool_most(series, 3, most, kept)
        return (most * pull).sum()

    def by_mean():
        layers.pool_mean(series, 3, mean)
        return (mean * pull).sum()

    exact = [differences(each, (series,))[0] for each in (by_most, by_mean)]
    found = np.zeros((2, *series.shape))
    by_most()
    layers.pool_most_back(pull, kept, found[0])
    layers.pool_mean_back(pull, 3, found[1])
    equal(found, exact)


def sigmoid(values):
    return 1 / (1 + np.exp(-values))


def test_long_short_term_memory() -> None:
    rng = RNG(3)
    said, weights, pull = rng.normal(size=(6, 2, 12)), rng.normal(size=(3, 12)) / 2, rng.normal(size=(7, 2, 3))
    pull[0] = 0
    states, cells, drive = np.zeros((7, 2, 3)), np.zeros((7, 2, 3)), np.empty((6, 2, 12))

    def loss():
        drive[:] = said
        layers.lstm(drive, weights, states, cells)
        return (states * pull).sum()

    state, cell = np.zeros((2, 3)), np.zeros((2, 3))
    loss()
    for step in range(6):
        into, forget, out, new = np.split(said[step] + state @ weights, 4, axis=1)
        cell = sigmoid(forget) * cell + sigmoid(into) * np.tanh(new)
        state = sigmoid(out) * np.tanh(cell)
        assert np.allclose(states[step + 1], state) and np.allclose(cells[step + 1], cell)
    exact = differences(loss, (said, weights))
    loss()
    by_weights = np.empty((3, 12))
    layers.lstm_back(drive, weights, states, cells, pull.copy(), by_weights)
    equal([drive, by_weights], exact)


def test_gated_recurrent_unit() -> None:
    rng = RNG(4)
    said, weights, pull = rng.normal(size=(6, 2, 9)), rng.normal(size=(3, 9)) / 2, rng.normal(size=(7, 2, 3))
    pull[0] = 0
    biases, states, kept, drive = rng.normal(size=3), np.zeros((7, 2, 3)), np.empty((6, 2, 3)), np.empty((6, 2, 9))

    def loss():
        drive[:] = said
        layers.gru(drive, weights, biases, states, kept)
        return (states * pull).sum()

    state = np.zeros((2, 3))
    loss()
    for step in range(6):
        parts, mine = np.split(state @ weights, 3, axis=1), np.split(said[step], 3, axis=1)
        reset, update = sigmoid(mine[0] + parts[0]), sigmoid(mine[1] + parts[1])
        new = np.tanh(mine[2] + reset * (parts[2] + biases))
        state = (1 - update) * new + update * state
        assert np.allclose(states[step + 1], state)
    exact = differences(loss, (said, weights, biases))
    loss()
    by_weights, by_biases = np.empty((3, 9)), np.empty(3)
    layers.gru_back(drive, weights, states, kept, pull.copy(), by_weights, by_biases)
    equal([drive, by_weights, by_biases], exact)


@pytest.mark.parametrize("causal", [False, True])
def test_attention(causal: bool) -> None:
    rng = RNG(5)
    queries, keys, values, pull = rng.normal(size=(4, 2, 5, 3))
    out, shares = np.empty((2, 5, 3)), np.empty((2, 5, 5))

    def loss():
        layers.attend(queries, keys, values, causal, out, shares)
        return (out * pull).sum()

    loss()
    for head in range(2):
        scores = queries[head] @ keys[head].T / np.sqrt(3)
        scores[np.triu_indices(5, 1)] = -np.inf if causal else scores[np.triu_indices(5, 1)]
        exact = np.exp(scores) / np.exp(scores).sum(axis=1, keepdims=True)
        assert np.allclose(shares[head], exact) and np.allclose(out[head], exact @ values[head])
    exact = differences(loss, (queries, keys, values))
    loss()
    found = [np.empty((2, 5, 3)) for _ in range(3)]
    layers.attend_back(queries, keys, values, shares, pull, *found)
    equal(found, exact)


def test_layer_norm() -> None:
    rng = RNG(6)
    rows, gains, biases, pull = rng.normal(size=(4, 6)), rng.normal(size=6), rng.normal(size=6), rng.normal(size=(4, 6))
    gains[2] = 0.0
    out, normed, kept = np.empty((4, 6)), np.empty((4, 6)), np.empty(4)

    def loss():
        layers.layer_norm(rows, gains, biases, out, normed, kept)
        return (out * pull).sum()

    exact = differences(loss, (gains, biases, rows))
    loss()
    slow = (rows - rows.mean(axis=1, keepdims=True)) / np.sqrt(rows.var(axis=1, keepdims=True) + 1e-5) * gains + biases
    assert np.allclose(out, slow)
    found = [np.empty(6), np.empty(6), np.zeros((4, 6))]
    layers.layer_norm_back(normed, kept, gains, pull, *found)
    equal(found, exact)
