"""Safeguards hold every contender to what its series have done, as of the cutoff, and say so."""

import numpy as np
import pytest

import proteron as pt
from proteron.core.forecasters import Contender
from proteron.core.forecasters.guards import Guards
from proteron.core.judge.cells import expand
from proteron.core.phases import truths

FALLING = np.r_[np.linspace(90, 20, 36), np.linspace(19, 4, 24)]  # a straight line goes below zero soon


def falling() -> pt.Panel:
    return pt.Panel.from_arrays({"a": FALLING, "b": FALLING - 50}, "2015-01-01", "1 month")


def trend(**more: object) -> Contender:
    return pt.forecaster("trend_curve", shape="linear", **more)


def test_what_was_never_negative_is_forecast_so_and_a_floor_can_be_given() -> None:
    held, free, floored = (
        trend(**more).fit(falling(), horizon=24).forecast(24) for more in ({}, {"safeguards": False}, {"floor": 3.0})
    )
    assert free.mean[0].min() < -5 and held.mean[0].min() == 0 and floored.mean.min() == 3.0
    assert held.mean[1].min() < -50  # that series has been below zero
    for answer, lowest in ((held, 0.0), (floored, 3.0)):
        assert min(each[0].min() for each in answer.lower.values()) == lowest
        assert answer.possible[:, 0].min() == lowest
    assert free.lower[0.95][0].min() < 0


def test_no_step_is_beyond_what_was_seen_and_ranges_and_paths_neither(rng: np.random.Generator) -> None:
    calm = np.r_[100 + rng.normal(size=80), 100 * 1.2 ** np.arange(8)]
    panel = pt.Panel.from_arrays({"a": calm}, "2015-01-01", "1 month")
    explosive = pt.forecaster("smoothing", error="multiplicative", trend="multiplicative", season=None, damped=False,
                              level_weight=0.9, trend_weight=0.9)  # fmt: skip
    fitted = explosive.fit(panel, horizon=12)
    answer, last = fitted.forecast(12), calm[-1]
    most = [max(calm[step:] - calm[:-step]) for step in range(1, 13)]
    top = last + 1.5 * np.maximum.accumulate(most)
    assert (answer.mean[0] <= top + 1e-9).all() and (answer.upper[0.95][0] <= top + 1e-9).all()
    assert (answer.possible[:, 0] <= top + 1e-9).all()
    moved = int(fitted.held_steps(panel, np.array([88]), 12)[0])
    assert moved == (answer.mean[0] == top).sum() > 3


def test_yardsticks_and_forecasts_made_elsewhere_are_taken_as_they_are() -> None:
    assert not pt.forecaster("drift").guarded and pt.forecaster("theta").guarded
    drifting = pt.forecaster("drift").fit(falling(), horizon=24).forecast(24)
    assert drifting.mean[0].min() < 0


def test_slots_that_always_were_zero_stay_so(rng: np.random.Generator) -> None:
    day = np.r_[np.zeros(6), 5 * np.sin(np.linspace(0, np.pi, 18)) + 1]
    values = np.tile(day, 30) + np.tile(day > 0, 30) * rng.uniform(0, 1, 720)
    panel = pt.Panel.from_arrays({"a": values}, "2024-01-01", "1 hour")
    held, free = (pt.forecaster("ridge", safeguards=on).fit(panel, until=700, horizon=24) for on in (True, False))
    origins = np.array([700, 705])
    zero = truths(panel, origins, 12)[0] == 0
    assert zero.any() and (held.means(panel, origins, 12)[0][0][zero] == 0).all()
    assert (free.means(panel, origins, 12)[0][0][zero] != 0).all()
    assert "zero in 6 of 24 slots" in held.guards.in_words("a") and "none below 0" in held.guards.in_words("a")


def test_they_are_learned_as_of_the_cutoff_and_kept_with_what_was_learned(tmp_path) -> None:
    panel = falling()
    other = panel.with_values(np.where(np.tile(np.arange(60) >= 40, 2), -1e6, panel.values))
    first, second = (trend().fit(each, until=40, horizon=24) for each in (panel, other))
    for name, each in first.guards.arrays().items():
        np.testing.assert_array_equal(each, second.guards.arrays()[name])
    origins = np.array([40])
    assert first.means(panel, origins, 24)[0].tobytes() == second.means(other, origins, 24)[0].tobytes()
    pt.save_fitted(first, tmp_path / "kept.npz")
    again = pt.load_fitted(tmp_path / "kept.npz")
    assert again.means(panel, origins, 24)[0].tobytes() == first.means(panel, origins, 24)[0].tobytes()
    assert again.guards.in_words("b") == first.guards.in_words("b")
    arrays, none = Guards.apart(("a",), {"level": np.zeros(1)})
    assert none is None and list(arrays) == ["level"]


def test_a_contender_names_them_only_where_they_are_not_as_usual() -> None:
    plain, free, floored = trend(), trend(safeguards=False), trend(floor=-2.0)
    assert "safeguards" not in plain.document() and "floor" not in plain.document()
    assert free.document()["safeguards"] is False and floored.document()["floor"] == -2.0
    for each in (plain, free, floored):
        assert Contender.from_document(each.document()) == each and each.learns_as == plain
    assert len({plain.hash, free.hash, floored.hash}) == 3


def test_what_is_learned_is_shared_by_contenders_that_differ_in_safeguards_alone() -> None:
    panel, folds = falling(), pt.Folds.expanding(2, 12, every=12)
    entrants = {"naive": pt.forecaster("last_value"), "held": trend(), "free": trend(safeguards=False)}
    cells = expand(panel, entrants, folds.resolve(panel), 0)
    mine = [each for each in cells if each.name != "naive" and each.fold == 1]
    assert len({each.fit_key for each in mine}) == 1 and len({each.key for each in mine}) == 2
    report = pt.walk_forward(panel, entrants, folds, metrics=("mae",))
    found = {each.cell.name: each.mean for each in report.results if each.cell.fold == 1}
    assert found["held"][0].min() >= 0 > found["free"][0].min()


@pytest.mark.parametrize("floor", ["low", float("inf")])
def test_a_floor_is_a_number(floor: object) -> None:
    with pytest.raises(pt.SettingsError, match="floor"):
        trend(floor=floor)
