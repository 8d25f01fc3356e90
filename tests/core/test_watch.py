"""As of every moment: the same in any portions, nothing taken back, in time; and the drill that tells how often."""

import itertools
import json
import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

import proteron as pt
from proteron.core.anomalies.drill import Recall
from proteron.core.anomalies.faults import FAULTS, drawn, places_for, unit_of
from proteron.core.anomalies.flags import Flag
from proteron.core.detection.arrivals import Copies
from proteron.core.detection.as_of import Watch
from proteron.core.panel import Floats, Occasion


@pytest.fixture
def values(rng: np.random.Generator) -> Floats:
    found = 100 + 10 * np.sin(np.arange(1500) * np.pi / 12) + rng.normal(size=1500)
    found[400] += 15
    found[600:606] += rng.normal(0, 14, 6)
    found[700:720] = found[700]
    found[800:803] = 0
    found[900:906] = np.nan
    found[1000:1030] = found[950:980]
    found[1200:] += 14
    return found


def raised_by(panel: pt.Panel, until: int | None = None, delay: int = 2) -> list[Flag]:
    found = pt.find_anomalies(panel, "as_of", per_thousand=20, delay=delay, until=until)
    return sorted(found, key=lambda flag: (flag.raised_at, flag.start))


def test_points_in_any_portions_come_to_the_same(values: Floats, rng: np.random.Generator) -> None:
    whole = Watch(5, (24, 168))
    whole.add(values)
    parts = Watch(5, (24, 168))
    edges = np.sort(rng.choice(1500, 60, replace=False))
    for part in np.split(values, edges):
        parts.add(part)
    for name in ("net", "kinds", "expected", "clean", "state"):
        assert getattr(parts, name).tobytes() == getattr(whole, name).tobytes(), name
    assert parts.arrivals.found == whole.arrivals.found and parts.moments == whole.moments
    assert whole.decided == 1498 and len(whole.moments) > 8


def test_a_panel_is_watched_point_by_point_saved_and_gone_on_with(
    values: Floats, rng: np.random.Generator, tmp_path: Path
) -> None:
    panel = pt.Panel.from_arrays({"a": values, "b": values[::-1]}, "2024-01-01", "1 hour")
    wanted = pt.find_anomalies(panel, "as_of", per_week=2)
    watching = pt.watch(panel.cut_at(300), per_week=2)
    told = list(watching.flags)
    for at in range(300, 1500):
        told += watching.add(panel.between(at - 3, at + 1))  # what is there already is passed over
        if at in (301, 700, 1004, 1210):
            watching = pt.load_watching(watching.save(tmp_path / "state.npz"))
    assert watching.flags == list(wanted) and "3000 points" in repr(watching)
    seen = {(flag.key, flag.start, flag.raised_at, flag.score) for flag in told}
    assert seen == {(flag.key, flag.start, flag.raised_at, flag.score) for flag in wanted} and len(told) == len(seen)
    late = pt.Panel.from_arrays({"b": [1.0], "c": [5.0]}, "2024-03-03T14:00", "1 hour")
    (gap,) = watching.add(late)
    assert (gap.kind, gap.key, gap.start, gap.stop) == ("gap", "b", 1500, 1502) and list(watching.watches)[2] == "c"
    for wrong, said in (
        (pt.Panel.from_arrays({"a": values[:9] + 1}, "2024-01-01", "1 hour"), "“a” differs from what was watched"),
        (pt.Panel.from_arrays({"a": [1.0]}, "2024-03-05", "1 day"), "by 1 hour in UTC, this by 1 day"),
    ):
        with pytest.raises(pt.InputError, match=said):
            watching.add(wrong)
    assert watching.watches["a"].points == 1500
    (tmp_path / "other.npz").write_bytes(b"nothing of the kind")
    for name in ("other.npz", "missing.npz"):
        with pytest.raises(pt.InputError):
            pt.load_watching(tmp_path / name)


def test_what_is_told_on_the_way_is_what_is_told_at_once(rng: np.random.Generator) -> None:
    """Steps with returns, points that lead into them, drifts, limits, an occasion: point by point as in one go."""
    at = np.arange(1600)
    values = 50 + 9 * np.sin(at * np.pi / 12) + rng.normal(size=1600)
    for start, stop, height in ((300, 330, 14), (420, 428, -12), (900, 1500, 10)):
        values[start:stop] += height
    values[600:640] += np.linspace(0, 15, 40)
    values[760:780] = np.minimum(values[760:780], 52.0)
    values[1100:1112] *= 2
    panel = replace(
        pt.Panel.from_arrays({"a": values}, "2024-01-01", "1 hour"), occasions=(Occasion("works", 420, 436),)
    )
    for budget in ({}, {"per_thousand": 4.0}):
        wanted = pt.find_anomalies(panel, "as_of", over="series", **budget)
        watching, told = pt.watch(panel.cut_at(250), **budget), list[pt.Flag]()
        for stop in range(251, 1601):
            told += watching.add(panel.cut_at(stop))
        assert watching.flags == list(wanted) and len(wanted) >= 5
        assert not [flag for flag in wanted if 420 <= flag.start < 436]
        early = pt.watch(panel.cut_at(250), **budget).flags
        first = {(flag.start, flag.raised_at, flag.score) for flag in [*early, *told]}
        assert first == {(flag.start, flag.raised_at, flag.score) for flag in wanted}, "nothing is taken back"


def test_what_is_remembered_of_copies_is_bounded(rng: np.random.Generator, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("proteron.core.detection.arrivals._REMEMBERED", 60)
    values, copies = rng.normal(size=400), Copies((24,))
    values[150:160], values[300:310] = values[101:111], values[3:13]  # of which the second is forgotten
    values[200:210] = values[176:186]  # a season ago
    found = [copies.add(float(value)) for value in values]
    assert found[150:160] == [0, 0, 0, 0, 5, 6, 7, 8, 9, 10] and sum(found[:150]) + sum(found[160:]) == 0


def test_cutting_anywhere_takes_nothing_back(values: Floats, rng: np.random.Generator) -> None:
    panel = pt.Panel.from_arrays({"a": values}, "2024-01-01", "1 hour")
    everything = pt.find_anomalies(panel, "as_of", per_thousand=20)
    flags = raised_by(panel)
    assert len(flags) >= 6
    for cut in sorted(rng.choice(np.arange(60, 1500), 30, replace=False).tolist()):
        known = pt.find_anomalies(panel, "as_of", per_thousand=20, until=cut)
        decided = cut - 2
        before = everything.scores.score[:decided]
        exact = {at for flag in flags if flag.raised_at >= cut for at in range(flag.start, flag.stop)}
        same = [at for at in range(decided) if at not in exact and at < cut - 8]
        assert known.scores.score[same].tobytes() == before[same].tobytes()
        told = [(each.start, each.raised_at, each.score) for each in raised_by(panel, cut)]
        assert told == [(each.start, each.raised_at, each.score) for each in flags if each.raised_at < cut]


def test_faults_are_raised_in_time_and_spoil_nothing_that_comes_after(values: Floats) -> None:
    panel = pt.Panel.from_arrays({"a": values}, "2024-01-01", "1 hour")
    flags = raised_by(panel)
    by_kind = {flag.kind: flag for flag in reversed(flags)}
    assert (by_kind["spike"].start, by_kind["spike"].raised_at) == (400, 402)
    assert (by_kind["zeros"].start, by_kind["zeros"].stop, by_kind["zeros"].raised_at) == (800, 803, 800)
    assert (by_kind["gap"].start, by_kind["gap"].raised_at) == (900, 900)
    stuck, slip = by_kind["flat-line"], by_kind["slip"]
    assert stuck.start == 700 and stuck.stop == 720 and stuck.raised_at <= 706
    assert abs(slip.start - 1000) <= 1 and slip.raised_at <= 1006
    shift = next(flag for flag in flags if flag.start >= 1190)
    assert (shift.start, shift.raised_at, shift.kind) == (1200, 1202, "level shift")
    assert not [flag for flag in flags if flag.start > 1210], "the new level is believed"
    late = {delay: {flag.raised_at - flag.start for flag in raised_by(panel, delay=delay) if flag.start == 400}
            for delay in (0, 1, 4)}  # fmt: skip
    assert late == {0: {0}, 1: {1}, 4: {4}}


def test_a_threshold_is_learned_from_what_was_raised_before(rng: np.random.Generator) -> None:
    values = rng.normal(size=2000)
    values[100:1000:30] += rng.uniform(8, 12, 30)
    values[1500] += 9
    panel = pt.Panel.from_arrays({"a": values}, "2024-01-01", "1 hour")
    strict, loose = (pt.find_anomalies(panel, "as_of", per_thousand=each) for each in (0.5, 50))
    assert strict.thresholds["a"] > loose.thresholds["a"] and len(strict) < len(loose)
    assert {flag.start for flag in strict} < {flag.start for flag in loose}
    assert 1500 in {flag.start for flag in loose} and 1500 not in {flag.start for flag in strict}


def test_the_drill_tells_what_would_be_found(rng: np.random.Generator) -> None:
    clean = 100 + 10 * np.sin(np.arange(3000) * np.pi / 12) + rng.normal(size=3000)
    values = clean.copy()
    values[700:730] += 25  # its own fault, which is repaired first
    panel = pt.Panel.from_arrays({"a": values, "b": 3 * values[::-1]}, "2024-01-01", "1 hour")
    asked = {"kinds": ["spike", "level shift", "flat-line"], "repeats": 30, "per_thousand": 10}
    found = pt.drill(panel, seed=1, **asked)
    assert found.recall == pt.drill(panel, seed=1, **asked).recall != pt.drill(panel, seed=2, **asked).recall
    for kind in ("spike", "level shift"):
        shares = [each.share for each in found.recall[kind].values()]
        assert shares[0] < 0.2 and shares[-1] > 0.85 and shares == pytest.approx(sorted(shares), abs=0.1)
        assert all(each.planted >= 30 and each.low <= each.share <= each.high for each in found.recall[kind].values())
    assert found.recall["flat-line"][16.0].share > 0.9 and found.unverified < 1 and found.threshold < 6
    assert found.recall["spike"][6.0].typical == pytest.approx(6 * np.median([1.0, 3.0]), rel=0.6)
    soon = pt.drill(panel, "as_of", kinds=["spike"], sizes=[12], repeats=10)
    assert soon.recall["spike"][12].delay == 2 and soon.recall["spike"][12].share > 0.8
    known = pt.drill(panel, seed=1, kinds=["spike"], sizes=[6.0], repeats=150, threshold=found.threshold)
    real = 0  # the same fault for real, one at a time
    for place in rng.choice(np.arange(100, 2900), 80, replace=False).tolist():
        spoiled = clean.copy()
        spoiled[place] += 6.0 * unit_of(clean, 24) * rng.choice([-1, 1])
        flags = pt.find_anomalies(
            pt.Panel.from_arrays({"a": spoiled}, "2024-01-01", "1 hour"), threshold=found.threshold
        )
        real += any(flag.start == place for flag in flags)
    assert abs(real / 80 - known.recall["spike"][6.0].share) < 0.2
    assert found.to_arrow().num_rows == 14 and "spike by units: 2:" in repr(found)
    strict, loose = found.at(30), found.at(0)
    assert strict.share < found.share <= loose.share and strict.unverified <= found.unverified <= loose.unverified
    assert pt.Drill.from_document(json.loads(json.dumps(found.document()))) == found
    assert 0.5 < found.named <= 1 and soon.late() == 2 and math.isnan(found.late())
    few = pt.drill(panel, kinds=["spike"], sizes=[12], repeats=5, most_points=1200)
    assert few.points % 1200 == 0 and few.recall["spike"][12].share > 0.8
    leak = {"leak": [0, 1, 2, *[4] * 20]}
    own = pt.drill(panel, kinds=["spike"], sizes=[6], shapes=leak, repeats=12, threshold=found.threshold)
    assert list(own.recall) == ["spike", "leak"] and own.recall["leak"][6].share > 0.8
    assert own.recall["leak"][6].named is None and own.recall["leak"][6].typical == own.recall["spike"][6].typical
    assert own.named == own.recall["spike"][6].named / own.recall["spike"][6].found, "nothing knows its name"
    flat = drawn("leak", [-1, -4]).make(np.zeros(9), 3, 2.0, 10.0, rng)
    assert flat.tolist() == [-5.0, -20.0] and "leak by units" in repr(own)
    for name, heights in [("spike", [1]), (" ", [1]), ("a" * 41, [1]), ("a", []), ("a", [0]), ("a", [np.inf])]:
        with pytest.raises(pt.SettingsError, match="shape"):
            pt.drill(panel, shapes={name: heights})
    with pytest.raises(pt.SettingsError, match="At most 8"):
        pt.drill(panel, shapes={str(each): [1] for each in range(9)})
    with pytest.raises(pt.SettingsError, match="no fault “ghost”"):
        pt.drill(panel, kinds=["ghost"])
    with pytest.raises(pt.SettingsError, match="At least one"):
        pt.drill(panel, repeats=0)
    with pytest.raises(pt.TooShortError, match="no room"):
        pt.drill(pt.Panel.from_arrays({"a": np.arange(6.0)}, "2024-01-01", "1 hour"))


def test_faults_change_what_they_say_and_keep_apart(rng: np.random.Generator) -> None:
    values = rng.normal(size=400)
    for fault in FAULTS.values():
        for size in fault.sizes:
            spoiled = fault.make(values, 100, size, 2.0, rng)
            assert len(spoiled) == fault.length(size), fault.kind
    free = np.ones(400, dtype=bool)
    free[200:300] = False
    places = places_for(free, [30, 30, 30, 30, 300], rng, 10)
    taken = sorted((at, at + 30) for at in places[:4] if at >= 0)
    assert places[4] == -1 and all(free[low:high].all() and low >= 8 for low, high in taken)
    assert all(later[0] >= earlier[1] + 10 for earlier, later in itertools.pairwise(taken))
    assert unit_of(np.arange(50.0), 5) > 0 and unit_of(rng.normal(size=4000), 24) == pytest.approx(1, rel=0.1)


def test_intervals_are_wilsons() -> None:
    half = Recall(10, 5, 5, math.nan, 1, 1)
    assert (half.low, half.high) == pytest.approx((0.2366, 0.7634), abs=1e-4)
    none = Recall(20, 0, 0, math.nan, 1, 1)
    assert none.low == 0 and none.high == pytest.approx(0.1611, abs=1e-4)
    assert Recall(0, 0, 0, math.nan, 1, 1).interval == (0, 1)
