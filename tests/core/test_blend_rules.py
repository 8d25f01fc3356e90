"""Rules of blending: what each makes of members, and the weights it finds in what they forecast before."""

import numpy as np
import pytest

import proteron as pt
from proteron.core.forecasters.blend.forecaster import Blend
from proteron.core.forecasters.blend.mixing import Mix
from proteron.core.forecasters.blend.rules import Rule, forward_weights, least_squares_weights, trimmed_mean
from proteron.core.forecasters.blend.weights import inverse_weights, weighed_errors

PARTS = np.array([[1.0, 5.0], [2.0, np.nan], [3.0, 7.0], [100.0, np.nan], [4.0, np.nan]])


@pytest.mark.parametrize(
    ("kind", "expected"),
    [("mean", [22.0, 6.0]), ("median", [3.0, 6.0]), ("trimmed", [3.0, 6.0]), ("given", [2.0, 5.5])],
)  # fmt: skip
def test_each_rule_combines_what_is_there(kind: str, expected: list[float]) -> None:
    rule = Rule(rule=kind, weights=(0.3, 0.0, 0.1, 0.0, 0.0), trim=0.2)
    weights = rule.weights_of(np.zeros((1, 1)), np.zeros((5, 1, 1)), 1.0)
    found = rule.combine(PARTS, weights)
    np.testing.assert_allclose(found, [1.5, 5.5] if kind == "given" else expected)
    assert np.isnan(rule.combine(np.full((5, 1), np.nan), weights)).all()


def test_no_power_weighs_all_alike_and_nothing_learned_stretches_nothing() -> None:
    assert Rule(power=0).power == 0 and inverse_weights(np.array([1.0, 1.9]), power=0).tolist() == [0.5, 0.5]
    mix = Mix(np.ones((2, 3, 1)), np.zeros((0, 3)), np.ones((2, 3)), np.ones((2, 3)), (), 0)
    assert mix.stretched([0, 2], [0.8, 0.95]).tolist() == np.ones((2, 1, 2, 1, 1)).tolist()


def test_trimming_leaves_one_or_two_in_the_middle() -> None:
    values = np.array([9.0, 1.0, 5.0, 3.0])[:, None]
    assert trimmed_mean(values, 0.0)[0] == 4.5 and trimmed_mean(values, 0.25)[0] == 4.0
    assert trimmed_mean(values, 0.49)[0] == 4.0 and trimmed_mean(values[:1], 0.49)[0] == 9.0
    for count in range(1, 8):
        rows = np.random.default_rng(count).normal(size=(count, 3))
        np.testing.assert_allclose(trimmed_mean(rows, 0.5), np.median(rows, axis=0))


def test_inverse_error_weighs_by_the_power_and_drops_what_errs_far_more(rng: np.random.Generator) -> None:
    truth = rng.normal(size=(6, 4)) + 10
    forecasts = truth + np.array([1.0, -2.0, 5.0])[:, None, None]
    for power, drop in ((3.0, 4.0), (1.0, 9.0), (0.0, 9.0)):
        rule = Rule(rule="inverse_error", power=power, drop=drop)
        errors = weighed_errors(truth, forecasts, 2.0)
        found = rule.weights_of(truth, forecasts, 2.0)
        np.testing.assert_allclose(found, inverse_weights(errors, power, drop))
        assert found.sum() == pytest.approx(1) and (found[2] == 0) == (errors[2] > drop * errors[0])
        assert (found[0] > found[1]) == (power > 0)


def test_least_squares_finds_the_mixture_and_no_negative_weight(rng: np.random.Generator) -> None:
    members = rng.normal(size=(4, 50, 3)) + 20
    truth = 0.7 * members[0] + 0.3 * members[2]
    found = Rule(rule="least_squares").weights_of(truth, members, 3.0)
    np.testing.assert_allclose(found, [0.7, 0, 0.3, 0], atol=1e-9)
    against = least_squares_weights(np.array([[1.0], [2.0]]), np.array([-1.0, -2.0]))
    assert against.tolist() == [1.0]
    columns = np.c_[np.arange(9.0), -np.arange(9.0)]
    assert least_squares_weights(columns, np.arange(9.0)).tolist() == [1.0, 0.0]


def test_forward_selection_picks_again_and_again_and_stops_where_it_was_best(rng: np.random.Generator) -> None:
    columns = rng.normal(size=(400, 3))
    wanted = (2 * columns[:, 0] + columns[:, 1]) / 3
    np.testing.assert_allclose(forward_weights(columns, wanted), [2 / 3, 1 / 3, 0])
    assert forward_weights(columns, columns[:, 2]).tolist() == [0, 0, 1]


@pytest.mark.parametrize("kind", ["inverse_error", "least_squares", "forward"])
def test_without_anything_to_learn_from_all_weigh_alike(kind: str) -> None:
    rule = Rule(rule=kind)
    missing = np.full((3, 2, 2), np.nan)
    assert rule.learns and rule.weights_of(np.ones((2, 2)), missing, 1.0).tolist() == pytest.approx([1 / 3] * 3)
    assert rule.weights_of(np.full((2, 2), np.nan), np.ones((3, 2, 2)), 1.0).tolist() == pytest.approx([1 / 3] * 3)
    partly = np.ones((3, 2, 2))
    partly[0] = np.nan  # never all together
    assert rule.weights_of(np.ones((2, 2)), partly, 1.0).sum() == pytest.approx(1)
    assert not Rule(rule="mean").learns and not Rule(rule="given", weights=(1.0,)).learns


def test_a_member_of_a_blend_without_a_forecaster_is_refused_in_words() -> None:
    for told in ({"chain": []}, {"forecaster": 3}, {"forecaster": None}):
        with pytest.raises(pt.SettingsError, match="by its forecaster and its chain"):
            Blend.parse({"members": [{"name": "a", "contender": told}, {"name": "b", "contender": told}]})
