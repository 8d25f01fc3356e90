"""No forecast does what a series has never done."""

import numpy as np

from proteron.core.forecasters.safeguards import Safeguards
from proteron.core.phases import last_known


def guarded(values, means, at=None, seasons=(), steps=10):
    """Means (horizon,) or (n_origins, horizon) kept by what values have done."""
    values = np.asarray(values, dtype=float)
    at = np.array([len(values)]) if at is None else np.asarray(at)
    return Safeguards.learn(values, seasons, steps).kept(np.atleast_2d(means), values, at)


def test_no_step_is_farther_than_half_again_the_largest_move_over_as_many_steps() -> None:
    values = np.array([0.0, 4, 2, 3, 1, 6])  # over one step at most +5 and -2, over two +3, over three +2 …
    far = guarded(values - 10, np.full(4, 100.0))[0]
    np.testing.assert_allclose(far, -4 + 1.5 * np.array([5, 5, 5, 5]))
    near = guarded(values - 10, np.full(2, -100.0))[0]
    np.testing.assert_allclose(near, -4 - 1.5 * np.array([2, 2]))
    within = np.array([-4.0, -3.0, np.nan])
    np.testing.assert_array_equal(guarded(values - 10, within)[0], within)


def test_a_gap_hides_no_move_and_steps_beyond_all_go_on_as_the_last() -> None:
    values = np.array([1.0, np.nan, 7, 8, 8, 8])
    guard = Safeguards.learn(values - 20, (), 50)
    assert guard.rises.tolist() == [1, 6, 7, 7, 7] and guard.falls.tolist() == [0] * 5
    far = guard.kept(np.full((1, 9), 99.0), np.r_[np.zeros(5), -12.0], np.array([6]))[0]
    np.testing.assert_allclose(far, -12 + 1.5 * np.array([1, 6, 7, 7, 7, 7 * 6 / 5, 7 * 7 / 5, 7 * 8 / 5, 7 * 9 / 5]))
    assert last_known(values, np.array([0, 1, 2, 6])).tolist()[1:] == [1, 1, 8]
    assert np.isnan(last_known(values, np.array([0]))[0])
    assert guard.kept(np.array([[5.0]]), np.array([np.nan]), np.array([0]))[0, 0] == 5
    late = guard.kept(np.full((1, 2), 99.0), np.r_[np.zeros(5), -12.0, np.nan, np.nan], np.array([8]))[0]
    assert (
        late.tolist()
        == far[2:4].tolist()
        == guard.kept(np.full((1, 2), 99.0), np.r_[np.zeros(5), -12.0], np.array([8]))[0].tolist()
    )


def test_what_was_never_negative_stays_so_and_whole_numbers_from_zero_round_down_to_it() -> None:
    amounts = [3.5, 0.2, 4.0, 2.0]
    assert guarded(amounts, [-1.0])[0, 0] == 0 and guarded(np.array(amounts) - 1, [-1.0])[0, 0] == -1.0
    counts = [3, 0, 1, 1]
    assert guarded(counts, [0.4, 0.6]).tolist() == [[0.0, 0.6]]
    assert guarded([3, 1, 2, 1], [0.4])[0, 0] == 0.4


def test_a_phase_that_was_always_zero_is_forecast_zero() -> None:
    night = np.tile([0.0, 0, 5, 9], 10) * np.linspace(1, 2, 40)
    kept = guarded(night, np.full((2, 5), 3.0), at=[40, 39], seasons=(4,))
    assert (kept == 0).tolist() == [[True, True, False, False, True], [False, True, True, False, False]]
    lively = night.copy()
    lively[12] = 0.5  # in the seventh cycle from the end
    assert (guarded(lively, np.full(4, 3.0), seasons=(4,)) == 0).tolist() == [[False, True, False, False]]
    assert (guarded(night[:28], np.full(4, 3.0), seasons=(4,)) > 0).all()  # seven cycles are too few
    rare = np.r_[np.full(400, 2.0), np.tile([0.0, 1], 2)]
    assert (guarded(rare, np.full(2, 1.5), seasons=(2,)) > 0).all()


def test_safeguards_are_read_as_they_were_written() -> None:
    for values in (np.tile([0.0, 0, 5, 9], 10), np.random.default_rng(1).normal(size=30)):
        guard = Safeguards.learn(values, (4,), 6)
        again = Safeguards.from_document(guard.document())
        means = np.random.default_rng(2).normal(size=(3, 6)) * 20
        at = np.array([38, 39, 40]) % len(values)
        np.testing.assert_array_equal(guard.kept(means, values, at), again.kept(means, values, at))
