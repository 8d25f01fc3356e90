"""Two regimes against Hamilton's fit, waves against their own matrices, and both against what made the series."""

import numpy as np
import pytest
from reference_series import PRODUCT
from simulated import regimes

import proteron as pt
from proteron.core.forecasters.smoothing.waves import FittedWaves, WaveForm, fit_waves


def test_the_business_cycle_is_dated_as_published() -> None:
    """Hamilton 1989, table I: the switching mean with four lags."""
    panel = pt.Panel.from_arrays({"a": PRODUCT}, "1951-04-01", "3 months")
    fitted = pt.forecaster("switching_regimes", switches="level", lags=4).fit(panel)
    printed = {"level_low": (-0.3577, 0.265), "level_high": (1.1643, 0.0745), "stay_low": (0.755, 0.0966),
               "stay_high": (0.9049, 0.0375), "ar1": (0.0135, 0.120), "ar2": (-0.0575, 0.138), "ar3": (-0.2470, 0.107),
               "ar4": (-0.2129, 0.110), "spread": (0.769, 0.0668)}  # fmt: skip
    for name, (estimate, error) in printed.items():
        assert fitted.parameters[name] == pytest.approx(estimate, abs=0.0013), name
        assert fitted.standard_errors[name] == pytest.approx(error, abs=0.0012), name
    assert fitted.criteria["loglik"] == pytest.approx(-181.263, abs=0.001)
    chance = fitted.contender.forecaster.pictures(fitted.state, panel, "a")[0].curves[0].y
    quarters = np.arange(len(PRODUCT)) / 4 + 1951.25
    in_recession = chance < 0.5
    for year in (1957.75, 1974.5, 1981.75):  # recessions by his figure 1
        assert in_recession[np.argmin(np.abs(quarters - year))]
    assert not in_recession[(quarters > 1961.5) & (quarters < 1969)].any()


def test_regimes_are_recovered_within_their_standard_errors() -> None:
    truth = {"level_low": 0.0, "level_high": 4.0, "spread_low": 1.0, "spread_high": 2.0, "stay_low": 0.95,
             "stay_high": 0.9}  # fmt: skip
    scores = []
    for seed in range(40):
        panel = pt.Panel.from_arrays({"a": regimes(np.random.default_rng([1, seed]), 500)}, "2000-01-01", "1 day")
        fitted = pt.forecaster("switching_regimes").fit(panel)
        scores.append([(fitted.parameters[n] - v) / fitted.standard_errors[n] for n, v in truth.items()])
    assert (np.abs(np.mean(scores, axis=0)) < 4 / np.sqrt(40)).all()
    assert (np.std(scores, axis=0) > 0.7).all() and (np.std(scores, axis=0) < 1.4).all()


def test_a_gap_tells_nothing_and_means_are_those_of_paths() -> None:
    values = regimes(np.random.default_rng(4), 400)
    values[[50, 51, 399]] = np.nan
    panel = pt.Panel.from_arrays({"a": values}, "2000-01-01", "1 day")
    fitted = pt.forecaster("switching_regimes", lags=1).fit(panel)
    learner = fitted.contender.forecaster
    means = fitted.means(panel, np.array([399, 400]), 6)[0][0]
    assert means[1, :5] == pytest.approx(means[0, 1:], rel=1e-9)  # a missing point is a step further ahead
    paths = learner.simulate(fitted.state, panel, 400, 6, 20_000, 1)[:, 0]
    assert paths.mean(axis=0) == pytest.approx(means[1], abs=4 * paths.std() / np.sqrt(20_000))


def made_of(fitted: FittedWaves, count: int, rng: np.random.Generator) -> np.ndarray:
    """A series of the model itself, by its matrices."""
    move, seen, gain = fitted.matrices()
    state, out = fitted.begin, np.empty(count)
    for t, error in enumerate(rng.normal(size=count)):
        out[t] = seen @ state + error
        state = move @ state + gain * error
    return out


def test_one_pass_equals_the_matrices() -> None:
    form = WaveForm("damped", ((12.0, 3), (52.18, 2)), (1, 1))
    rng = np.random.default_rng(0)
    free = np.array([-1.0, -2.0, 0.5, -3.0, 0.2, -4.0, -0.3, 0.4, 0.3])
    fitted = FittedWaves(form, free, rng.normal(size=form.size) * 5, 1.0, 0.0, 200)
    values = made_of(fitted, 120, np.random.default_rng(7))
    errors = fitted.passed(values)[0]
    assert errors == pytest.approx(np.random.default_rng(7).normal(size=120), abs=1e-9)
    move = fitted.matrices()[0]
    values[60:65] = np.nan
    states = fitted.passed(values)[1]
    assert states[63] == pytest.approx(move @ states[62], abs=1e-10)


def test_waves_are_recovered_and_shared_ones_counted_once() -> None:
    form = WaveForm("none", ((12.0, 2), (40.0, 1)))
    truth = np.array([-0.5, -2.5, 0.0, -3.0, 0.0])
    found = []
    for seed in range(12):
        rng = np.random.default_rng([3, seed])
        made = FittedWaves(form, truth, np.array([100, 5, 2, 1, 3, 4, -4.0]), 1.0, 0.0, 1)
        fitted = fit_waves(made_of(made, 1200, rng), form)
        found.append([*fitted.free[[0, 1]], np.log(fitted.variance)])
        move, seen, gain = fitted.matrices()
        assert np.abs(np.linalg.eigvals(move - np.outer(gain, seen))).max() < 1.0005  # its start is forgotten
    assert np.mean(found, axis=0) == pytest.approx([-0.5, -2.5, 0.0], abs=0.15)
    assert len(WaveForm("none", ((24.0, 2), (168.0, 8))).turns) == 9  # 168 / 7 is 24


def test_two_seasons_go_on_and_their_waves_are_chosen() -> None:
    at = np.arange(1000.0)
    truth = 50 + 8 * np.sin(at * np.pi / 12) + 3 * np.cos(at * np.pi / 6) + 4 * np.sin(at * np.pi / 84)
    values = truth + np.random.default_rng(5).normal(size=1000) * 0.5
    values[[100, 101, 400]] = np.nan
    panel = pt.Panel.from_arrays({"a": values[:800]}, "2024-01-01", "1 hour")
    fitted = pt.forecaster("several_seasons").fit(panel)
    assert "2 waves of 24, 1 wave of 168" in fitted.summary
    assert np.abs(fitted.forecast(200).mean[0] - truth[800:]).mean() < 0.35
    refused = pt.forecaster("several_seasons", periods=[24, 900]).fit(panel)
    assert "needs two cycles" in refused.summary
