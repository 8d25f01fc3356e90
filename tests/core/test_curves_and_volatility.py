"""Trend curves against closed forms, volatility against its own simulations."""

import numpy as np
import pytest
from scipy import signal, stats

import proteron as pt


def panel_of(values: np.ndarray) -> pt.Panel:
    return pt.Panel.from_arrays({"a": values}, "2020-01-01", "1 day")


@pytest.mark.usefixtures("by_theory")
def test_a_line_has_the_closed_form_and_its_prediction_range(rng: np.random.Generator) -> None:
    t = np.arange(50.0)
    y = 3 + 0.7 * t + rng.normal(size=50)
    fitted = pt.forecaster("trend_curve", shape="linear").fit(panel_of(y))
    by_hand = stats.linregress(t, y)
    assert fitted.parameters["slope"] == pytest.approx(by_hand.slope, rel=1e-6)
    assert fitted.parameters["level"] == pytest.approx(by_hand.intercept, rel=1e-6)
    assert fitted.standard_errors["slope"] == pytest.approx(by_hand.stderr, rel=1e-4)
    forecast = fitted.forecast(10, levels=(0.95,))
    ahead = np.arange(50.0, 60.0)
    spread = np.sqrt(((y - by_hand.intercept - by_hand.slope * t) ** 2).sum() / 48)
    wide = spread * np.sqrt(1 + 1 / 50 + (ahead - t.mean()) ** 2 / ((t - t.mean()) ** 2).sum())
    half = (forecast.upper[0.95][0] - forecast.lower[0.95][0]) / 2
    np.testing.assert_allclose(half, 1.959964 * wide, rtol=1e-3)


@pytest.mark.parametrize(
    ("shape", "truth", "settings"),
    [
        ("quadratic", lambda t: 5 + 0.2 * t - 0.01 * t**2, {}),
        ("exponential", lambda t: 2 + 3 * np.exp(0.02 * t), {}),
        ("saturating", lambda t: 100 / (1 + np.exp(-0.08 * (t - 60))), {}),
        ("saturating", lambda t: 100 / (1 + np.exp(-0.08 * (t - 60))), {"capacity": 100.0}),
        ("piecewise", lambda t: 1 + 0.5 * t - 0.8 * np.maximum(t - 40, 0), {}),
        ("piecewise", lambda t: 1 + 0.5 * t - 0.8 * np.maximum(t - 40, 0), {"knots": (40,)}),
    ],
)
def test_curves_are_found_again_and_robust_ones_pass_outliers_by(shape: str, truth, settings: dict) -> None:  # type: ignore[no-untyped-def]
    rng = np.random.default_rng(4)
    t = np.arange(120.0)
    y = truth(t) + 0.1 * rng.normal(size=120)
    y[[10, 50]] = np.nan
    fitted = pt.forecaster("trend_curve", shape=shape, **settings).fit(panel_of(y))
    ahead = fitted.forecast(10).mean[0]
    reach = np.abs(truth(t)).max()
    np.testing.assert_allclose(ahead, truth(np.arange(120.0, 130.0)), atol=0.02 * reach)
    spoiled = y.copy()
    spoiled[20:24] += 5 * reach
    plain = pt.forecaster("trend_curve", shape=shape, **settings).fit(panel_of(spoiled)).forecast(10).mean[0]
    robust = pt.forecaster("trend_curve", shape=shape, robust=True, **settings).fit(panel_of(spoiled))
    off = np.abs(robust.forecast(10).mean[0] - truth(np.arange(120.0, 130.0))).max()
    assert off < 0.06 * reach
    if shape != "piecewise" or settings:  # knots that are found may fence outliers in
        assert off <= np.abs(plain - truth(np.arange(120.0, 130.0))).max() + 0.01 * reach


def simulated(rng: np.random.Generator, count: int, leverage: float = 0.0, freedom: float | None = None) -> np.ndarray:
    variance, error, out = 1.0, 0.0, []
    for _ in range(count + 200):
        variance = 0.1 + (0.12 + leverage * (error < 0)) * error**2 + 0.78 * variance
        draw = rng.normal() if freedom is None else rng.standard_t(freedom) * np.sqrt((freedom - 2) / freedom)
        error = np.sqrt(variance) * draw
        out.append(0.5 + error)
    return np.array(out[200:])


def test_volatility_is_recovered_within_its_standard_errors() -> None:
    scores = []
    for seed in range(30):
        fitted = pt.forecaster("garch").fit(panel_of(simulated(np.random.default_rng([9, seed]), 2500)))
        truth = {"mean": 0.5, "omega": 0.1, "alpha1": 0.12, "beta1": 0.78}
        scores.append([(fitted.parameters[n] - v) / fitted.standard_errors[n] for n, v in truth.items()])
    found = np.array(scores)
    assert (np.abs(np.median(found, axis=0)) < 4 / np.sqrt(30)).all()
    assert (found.std(axis=0) > 0.5).all() and (found.std(axis=0) < 1.8).all()
    skewed = pt.forecaster("garch", leverage=True, errors="t").fit(
        panel_of(simulated(np.random.default_rng(3), 6000, 0.15, 6.0))
    )  # fmt: skip
    assert skewed.parameters["leverage"] == pytest.approx(0.15, abs=0.08)
    assert skewed.parameters["degrees_of_freedom"] == pytest.approx(6, abs=1.5)
    arch = pt.forecaster("garch", order=(0, 2)).fit(panel_of(simulated(np.random.default_rng(3), 1000)))
    assert set(arch.parameters) == {"mean", "omega", "alpha1", "alpha2"}


def test_ranges_follow_the_variance_of_simulated_paths() -> None:
    fitted = pt.forecaster("garch").fit(panel_of(simulated(np.random.default_rng(8), 2000)))
    panel = fitted.known
    learner, state = fitted.contender.forecaster, fitted.state
    spread = learner.spreads_of(learner.learned(state, "a"), panel.series(0), 2000, 15)
    paths = learner.simulate(state, panel, 2000, 15, 40_000, 2)[:, 0]
    assert paths.std(axis=0) / spread == pytest.approx(np.ones(15), abs=0.04)
    wild = panel.values.copy()
    wild[-1] += 8
    wider = learner.spreads_of(learner.learned(state, "a"), wild, 2000, 15)
    assert wider[0] > 1.5 * spread[0] and wider[-1] < wider[0]


def test_growth_walks_exactly_also_over_gaps(rng: np.random.Generator) -> None:
    logs = np.cumsum(0.01 + 0.05 * rng.normal(size=400)) + 3
    values = np.exp(logs)
    values[[50, 51, 200]] = np.nan
    fitted = pt.forecaster("random_walk_process").fit(panel_of(values))
    known = np.flatnonzero(np.isfinite(values))
    drift = (logs[known[-1]] - logs[known[0]]) / (known[-1] - known[0])
    assert fitted.parameters["drift"] == pytest.approx(drift, rel=1e-9)
    variance = fitted.parameters["variance"]
    assert np.sqrt(variance) == pytest.approx(0.05, rel=0.1)
    forecast = fitted.forecast(5, levels=(0.9,))
    steps = np.arange(1, 6)
    np.testing.assert_allclose(forecast.mean[0], values[-1] * np.exp((drift + variance / 2) * steps), rtol=1e-9)
    middle = np.log(values[-1]) + drift * steps
    by_hand = np.exp(middle + stats.norm.ppf(0.95) * np.sqrt(variance * steps))
    np.testing.assert_allclose(forecast.upper[0.9][0], by_hand, rtol=0.05)
    assert "above zero" in pt.forecaster("random_walk_process").fit(panel_of(values - 50)).summary


@pytest.mark.parametrize("reverting", [False, True])
def test_paths_of_growth_go_together_only_where_asked(reverting: bool, rng: np.random.Generator) -> None:
    shared = rng.normal(size=400)
    series = {key: np.exp((0.02 * shared + 0.004 * rng.normal(size=400)).cumsum()) for key in "ab"}
    panel = pt.Panel.from_arrays(series, "2024-01-01", "1 day")
    for jointly in (False, True):
        fitted = pt.forecaster("random_walk_process", reverting=reverting, jointly=jointly).fit(panel, horizon=3)
        paths = fitted.contender.forecaster.simulate(fitted.state, panel, 400, 3, 2000, seed=4)
        together = np.corrcoef(np.log(paths[:, 0, 2]), np.log(paths[:, 1, 2]))[0, 1]
        assert together > 0.9 if jointly else abs(together) < 0.1


def test_a_walk_that_is_drawn_back_finds_its_level() -> None:
    found = []
    for seed in range(20):
        rng = np.random.default_rng([2, seed])
        logs = [4.0]
        for noise in rng.normal(size=800):
            logs.append(4 + (logs[-1] - 4) * np.exp(-0.2) + 0.1 * noise)
        fitted = pt.forecaster("random_walk_process", reverting=True).fit(panel_of(np.exp(logs)))
        found.append([fitted.parameters["pull"], np.log(fitted.parameters["level"])])
        assert fitted.forecast(60).mean[0, -1] == pytest.approx(np.exp(4), rel=0.1)
    assert np.mean(found, axis=0) == pytest.approx([0.2, 4.0], abs=0.03)


def test_a_vector_autoregression_is_least_squares_and_its_paths_are_joint() -> None:
    rng = np.random.default_rng(6)
    slopes = np.array([[0.5, 0.2], [-0.3, 0.6]])
    values, noise = np.zeros((600, 2)), rng.multivariate_normal([0, 0], [[1, 0.8], [0.8, 1]], size=600)
    for t in range(1, 600):
        values[t] = slopes @ values[t - 1] + noise[t]
    values += [10, -5]
    panel = pt.Panel.from_arrays({"a": values[:, 0], "b": values[:, 1]}, "2020-01-01", "1 day")
    fitted = pt.forecaster("vector_autoregression").fit(panel)
    assert fitted.state.facts["order"] == 1
    design = np.column_stack([np.ones(599), values[:-1]])
    by_hand = np.linalg.lstsq(design, values[1:])[0]
    for column, key in enumerate("ab"):
        mine = list(fitted.parameters[key].values())
        np.testing.assert_allclose(mine, by_hand[:, column], rtol=1e-7)
    forecast = fitted.forecast(8, levels=(0.95,))
    ahead = np.concatenate([[1.0], values[-1]]) @ by_hand
    np.testing.assert_allclose(forecast.mean[:, 0], ahead, rtol=1e-9)
    paths = fitted.contender.forecaster.simulate(fitted.state, panel, 600, 8, 30_000, 1)
    spread = (forecast.upper[0.95] - forecast.lower[0.95]) / (2 * 1.959964)
    assert paths.std(axis=0) / spread == pytest.approx(np.ones((2, 8)), abs=0.03)
    assert np.corrcoef(paths[:, 0, 0], paths[:, 1, 0])[0, 1] == pytest.approx(0.8, abs=0.05)


def test_shared_factors_are_the_likeliest_of_their_rank() -> None:
    """Four series moved by one combination of their past: no other slopes of rank one leave errors of less volume."""
    rng = np.random.default_rng(8)
    load, look = np.array([0.8, -0.5, 0.3, 0.6]), np.array([0.5, -0.2, 0.1, 0.4])
    root = rng.normal(size=(4, 4)) / 2 + np.eye(4)
    values = np.zeros((700, 4))
    for t in range(1, 700):
        values[t] = load * (look @ values[t - 1]) + root @ rng.normal(size=4)
    panel = pt.Panel.from_arrays({key: 5 + values[:, i] for i, key in enumerate("abcd")}, "2020-01-01", "1 day")
    free, shared = (pt.forecaster("vector_autoregression", order=1, factors=each).fit(panel) for each in (None, 1))
    whole = pt.forecaster("vector_autoregression", order=1, factors=4).fit(panel)
    np.testing.assert_array_equal(whole.state.arrays["slopes"], free.state.arrays["slopes"])
    slopes = shared.state.arrays["slopes"]
    assert np.linalg.matrix_rank(slopes[:, 1:], tol=1e-9) == 1
    scaled = (5 + values - shared.state.arrays["centre"]) / shared.state.arrays["spread"]

    def volume(left: np.ndarray, right: np.ndarray) -> float:
        rest = scaled[1:] - scaled[:-1] @ np.outer(right, left)
        rest = rest - rest.mean(axis=0)
        return float(np.linalg.slogdet(rest.T @ rest / len(rest))[1])

    u, s, v = np.linalg.svd(slopes[:, 1:])
    best = volume(s[0] * u[:, 0], v[0])
    assert best == pytest.approx(np.linalg.slogdet(shared.state.arrays["covariance"])[1], abs=1e-9)
    for _ in range(200):
        assert volume(s[0] * u[:, 0] + 0.02 * rng.normal(size=4), v[0] + 0.02 * rng.normal(size=4)) >= best
    found = shared.state.arrays["spread"][:, None] * slopes[:, 1:] / shared.state.arrays["spread"]
    np.testing.assert_allclose(found, np.outer(load, look), atol=0.08)
    assert shared.criteria["a"]["bic"] < free.criteria["a"]["bic"]
    assert "from 1 shared combination of the last value of all" in shared.summary["a"]


def test_a_pull_that_is_not_to_be_told_is_not_told(rng: np.random.Generator) -> None:
    walk = np.exp(np.cumsum(rng.normal(scale=0.01, size=60)) + 0.03 * np.arange(60))
    drawn = np.exp(signal.lfilter([1.0], [1.0, -0.6], rng.normal(scale=0.1, size=300)))
    said = [pt.forecaster("random_walk_process", reverting=True).fit(panel_of(each)).summary for each in (walk, drawn)]
    assert "cannot be told in 59 steps" in said[0]
    assert "half the way in 1" in said[1] or "half the way in 2" in said[1] or "half the way in 0" in said[1]
