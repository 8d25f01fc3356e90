"""Detectors beside the joint one: odd windows against all pairs, extreme values against Rosner's own example."""

import numpy as np
import pytest

import proteron as pt
from proteron.core.anomalies.beside import BesideOthers
from proteron.core.anomalies.detectors import DETECTORS
from proteron.core.anomalies.extreme_values import ExtremeValues
from proteron.core.anomalies.odd_windows import OddWindows, nearest_distances, usual_spreads

ROSNER = [
    -0.25, 0.68, 0.94, 1.15, 1.20, 1.26, 1.26, 1.34, 1.38, 1.43, 1.49, 1.49, 1.55, 1.56, 1.58, 1.65, 1.69, 1.70, 1.76,
    1.77, 1.81, 1.91, 1.94, 1.96, 1.99, 2.06, 2.09, 2.10, 2.14, 2.15, 2.23, 2.24, 2.26, 2.35, 2.37, 2.40, 2.47, 2.54,
    2.62, 2.64, 2.90, 2.92, 2.92, 2.93, 3.21, 3.26, 3.30, 3.59, 3.68, 4.30, 4.64, 5.34, 5.42, 6.01,
]  # Rosner (1983), Technometrics 25, 165-172  # fmt: skip


@pytest.mark.parametrize("earlier_only", [False, True])
def test_distances_are_those_of_all_pairs(rng: np.random.Generator, earlier_only: bool) -> None:
    values, window = 1e4 + rng.normal(size=90), 7
    values[40:50] = values[40]
    values[70] = np.nan
    found = nearest_distances(values, window, earlier_only)
    windows = np.lib.stride_tricks.sliding_window_view(values, window)
    for at, mine in enumerate(windows):
        distances = []
        for other, theirs in enumerate(windows):
            if abs(other - at) < window or (earlier_only and other > at) or not np.isfinite(mine + theirs).all():
                continue
            flat = [each.std() < 1e-9 for each in (mine, theirs)]
            if any(flat):
                distances.append(0.0 if all(flat) else np.sqrt(window))
            else:
                z = [(each - each.mean()) / each.std() for each in (mine, theirs)]
                distances.append(np.sqrt(((z[0] - z[1]) ** 2).sum()))
        wanted = min(distances) if distances else np.nan
        assert found[at] == pytest.approx(wanted, abs=1e-5, nan_ok=True)
    assert nearest_distances(values[:5], 7).size == 0 and np.isnan(nearest_distances(values[:7], 7)).all()


def test_an_odd_day_is_found_whatever_its_level(rng: np.random.Generator) -> None:
    hours = np.arange(1200)
    values = 50 + 10 * np.sin(hours * np.pi / 12) + rng.normal(0, 0.5, 1200) + 30 * np.sin(hours / 200)
    values[600:624] = values[600:624].mean() + 10 * np.cos(np.arange(24) * np.pi / 4)
    panel = pt.Panel.from_arrays({"a": values}, "2024-01-01", "1 hour")
    for mode in ("looking_back", "as_of"):
        flags = list(pt.find_anomalies(panel, mode, using="odd_windows", threshold=6))
        assert flags and all(each.kind == "shape" and each.start < 640 and each.stop > 600 for each in flags)
        assert flags[0].raised_at == 1199 or mode == "as_of"
        assert mode == "looking_back" or 600 < flags[0].raised_at < 672
    spoiled = values.copy()
    spoiled[700:] = rng.normal(size=500) * 1e6
    both = [OddWindows().as_of(pt.Panel.from_arrays({"a": each}, "2024-01-01", "1 hour"), 0, 2).score[:700]
            for each in (values, spoiled)]  # fmt: skip
    assert both[0].tobytes() == both[1].tobytes()
    steady = usual_spreads(np.array([1.0, 1.1, 0.9, 1.0, 5.0]), None)
    assert steady[4] == pytest.approx(4 / 0.14826) and steady[2] == 0


def test_extreme_values_are_as_many_as_rosner_found(rng: np.random.Generator) -> None:
    values = np.array(ROSNER)
    spreads, left = [], values.copy()
    for _ in range(10):  # his statistics: studentised by mean and deviation of what is left
        off = np.abs(left - left.mean()) / left.std(ddof=1)
        spreads.append(off.max())
        left = np.delete(left, off.argmax())
    assert spreads[:3] == pytest.approx([3.118, 2.942, 3.179], abs=2e-3)
    scores = np.array([*spreads, *np.zeros(44)])
    assert ExtremeValues(share=0.19).extremes(np.sort(scores)[::-1]) in (1, 3)
    quiet = rng.normal(size=1000)
    assert ExtremeValues().extremes(np.abs(quiet)) <= 1
    assert ExtremeValues().extremes(np.abs(np.r_[quiet, [9.0] * 12])) == 12


def test_extreme_values_stand_out_of_level_and_season(rng: np.random.Generator) -> None:
    at = np.arange(1000)
    values = 100 + 0.05 * at + 20 * np.sin(at * np.pi / 12) + rng.normal(size=1000)
    values[[400, 401, 700]] += [14, -14, 14]
    panel = pt.Panel.from_arrays({"a": values}, "2024-01-01", "1 hour")
    found = pt.find_anomalies(panel, using="extreme_values")
    assert {flag.start for flag in found} == {400, 401, 700} and {flag.kind for flag in found} == {"spike"}
    assert found[0].expected == pytest.approx(values[400] - 14, abs=2.5)
    soon = pt.find_anomalies(panel, "as_of", using="extreme_values", threshold=5.5)
    assert {400, 401, 700} <= {flag.start for flag in soon} and all(flag.raised_at == flag.start for flag in soon)
    spoiled = panel.with_values(np.where(at >= 800, -1e9, values))
    again = pt.find_anomalies(spoiled, "as_of", using="extreme_values", threshold=5.5)
    assert [flag for flag in again if flag.raised_at < 800] == [flag for flag in soon if flag.raised_at < 800]


def test_every_detector_bears_with_what_there_is() -> None:
    from ugly import ugly_series

    for name in DETECTORS:
        for mode in ("looking_back", "as_of"):
            for values in list(ugly_series().values())[::7]:
                panel = pt.Panel.from_arrays({"a": values}, "2020-01-01", "1 month")
                score = pt.find_anomalies(panel, mode, using=name, per_thousand=5).scores.score
                assert len(score) == len(values) and not np.isinf(score).any(), name


def test_one_series_alone_or_all_at_once(rng: np.random.Generator) -> None:
    hours, count = np.arange(2400), 6
    shared = 0.3 * np.cumsum(rng.normal(size=2400)) + 2 * rng.normal(size=2400)
    series = {f"s{each}": 50 + (10 + each) * np.sin(hours * np.pi / 12) + (1 + 0.1 * each) * shared
              + 0.4 * rng.normal(size=2400) for each in range(count)}  # fmt: skip
    series["s2"][1500:1506] += 5  # inside what it reaches anyway
    series["s4"][2000] += 40
    for at, values in enumerate(series.values()):
        values[2200:2203] += 60 * (1 + 0.1 * at)
    series["s1"][700:760] = np.nan
    panel = pt.Panel.from_arrays({**series, "other": rng.normal(size=2300)}, "2024-01-01", "1 hour")
    for mode in ("looking_back", "as_of"):
        flags = list(pt.find_anomalies(panel, mode, using="beside_others", threshold=9))
        alone = [(flag.key, flag.start, flag.stop) for flag in flags if flag.start < 2200]
        assert alone == [("s2", 1500, 1506), ("s4", 2000, 2001)], "no echo, and nobody else is blamed"
        assert {flag.kind for flag in flags if flag.start < 2200} == {"apart from the others"}
        assert flags[0].observed - flags[0].expected == pytest.approx(5, abs=1)
        assert flags[0].raised_at == (1500 if mode == "as_of" else 2399)
        both = pt.find_anomalies(panel, mode, using="beside_others", threshold=9, workers=2)
        assert list(both) == flags
        assert "all at once" in {flag.kind for flag in flags if flag.start >= 2200}
        assert np.isnan(pt.find_anomalies(panel, mode, using="beside_others").scores.series(6)[1]).all(), "with nobody"
    spoiled = panel.with_values(np.where(np.concatenate([*[hours] * count, hours[:2300]]) >= 1800, -1e9, panel.values))
    before, after = (BesideOthers().as_of(each, 2, 2).score[:1800] for each in (panel, spoiled))
    assert before.tobytes() == after.tobytes() and np.isfinite(before[500:]).all()
    one = BesideOthers(companions=1)
    assert all(one.as_of(panel, each, 2).score[2000] < 5 for each in (0, 1, 2, 3, 5)), "the fault of its only other"
