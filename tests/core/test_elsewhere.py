"""Stretches that follow what is usual elsewhere: found where they are, and nowhere else."""

import numpy as np
import pytest

import proteron as pt
from proteron.core.detection import elsewhere
from proteron.core.detection.bridging import by_phase, levels
from proteron.core.detection.elsewhere import found_elsewhere
from proteron.core.panel import Floats

HOURS = np.arange(1200)
SEASONS = (24, 168)


def town(rng: np.random.Generator, alike: float = 0.0) -> Floats:
    profile = np.tile(60 + 10 * np.sin(np.arange(24) * np.pi / 12) + 6 * (np.arange(24) > 17), 50)
    noise = rng.normal(size=1200)
    for at in range(1, 1200):
        noise[at] += alike * noise[at - 1]
    return profile + noise


@pytest.mark.parametrize("alike", [0.0, 0.8])
@pytest.mark.parametrize("lag", [3, -5, 11])
def test_a_slip_with_noise_of_its_own_is_told(rng: np.random.Generator, alike: float, lag: int) -> None:
    values = town(rng, alike)
    other = town(rng, alike)  # another day's noise: nothing is copied
    values[500:530] = other[500 - lag : 530 - lag]
    slip = max(found_elsewhere(values, 0, SEASONS), key=lambda each: each.net)
    assert slip.kind == "slip" and abs(slip.lag - lag) <= 1 and slip.net > 60
    assert abs(slip.start - 500) <= 8 and abs(slip.stop - 530) <= 8, "where both ways are alike nobody can tell"
    flags = pt.find_anomalies(pt.Panel.from_arrays({"a": values}, "2024-01-01", "1 hour"))
    mine = [flag for flag in flags if flag.start < 530 and flag.stop > 500]
    assert [flag.kind for flag in mine] == ["slip"] and abs(mine[0].start - 500) <= 8
    assert mine[0].expected == pytest.approx(values[500:530].mean(), abs=12)


@pytest.mark.parametrize("factor", [10.0, 1 / 3.6])
def test_another_unit_is_told_by_its_factor(rng: np.random.Generator, factor: float) -> None:
    values = 5 + 4 * (town(rng) - 40)
    values[700:733] *= factor
    assert [(each.kind, each.factor, each.lag) for each in found_elsewhere(values, 0, SEASONS)] == [
        ("unit change", factor, 0)
    ]
    logs = np.log(np.maximum(values, 0.1))
    assert found_elsewhere(logs, 0, SEASONS, logged=True) == [], "a factor of logarithms is a level"
    flags = pt.find_anomalies(pt.Panel.from_arrays({"a": values}, "2024-01-01", "1 hour"))
    [flag] = [flag for flag in flags if flag.start < 733 and flag.stop > 700]
    assert flag.kind == "unit change" and abs(flag.start - 700) <= 2 and abs(flag.stop - 733) <= 2


def test_nothing_is_told_of_what_is_usual_or_lasts(rng: np.random.Generator) -> None:
    values = town(rng)
    assert found_elsewhere(values, 0, SEASONS) == [] == found_elsewhere(values[:600], 0, SEASONS)
    assert found_elsewhere(values, 0, ()) == [] == found_elsewhere(values, 0, (2,))
    moved = values.copy()
    moved[600:] = np.roll(values, 2)[600:]  # a clock that was put back for good
    assert all(each.stop - each.start <= 48 and each.net < 60 for each in found_elsewhere(moved, 0, SEASONS))
    level = values.copy()
    level[500:530] += 40
    assert found_elsewhere(level, 0, SEASONS) == [], "a level is no slip"
    night = np.maximum(np.tile(np.sin(np.arange(24) * np.pi / 12), 50), 0) * np.repeat(rng.uniform(20, 90, 50), 24)
    assert not [each for each in found_elsewhere(night, 0, SEASONS) if each.factor != 1], "zeros show no factor"
    gone = values.copy()
    gone[500:540] = np.nan
    assert found_elsewhere(gone, 0, SEASONS) == []
    late = values.copy()
    late[500:530] = town(rng)[495:525]
    shifted = [found_elsewhere(late[7:], 7, SEASONS)[0], found_elsewhere(late, 0, SEASONS)[0]]
    assert shifted[0].start + 7 == pytest.approx(shifted[1].start, abs=1)


def test_medians_of_phases_and_stretches_are_medians(rng: np.random.Generator) -> None:
    off = rng.normal(size=103)
    off[rng.random(103) < 0.3] = np.nan
    off[[each for each in range(103) if (5 + each) % 7 == 2]] = np.nan
    phase = (5 + np.arange(103)) % 7
    with np.errstate(all="ignore"):
        wanted = [np.nanmedian(off[phase == each]) if np.isfinite(off[phase == each]).any() else 0.0
                  for each in range(7)]  # fmt: skip
    assert by_phase(off, phase, 7).tolist() == wanted and by_phase(off[:0], phase[:0], 7).tolist() == [0.0] * 7
    assert by_phase(np.array([3.0]), np.array([6]), 7).tolist() == [0, 0, 0, 0, 0, 0, 3.0]
    assert levels(np.array([1.0, 2, 9, np.nan, 5, 7]), 3).tolist() == pytest.approx([2, 2, 3.33, 4.67, 6, 6], abs=0.01)
    assert np.isnan(levels(np.full(4, np.nan), 2)).all()


@pytest.mark.parametrize(("lag", "dearer"), [(2, 30.0), (-2, 30.0), (3, 0.0)])
def test_what_is_hardly_late_must_show_more(
    rng: np.random.Generator, monkeypatch: pytest.MonkeyPatch, lag: int, dearer: float
) -> None:
    values = town(rng)
    values[500:536] = town(rng)[500 - lag : 536 - lag]
    told = [max(each.net for each in found_elsewhere(values, 0, SEASONS))]
    monkeypatch.setattr(elsewhere, "_NEAR_PRICE", elsewhere._PRICE)
    told += [max(each.net for each in found_elsewhere(values, 0, SEASONS) if each.lag == lag)]
    assert told[1] - told[0] == pytest.approx(dearer)


def test_a_factor_within_what_seasons_are_is_none(rng: np.random.Generator) -> None:
    days = np.repeat(rng.uniform(0.3, 1.7, 50), 24)
    values = town(rng) * days
    values[600:624] = 0.4 * (60 + 10 * np.sin(np.arange(24) * np.pi / 12))
    assert not [each for each in found_elsewhere(values, 0, SEASONS) if each.factor != 1]
    assert found_elsewhere(town(rng)[:600], 0, SEASONS) == [], "too few weeks"
    both = town(rng)
    for start, lag in ((300, 6), (800, -7)):
        both[start : start + 30] = town(rng)[start - lag : start + 30 - lag]
    assert [each.lag for each in found_elsewhere(both, 0, SEASONS) if each.net > 60] == [6, -7]
    weekly = found_elsewhere(np.r_[town(rng)[:500], town(rng)[495:520], town(rng)[525:]], 0, (24,))
    assert [each.lag for each in weekly] == [5], "a day alone is enough where there is no week"
