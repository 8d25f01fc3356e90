"""Shifts of level and spread: partitions against all of them, sums against slow ones, and what is found where."""

import itertools

import numpy as np
import pytest

import proteron as pt
from proteron.core.anomalies.shifts import LevelShifts, SpreadShifts, partition, sums_of


def test_a_partition_is_the_best_of_all(rng: np.random.Generator) -> None:
    for _ in range(12):
        signal = rng.normal(size=20) + np.repeat(rng.normal(0, 3, 4), 5)
        price = float(rng.uniform(0.5, 8))

        def cost(edges: tuple[int, ...], signal: np.ndarray = signal, price: float = price) -> float:
            parts = itertools.pairwise((0, *edges, 20))
            return sum(((signal[a:b] - signal[a:b].mean()) ** 2).sum() for a, b in parts) + price * len(edges)

        ways = [way for n in range(5) for way in itertools.combinations(range(4, 17), n)
                if all(b - a >= 4 for a, b in itertools.pairwise((0, *way, 20)))]  # fmt: skip
        assert tuple(partition(signal, price).tolist()) == min(ways, key=cost)


def test_sums_begin_anew_where_they_rise_above_the_threshold(rng: np.random.Generator) -> None:
    signal = np.concatenate([rng.normal(size=60), 3 + rng.normal(size=40)])
    reached, lengths = sums_of(signal, 20, 6.0)
    change = int(np.flatnonzero(lengths)[0])
    for place in (0, 17, change):
        at = 20 + place
        slow = max(abs(signal[at - n + 1 : at + 1].sum()) / np.sqrt(n) for n in range(4, at + 2))
        assert reached[place] == pytest.approx(slow)
    start = 20 + change - int(lengths[change]) + 1
    assert start == pytest.approx(60, abs=2) and reached[change] > 6
    later = 20 + change + 9
    assert reached[change + 9] == pytest.approx(abs(signal[start : later + 1].sum()) / np.sqrt(later + 1 - start))
    assert (lengths > 0).sum() == 13 and reached[change + 14 :].max() < 6, "around the new mean"


@pytest.mark.parametrize("mode", ["looking_back", "as_of"])
def test_a_level_that_moves_and_a_spread_that_grows_are_found(rng: np.random.Generator, mode: str) -> None:
    hours = np.arange(1200)
    noise = rng.normal(size=1200)
    noise[800:] *= 5
    values = 50 + 9 * np.sin(hours * np.pi / 12) + noise + np.where(hours >= 500, 4.0, 0.0)
    values[300] += 80  # a spike is no shift
    panel = pt.Panel.from_arrays({"a": values}, "2024-01-01", "1 hour")
    shifts = [flag for flag in pt.find_anomalies(panel, mode, using="level_shifts") if flag.start < 800]
    assert [abs(flag.start - 500) <= 3 for flag in shifts] == [True] and shifts[0].kind == "level shift"
    assert mode == "looking_back" or 500 < shifts[0].raised_at < 520
    wider = pt.find_anomalies(panel, mode, using="spread_shifts")
    assert any(abs(flag.start - 800) < 25 and flag.kind == "burst" for flag in wider)
    assert not [flag for flag in wider if flag.start < 490], "a level that moves may look like scatter at first"
    if mode == "as_of":
        spoiled = panel.with_values(np.where(hours >= 700, rng.normal(size=1200) * 1e6, values))
        for detector in (LevelShifts(), SpreadShifts()):
            both = [detector.as_of(each, 0, 2) for each in (panel, spoiled)]
            assert both[0].score[:700].tobytes() == both[1].score[:700].tobytes()
            assert [c for c in both[0].candidates if c.course[0][0] < 700] == [
                c for c in both[1].candidates if c.course[0][0] < 700
            ]  # fmt: skip
