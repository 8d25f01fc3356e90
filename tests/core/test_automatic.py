"""The automatic forecaster: what it weighs and how, its budget, and that nothing after the cutoff counts."""

from dataclasses import replace

import numpy as np
import pytest

import proteron as pt
from proteron.core.forecasters.automatic.candidates import Candidate, candidates_for, order_of_fits
from proteron.core.forecasters.automatic.forecaster import Automatic, _Blend
from proteron.core.forecasters.automatic.trials import Budget, Trials, cuts_of
from proteron.core.forecasters.blend.weights import inverse_weights, range_factor, shares_of_reach, weighed_errors
from proteron.core.forecasters.forecaster import ForecasterState, Work
from proteron.core.forecasters.theta import Theta


def monthly(rng: np.random.Generator, count: int = 96) -> np.ndarray:
    t = np.arange(count)
    return (100 + t) * (1 + 0.3 * np.sin(2 * np.pi * t / 12)) * np.exp(0.03 * rng.normal(size=count))


def names(values: np.ndarray, seasons: tuple[int, ...]) -> list[str]:
    return [each.name for each in candidates_for(values, seasons)]


def test_candidates_are_those_that_suit(rng: np.random.Generator) -> None:
    values = monthly(rng)
    assert names(values, (12,)) == [
        "smoothing", "theta", "season-aligned ridge", "smoothing on Log", "ARIMA", "ARIMA on Log"
    ]  # fmt: skip
    assert names(values - 150, (12,)) == ["smoothing", "theta", "season-aligned ridge", "ARIMA"]
    assert names(values[:50], (12,)) == ["smoothing", "theta", "smoothing on Log", "ARIMA", "ARIMA on Log"]
    assert "ARIMA" not in names(values, (90, 180)) and "ARIMA" in names(values, ())
    assert names(values[:8], (12,)) == ["last value"] and len(names(values[:8], (4,))) == 2
    assert names(np.full(40, 3.0), ()) == ["last value"]


def test_cheap_fits_come_first_fold_by_fold_then_each_dear_one_whole() -> None:
    some = [Candidate("a", Theta()), Candidate("b", Theta(), dear=True), Candidate("c", Theta()),
            Candidate("d", Theta(), dear=True)]  # fmt: skip
    assert order_of_fits(some, 1) == [(0, 0), (2, 0), (0, 1), (2, 1), (1, 0), (1, 1), (3, 0), (3, 1)]
    assert order_of_fits(some[:1], 0) == [(0, 0)]


def test_folds_end_a_horizon_apart_and_leave_enough_to_learn_from() -> None:
    values = np.arange(50.0)
    assert cuts_of(values, (12,), 8) == [42, 34, 26] and cuts_of(values, (12,), 10) == [40, 30]
    assert cuts_of(values[:20], (), 5) == [15] and cuts_of(values[:12], (), 3) == []
    values[:20] = np.nan
    assert cuts_of(values, (), 6) == [44, 38, 32]


def test_errors_and_weights_are_those_of_the_recipe() -> None:
    truth = np.array([[10.0, 20.0]])
    forecasts = np.array([[[12.0, 20.0]], [[14.0, np.nan]], [[np.nan, 26.0]]])
    found = weighed_errors(truth, forecasts, 5.0)
    first, second = 0.5 / 5 + 1 / (10 + 13), 0.5 / 5 + 1 / (20 + 23)
    exact = [(2 * first + 0) / 2, (4 * first + 3 * second) / 2, (3 * first + 6 * second) / 2]
    np.testing.assert_allclose(found, exact)
    weights = inverse_weights(np.array([1.0, 1.5, 2.0, 2.01]))
    raw = np.array([1, 1.5**-3, 2.0**-3, 0])
    np.testing.assert_allclose(weights, raw / raw.sum())
    np.testing.assert_allclose(inverse_weights(np.array([1e-9, 1.0, 1.0])), [1, 0, 0])
    np.testing.assert_allclose(inverse_weights(np.zeros(4)), np.full(4, 0.25))


def test_it_is_the_weighted_mean_of_its_candidates_and_says_so(rng: np.random.Generator) -> None:
    panel = pt.Panel.from_arrays(
        {"a": monthly(rng), "b": 5 * monthly(rng), "few": np.array([1.0])}, "2015-01-01", "1 month"
    )
    learner = Automatic()
    state = learner.learn(panel, Work(horizon=6))
    means = learner.means(state, panel, np.array([80, 96]), 6)
    assert list(learner.declined(state)) == ["few"] and np.isnan(means[2]).all()
    mine = _Blend(state, panel, 0)
    parts, weights = mine._each(np.array([96]), 6), mine.weights
    np.testing.assert_allclose(means[0, 1], np.average(parts[:, 0], axis=0, weights=weights))
    told = state.facts["series"]["a"]
    assert weights.sum() == pytest.approx(1) and sum(learner.parameters(state, "a").values()) == pytest.approx(1)
    assert told["fits"] == 24 and "24 fits in all" in learner.summary(state, "a")
    best = learner.tried(state, "a")
    assert [each.criterion for each in best] == sorted(each.criterion for each in best) and len(best) == 6
    truth = (100 + np.arange(96, 102)) * (1 + 0.3 * np.sin(2 * np.pi * np.arange(96, 102) / 12))
    assert np.abs(means[0, 1] / truth - 1).mean() < 0.08
    low, high = learner.ranges(state, panel, np.array([96]), 6, (0.95,))[0, :, 0, 0]
    assert (low < means[0, 1]).all() and (means[0, 1] < high).all() and ((low < truth) & (truth < high)).mean() > 0.6


def test_paths_spread_as_ranges_do_around_the_blend_and_obey_what_was_never_seen(rng: np.random.Generator) -> None:
    learner, values = Automatic(fits=14), monthly(rng)
    panel = pt.Panel.from_arrays({"a": values, "few": np.array([1.0])}, "2015-01-01", "1 month")
    state = learner.learn(panel, Work(horizon=6))
    paths = learner.simulate(state, panel, 96, 6, 4000, 3)
    assert paths.shape == (4000, 2, 6) and np.isnan(paths[:, 1]).all()
    origins = np.array([96])
    means, ends = learner.means(state, panel, origins, 6)[0, 0], learner.ranges(state, panel, origins, 6, (0.8,))
    low, high = ends[0, :, 0, 0]
    width = np.quantile(paths[:, 0], 0.9, axis=0) - np.quantile(paths[:, 0], 0.1, axis=0)
    np.testing.assert_allclose(width, high - low, rtol=0.25)
    np.testing.assert_allclose(paths[:, 0].mean(axis=0), means, rtol=0.02)
    walk = pt.Panel.from_arrays({"a": 500 + rng.normal(size=96).cumsum()}, "2015-01-01", "1 month")
    walked = learner.simulate(learner.learn(walk, Work(horizon=6)), walk, 96, 6, 400, 3)[:, 0]
    assert np.corrcoef(walked[:, 4:].T)[0, 1] > 0.5  # a path is one course, not six draws
    rare = np.where(rng.random(120) < 0.3, rng.poisson(2, 120), 0).astype(float)
    counts = pt.Panel.from_arrays({"a": rare}, "2015-01-01", "1 month")
    seldom = learner.learn(counts, Work(horizon=6))
    drawn = learner.simulate(seldom, counts, 120, 6, 200, 1)
    ends = learner.ranges(seldom, counts, np.array([120]), 6, (0.95,))
    assert drawn.min() == 0 and ends.min() == 0 and ends.max() > 0


def test_a_fit_is_not_begun_that_would_not_end_within_the_budget() -> None:
    seconds = Budget(seconds=10)
    assert seconds.allows(0, 99, 99)  # one there always is
    assert seconds.allows(3, 8, 2.9) and not seconds.allows(3, 8, 3.1) and not seconds.allows(3, 10, 0)
    assert Budget(fits=3).allows(2, 1e9, 1e9) and not Budget(fits=3).allows(3, 0, 0) and Budget().allows(9, 9, 9)
    assert not Budget(fits=9, seconds=1).allows(4, 2, 0)


def test_a_candidate_that_declines_is_named_and_the_others_are_weighed(rng: np.random.Generator) -> None:
    values = np.r_[monthly(rng, 60)]
    panel = pt.Panel.from_arrays({"a": values}, "2015-01-01", "1 month")
    trials = Trials(panel, 6)
    broken = [place for place, each in enumerate(trials.candidates) if each.name == "theta"]
    trials.candidates[broken[0]] = replace(trials.candidates[broken[0]], forecaster=Declining())
    trials.run(Work(), Budget())
    told, arrays = trials.told()
    assert told["reasons"][broken[0]] == "no" and broken[0] not in told["used"]
    assert sum(told["weights"]) == pytest.approx(1) and told["weights"][broken[0]] == 0
    assert told["fits"] == 1 + 4 * (len(trials.candidates) - 1) and told["errors"][broken[0]] is None
    assert not any(name.startswith(f"{broken[0]}.") for name in arrays)


class Declining(Theta):
    """It raises whatever it is given."""

    def learn(self, known: pt.Panel, work: Work) -> ForecasterState:
        raise pt.InputError("no")


def test_a_budget_in_fits_gives_the_same_again_and_seconds_tell_how_many(rng: np.random.Generator) -> None:
    panel = pt.Panel.from_arrays({"a": monthly(rng)}, "2015-01-01", "1 month")
    work = Work(horizon=4)
    quick = Automatic(seconds=1e-6).learn(panel, work)
    fits = quick.facts["series"]["a"]["fits"]
    assert fits == 1 and quick.facts["series"]["a"]["weights"][0] == 1.0
    again = Automatic(fits=9)
    one, two = again.learn(panel, work), again.learn(panel, work)
    assert one.facts == two.facts and one.facts["series"]["a"]["fits"] == 9
    assert all(one.arrays[name].tobytes() == two.arrays[name].tobytes() for name in one.arrays)


def test_weights_change_not_a_bit_when_what_follows_the_cutoff_is_replaced(rng: np.random.Generator) -> None:
    values = monthly(rng, 120)
    other = np.r_[values[:90], 1e6 * rng.normal(size=30)]
    states, means = [], []
    for each in (values, other):
        panel = pt.Panel.from_arrays({"a": each}, "2015-01-01", "1 month")
        states.append(Automatic(fits=10).learn(panel.cut_at(90), Work(horizon=6)))
        means.append(Automatic(fits=10).means(states[-1], panel, np.array([90]), 6))
    assert states[0].facts == states[1].facts and means[0].tobytes() == means[1].tobytes()


def test_ranges_are_stretched_by_what_folds_say_and_theory_alike() -> None:
    halves = np.ones((2, 1, 800))
    halves[1] = 3.0  # above the blend they reach further
    truth, flat = np.linspace(-2, 0, 800)[None], np.zeros((1, 800))
    share = 800 / 808
    for level in (0.5, 0.8, 0.95):
        shares = shares_of_reach(truth, flat, halves)
        below = range_factor(level, shares)
        assert below == pytest.approx(np.quantile(-truth, level) ** (share / 3))
        above = range_factor(level, shares_of_reach(-truth, flat, halves))
        assert above / below == pytest.approx(3 ** (-share / 3), rel=1e-3)
        others = 2.0 * np.concatenate([shares, shares])
        said = np.quantile(others, level) ** (1600 / 1608)
        both = said * np.quantile(-truth, level) ** share
        assert range_factor(level, shares, others) == pytest.approx(both ** (1 / 3))
        assert range_factor(level, np.zeros(0)) == 1
        assert range_factor(level, np.full(800, 1e-9)) == pytest.approx(0.2 ** (share / 3))
    missing = shares_of_reach(np.full((1, 5), np.nan), np.zeros((1, 5)), np.ones((2, 1, 5)))
    assert not len(missing)
