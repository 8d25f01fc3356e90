"""The neural engine: gradients, the optimiser, early stopping, reproducibility."""

import numpy as np
import pytest

import proteron as pt
from proteron.core.compiled import single_blas_thread
from proteron.core.forecasters import Work
from proteron.core.forecasters.neural import engine, layers
from proteron.core.panel import Panel


@pytest.mark.parametrize("activation", [layers.RELU, layers.TANH])
@pytest.mark.parametrize("sizes", [(5, 1), (7, 9, 3), (4, 8, 6, 5, 2)])
def test_gradients_agree_with_finite_differences(
    activation: int, sizes: tuple[int, ...], rng: np.random.Generator
) -> None:
    shape = np.array(sizes)
    parameters = engine.initial_parameters(shape, rng, np.float64) + 0.2 * rng.normal(
        size=engine.parameter_count(shape)
    )
    x, y = rng.normal(size=(13, sizes[0])), rng.normal(size=(13, sizes[-1]))
    gradient, scratch = np.empty_like(parameters), np.empty_like(parameters)
    engine.loss_and_gradient(parameters, x, y, shape, activation, gradient)
    numeric = np.empty_like(parameters)
    for i in range(len(parameters)):
        step = 1e-5
        ends = []
        for sign in (1, -1):
            moved = parameters.copy()
            moved[i] += sign * step
            ends.append(engine.loss_and_gradient(moved, x, y, shape, activation, scratch))
        numeric[i] = (ends[0] - ends[1]) / (2 * step)
    assert np.abs(numeric - gradient).max() <= 1e-6 * np.abs(gradient).max()


def test_forward_equals_plain_numpy(rng: np.random.Generator) -> None:
    sizes = np.array([3, 4, 2])
    p = engine.initial_parameters(sizes, rng, np.float64)
    x = rng.normal(size=(6, 3))
    hidden = np.maximum(x @ p[:12].reshape(3, 4) + p[12:16], 0)
    expected = hidden @ p[16:24].reshape(4, 2) + p[24:]
    np.testing.assert_allclose(engine.network_output(p, x, sizes, layers.RELU), expected, atol=1e-14)


def test_one_adam_step_equals_the_paper(rng: np.random.Generator) -> None:
    sizes = np.array([2, 1])
    p = rng.normal(size=3)
    x, y = rng.normal(size=(4, 2)), rng.normal(size=(4, 1))
    gradient, moments, updated = np.empty(3), np.zeros((2, 3)), p.copy()
    engine.loss_and_gradient(p, x, y, sizes, layers.RELU, gradient)
    g = gradient.copy()
    engine.train_epoch(updated, moments, gradient, x, y, np.arange(4), sizes, layers.RELU, 4, 0.01, 0.1, 0)
    m, v = 0.1 * g / (1 - 0.9), 0.001 * g**2 / (1 - 0.999)  # Kingma & Ba 2015, algorithm 1, t = 1
    np.testing.assert_allclose(updated, p * (1 - 0.01 * 0.1) - 0.01 * m / (np.sqrt(v) + 1e-8), rtol=1e-9)


def test_training_is_the_same_to_the_bit_and_changes_with_the_seed(hourly: Panel) -> None:
    model = pt.forecaster("dense_network", hidden=[8, 4], epochs=4)
    first, second, other = (model.fit(hourly, until=1200, horizon=6, seed=seed) for seed in (7, 7, 8))
    assert first.state.arrays["parameters"].tobytes() == second.state.arrays["parameters"].tobytes()
    assert first.state.facts["loss"] == second.state.facts["loss"]
    assert first.state.arrays["parameters"].tobytes() != other.state.arrays["parameters"].tobytes()
    assert first.forecast(6).mean.tobytes() == second.forecast(6).mean.tobytes()


def test_early_stopping_keeps_the_best_weights_of_the_last_part(hourly: Panel) -> None:
    model = pt.forecaster("dense_network", hidden=[32], epochs=60, patience=3, learning_rate=0.02, validation=0.2)
    facts = model.fit(hourly, until=900, horizon=2).state.facts
    losses = facts["validation_loss"]
    assert facts["kept_epoch"] == int(np.argmin(losses))
    fitted = model.fit(hourly, until=900, horizon=2)
    kept = model.forecaster.training(fitted.state).kept_epoch
    assert kept == int(np.argmin(losses)) + 1  # counted from 1, as in words
    assert f"epoch {kept} of {len(losses)} kept" in str(fitted.summary)
    assert len(losses) <= 60
    assert len(losses) == 60 or len(losses) - 1 - facts["kept_epoch"] == 3
    table = model.forecaster.resolved_plan(hourly.cut_at(900), 2).cut(hourly.cut_at(900))
    train, held_out = model.forecaster._split(table)
    assert (
        table.positions[train].max() + 2 <= table.positions[held_out].min()
    )  # no target reaches into the held-out span
    assert not (train & held_out).any()


def test_it_learns_what_a_line_cannot(rng: np.random.Generator) -> None:
    x = np.zeros(3000)
    for t in range(2, 3000):
        x[t] = 1 - 1.7 * x[t - 1] ** 2 + 0.02 * rng.normal()
    panel = Panel.from_arrays({"a": x}, "2020-01-01", "1h")
    origins = np.arange(2500, 2990)
    errors = {}
    for name, more in (("ridge", {}), ("dense_network", {"epochs": 40, "hidden": [24]})):
        state = pt.forecaster(name, lags=[1, 2], strategy="recursive", **more).fit(panel, until=2500)
        errors[name] = np.sqrt(np.mean((state.means(panel, origins, 1)[0][0, :, 0] - x[origins]) ** 2))
    assert errors["dense_network"] < 0.5 * errors["ridge"]


def test_training_can_be_stopped(hourly: Panel) -> None:
    from proteron.core.errors import StoppedError

    with pytest.raises(StoppedError), single_blas_thread():
        pt.forecaster("dense_network").fit(hourly, work=Work(horizon=2, stop_asked=lambda: True))
