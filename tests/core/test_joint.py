"""Looking back: evidence against slow twins, known faults found and named, no echo, no leak, a budget kept."""

import math
import warnings
from dataclasses import replace
from itertools import combinations, pairwise

import numpy as np
import pytest
from labelled import FIRST, SECOND, Span, bank, tally
from ugly import ugly_series

import proteron as pt
from proteron.core.anomalies import Mode
from proteron.core.anomalies.budget import Budget, threshold_by_rank, threshold_by_tail
from proteron.core.anomalies.flags import once_in
from proteron.core.detection.evidence import choose, point_evidence, precision, step_evidence, step_response
from proteron.core.detection.exact import exact_faults
from proteron.core.detection.expectation import Design, errors_between, expect, padded
from proteron.core.detection.joint import look_back, on_logarithms
from proteron.core.detection.scores import JOINT, score_of
from proteron.core.leak_check import CORRUPTIONS, corrupt_future
from proteron.core.panel import Floats

TAPS, FILTER = np.array([0, 1, 2, 5]), np.array([1.0, -0.6, 0.2, -0.3])
HOURS = (24, 168)


def whitened(points: int, weights: Floats) -> Floats:
    """The filter as a matrix from values to errors in spreads; rows read nothing before the first value."""
    matrix = np.zeros((points, points))
    for tap, weight in zip(TAPS, FILTER, strict=True):
        matrix += weight * np.eye(points, k=-tap)
    return np.sqrt(weights)[:, None] * matrix


def test_evidence_is_what_free_values_would_explain(rng: np.random.Generator) -> None:
    """Of a block: the squared errors that letting its values be anything takes away; of a step, one height."""
    points = 30
    errors, weights = rng.normal(size=points), rng.uniform(0.5, 2, points)
    weights[11] = 0.0
    matrix, scaled = whitened(points, weights), np.sqrt(weights) * errors

    def explained(columns: Floats) -> float:
        fitted = columns @ np.linalg.lstsq(columns, scaled, rcond=None)[0]
        return float((scaled**2).sum() - ((scaled - fitted) ** 2).sum())

    g, q = point_evidence(errors, weights, TAPS, FILTER)
    assert g**2 / q == pytest.approx([explained(matrix[:, [at]]) for at in range(points)])
    for start, stop in ((3, 5), (8, 15), (24, 30)):
        block = slice(start, stop)
        square = precision(start, stop, weights, TAPS, FILTER)
        assert g[block] @ np.linalg.solve(square, g[block]) == pytest.approx(explained(matrix[:, block]))
    found, heights = step_evidence(errors, weights, step_response(TAPS, FILTER, points))
    for at in (0, 7, 29):
        step = matrix @ (np.arange(points) >= at)
        assert found[at] == pytest.approx(explained(step[:, None]))
        assert heights[at] == pytest.approx(step @ scaled / (step @ step))


def test_what_is_chosen_is_the_best_of_all_ways(rng: np.random.Generator) -> None:
    points = 12
    for draw in range(20):
        errors, weights = rng.normal(size=points) * 2, np.ones(points)
        errors[rng.integers(points)] += 9
        errors[4:7] += rng.normal(0, 4, 3) * (draw % 2)
        g, q = point_evidence(errors, weights, TAPS, FILTER)
        steps, _ = step_evidence(errors, weights, step_response(TAPS, FILTER, 12))
        steps[[0, 1, 10, 11]] = 0.0
        own, worth = g**2 / q, dict[tuple[int, int, int], float]()
        for start in range(points):
            worth[1, start, start + 1] = own[start] - 18
            worth[2, start, start + 1] = steps[start] - 16
            if own[start : start + 5].sum() < 14 or own[start] < 2:
                continue
            for stop in range(start + 2, min(start + 6, points) + 1):
                square, part = precision(start, stop, weights, TAPS, FILTER), g[start:stop]
                cap = own[max(start - 1, 0) : stop + 1].sum()
                evidence = min(float(part @ np.linalg.solve(square, part)), cap)
                worth[3, start, stop] = evidence - 22 - 5 * (stop - start)
        pays = sorted((each for each in worth if worth[each] > 0), key=lambda each: each[1])
        ways = [way for count in range(6) for way in combinations(pays, count)
                if all(b[1] >= a[2] + 2 for a, b in pairwise(way))]  # fmt: skip
        best = max(ways, key=lambda way: sum(worth[each] for each in way))
        kinds, ends = choose(g, q, weights, TAPS, FILTER, steps, 6, 1.0)
        chosen = [(int(kinds[at]), int(at), int(ends[at])) for at in np.flatnonzero(kinds)]
        assert sum(worth[each] for each in chosen) == pytest.approx(sum(worth[each] for each in best))


def test_the_regression_finds_the_law_though_some_is_spoiled(rng: np.random.Generator) -> None:
    at, shocks = np.arange(4000), rng.normal(size=4000)
    noise = np.zeros(4000)
    for t in range(1, 4000):
        noise[t] = 0.7 * noise[t - 1] + shocks[t] * (1 + (t % 24 < 12))
    values = 50 + 8 * np.sin(at * np.pi / 12) + noise
    spoiled = values.copy()
    spoiled[rng.choice(4000, 40, replace=False)] += 60
    masked = np.zeros(4000, dtype=bool)
    for given in (values, spoiled):
        found = expect(given, masked, Design(4000, 4000, 0, HOURS))
        assert found.weights[0] == pytest.approx(0.7, abs=0.25 if given is spoiled else 0.06)
        day, night = np.median(found.spread[at % 24 < 12]), np.median(found.spread[at % 24 >= 12])
        assert given is spoiled or (day / night == pytest.approx(2, rel=0.2) and night == pytest.approx(1, rel=0.2))
    whole = padded(values, int(found.lags.max()), 168)
    again = errors_between(whole, found.lags, found.weights, found.base, 100, 300)
    slow = [values[t] - found.base[t] - found.weights @ values[t - found.lags] for t in range(200, 300)]
    assert again[100:] == pytest.approx(slow)
    ahead = found.base_at(0, 4000)
    assert ahead == pytest.approx(found.base)


def spans(values: Floats, seasons: tuple[int, ...] = HOURS) -> list[Span]:
    step = {HOURS: "1 hour", (): "1 year", (12,): "1 month"}[seasons]
    panel = pt.Panel.from_arrays({"a": values}, "2024-01-01", step)
    return [(flag.start, flag.stop, flag.kind) for flag in pt.find_anomalies(panel)]


def hourly(rng: np.random.Generator, points: int = 2000) -> Floats:
    return np.asarray(100 + 10 * np.sin(np.arange(points) * np.pi / 12) + rng.normal(size=points))


def test_faults_are_found_where_they_are_and_named(rng: np.random.Generator) -> None:
    clean = hourly(rng)
    assert spans(clean) == []
    values, at = clean.copy(), np.arange(2000)
    values[300] += 15
    values[500:512] += 14
    values[700:708] = values[700]
    values[800:803] = 0
    values[900:905] = np.nan
    values[1000:1030] = clean[980:1010]
    values[1200:1208] += rng.normal(0, 9, 8)
    values[1400:1440] *= 3.6
    values[1600:1640] += np.linspace(0, 25, 40)
    values[1800:] += 12
    found = {kind: (start, stop) for start, stop, kind in spans(values)}
    assert (found["spike"], found["flat-line"], found["zeros"], found["gap"]) == (
        (300, 301), (700, 708), (800, 803), (900, 905)
    )  # fmt: skip
    assert (1000, 1020, "slip") in spans(values) and found["unit change"] == (1400, 1440)
    assert found["burst"][0] >= 1200 and found["burst"][1] <= 1208
    assert abs(found["drift"][0] - 1600) < 25 and abs(found["drift"][1] - 1640) <= 2
    shifts = [(start, stop) for start, stop, kind in spans(values) if kind == "level shift"]
    assert (500, 512) in shifts and any(abs(start - 1800) <= 1 for start, _ in shifts)
    assert not any(abs(start - fault - 24) <= 1 for start, _, _ in spans(values) for fault in (300, 500, 1200)), "echo"
    limited = clean.copy()
    limited[600:700] = np.minimum(limited[600:700], 106)
    assert any(kind == "clipping" for _, _, kind in spans(limited))
    assert at.size == len(values)


def test_a_flag_tells_what_was_expected_what_came_and_how_unusual_that_is(rng: np.random.Generator) -> None:
    values = hourly(rng)
    values[500:512] += 14
    (flag,) = pt.find_anomalies(pt.Panel.from_arrays({"a": values}, "2024-01-01", "1 hour"))
    assert flag.observed == pytest.approx(values[500:512].mean())
    assert flag.expected == pytest.approx(values[500:512].mean() - 14, abs=1.5)
    assert flag.sentence.startswith("Level shift of 12 points since 2024-01-21 20:00:00: 1")
    assert "was expected, as by chance once in" in flag.sentence and flag.raised_at == 1999
    assert once_in(0.0) == 1 and once_in(6.0) == pytest.approx(541.5, rel=1e-3) and math.isfinite(once_in(1e5))


@pytest.mark.parametrize(("kinds", "events", "points", "named"), [(FIRST, 0.8, 0.7, 0.8), (SECOND, 0.78, 0.5, 0.6)])
def test_labelled_series(kinds: tuple[str, ...], events: float, points: float, named: float) -> None:
    steps = {HOURS: "1 hour", (7, 365): "1 day", (12,): "1 month"}

    def find(values: Floats, seasons: tuple[int, ...]) -> list[Span]:
        panel = pt.Panel.from_arrays({"a": values}, "2001-01-01", steps[seasons])
        return [(flag.start, flag.stop, flag.kind) for flag in pt.find_anomalies(panel, per_thousand=10)]

    found = tally(bank(kinds, 24, seed=3, public=False), find)
    assert found.event_f1 > events and found.point_f1 > points and found.named > named * found.found
    assert found.false_per_thousand < 1.8


def test_exact_tests_know_a_series_own_habits(rng: np.random.Generator) -> None:
    night = np.where(np.arange(600) % 24 < 8, 0.0, 5 + rng.random(600))
    assert exact_faults(night, (24,)) == []
    sticky = np.repeat(rng.normal(size=200), rng.integers(1, 6, 200))
    assert not [each for each in exact_faults(sticky, (24,)) if each.kind == "flat-line"]
    held = sticky.copy()
    held[300:360] = held[300]
    (stuck,) = [each for each in exact_faults(held, (24,)) if each.kind == "flat-line"]
    assert stuck.start <= 300 and stuck.stop >= 360
    counts = rng.integers(0, 5, 500).astype(float)
    assert not [each for each in exact_faults(counts, ()) if each.kind in ("slip", "clipping")]
    weekly = np.tile(rng.normal(size=168), 4)
    assert not [each for each in exact_faults(weekly, HOURS) if each.kind == "slip"]
    edges = np.r_[np.nan, np.nan, rng.normal(size=60), np.nan]
    assert exact_faults(edges, ()) == []


def test_logarithms_where_spread_grows_with_level(rng: np.random.Generator) -> None:
    level = np.exp(np.linspace(0, 3, 400))
    assert on_logarithms(level * np.exp(0.1 * rng.normal(size=400)), 1)
    assert not on_logarithms(50 + level + rng.normal(size=400), 1)
    assert not on_logarithms(level * np.exp(0.1 * rng.normal(size=400)) - 1, 1)


@pytest.mark.parametrize("mode", ["looking_back", "as_of"])
def test_ugly_series_get_finite_scores(mode: Mode) -> None:
    warnings.simplefilter("error")
    for step in ("1 hour", "1 month"):
        ugly = list(ugly_series().items())
        for name, values in ugly[:: 2 if step == "1 hour" else 5]:
            found = pt.find_anomalies(pt.Panel.from_arrays({"a": values}, "2020-01-01", step), mode, per_thousand=10)
            score = found.scores.score
            assert (np.isnan(score) | ((score >= 0) & (score < 1e7))).all(), name
            assert not np.isinf(found.scores.expected).any(), name
            assert all(JOINT.least < flag.score < 1e7 for flag in found), name


@pytest.mark.parametrize("mode", ["looking_back", "as_of"])
def test_nothing_after_the_cutoff_moves_a_bit(mode: Mode, rng: np.random.Generator) -> None:
    values = hourly(rng, 1200)
    values[[300, 620]] += 20
    panel = pt.Panel.from_arrays({"a": values, "b": values[::-1]}, "2024-01-01", "1 hour")
    found = pt.find_anomalies(panel, mode, per_week=2, until=700)
    assert len(found) >= 3
    for corruption in CORRUPTIONS:
        spoiled = pt.find_anomalies(corrupt_future(panel, 700, corruption), mode, per_week=2, until=700)
        assert spoiled.flags == found.flags and spoiled.thresholds == found.thresholds
        assert spoiled.scores.score.tobytes() == found.scores.score.tobytes()


def test_a_budget_is_kept_over_the_panel_and_a_quiet_series_may_stay_quiet(rng: np.random.Generator) -> None:
    quiet, wild = rng.normal(size=1000), rng.normal(size=1000)
    wild[50::50] += rng.uniform(10, 30, 19)
    panel = pt.Panel.from_arrays({"quiet": quiet, "wild": wild}, "2024-01-01", "1 hour")
    for per_thousand, most in ((1.0, 2), (4.0, 8), (50.0, 19)):
        flags = pt.find_anomalies(panel, per_thousand=per_thousand)
        assert len(flags) == most and {flag.key for flag in flags} == {"wild"}
    assert len(pt.find_anomalies(panel, per_week=2)) == math.floor(2000 / 168)
    own = pt.find_anomalies(panel, per_week=1, over="series")
    assert len(own) == math.floor(1000 / 168) and own.thresholds["quiet"] == JOINT.least < own.thresholds["wild"]
    assert len(pt.find_anomalies(panel, threshold=1e6)) == 0
    assert Budget().allowed(1000, 1, 3600) is None and Budget(per_week=2).allowed(336, 2, 3600) == 2
    assert Budget(per_thousand=2).allowed(500, 3, 3600) == 1
    assert threshold_by_rank([9, 8, 7], None) == JOINT.usual and threshold_by_rank([9, 8, 5], 2) == JOINT.least
    assert threshold_by_rank([9, 8, 7], 1) == 8 and threshold_by_rank([9, 8, 7], 0.5) == 9
    tails = [threshold_by_tail([7.0] * 20 + [12.0] * 5, each) for each in (0, 1, 10, 100)]
    assert tails == sorted(tails, reverse=True) and tails[-1] == JOINT.least and tails[0] > 7
    assert score_of(-30) == 0 and score_of(26.0) == JOINT.usual
    for wrong, said in (
        ({"per_week": 0}, "positive"), ({"per_thousand": -1}, "positive"), ({"mode": "both"}, "no mode"),
        ({"per_week": 1, "per_thousand": 1}, "not both"), ({"threshold": 5, "per_week": 1}, "not both"),
        ({"threshold": -1}, "positive"), ({"delay": 9}, "0 to 8"), ({"over": "all"}, "panel or every series"),
        ({"per_week": float("nan")}, "positive"),
    ):  # fmt: skip
        with pytest.raises(pt.SettingsError, match=said):
            pt.find_anomalies(panel, **wrong)
    heard: list[tuple[int, int]] = []
    pt.find_anomalies(panel, progress=lambda *told: heard.append(told))
    assert heard == [(1, 2), (2, 2)]
    assert pt.find_anomalies(panel, "as_of", workers=2).flags == pt.find_anomalies(panel, "as_of").flags
    with pytest.raises(pt.ProteronError, match="Stopped before"):
        pt.find_anomalies(panel, stop_asked=lambda: True)


def test_a_budget_over_the_panel_is_learned_from_all_series_as_of_each_moment(rng: np.random.Generator) -> None:
    quiet, wild = rng.normal(size=(2, 2000))
    wild[100:1000:30] += rng.uniform(8, 12, 30)
    quiet[1500] += 9
    panel = pt.Panel.from_arrays({"quiet": quiet, "wild": wild}, "2024-01-01", "1 hour")
    one, own = (pt.find_anomalies(panel, "as_of", per_thousand=0.2, over=over) for over in ("panel", "series"))
    assert len(set(one.thresholds.values())) == 1 and len(set(own.thresholds.values())) == 2
    assert ("quiet", 1500) in {(flag.key, flag.start) for flag in own}
    assert ("quiet", 1500) not in {(flag.key, flag.start) for flag in one}
    for cut in (900, 1400, 1502, 1503):
        early = pt.find_anomalies(panel, "as_of", per_thousand=0.2, until=cut)
        assert [(f.key, f.start, f.score, f.raised_at) for f in early] == [
            (f.key, f.start, f.score, f.raised_at) for f in one if f.raised_at < cut
        ]  # fmt: skip


def test_occasions_explain_before_anything_is_flagged(rng: np.random.Generator) -> None:
    values = hourly(rng)
    values[480:504] += 40  # the festival
    values[700] += 40
    panel = pt.Panel.from_arrays({"a": values}, "2024-01-01", "1 hour")
    told = replace(panel, occasions=(pt.core.panel.Occasion("Harbour festival", 480, 504),))
    for mode in ("looking_back", "as_of"):
        before, after = pt.find_anomalies(panel, mode), pt.find_anomalies(told, mode)
        assert any(flag.start < 504 and flag.stop > 480 for flag in before) and not before.explained
        assert 700 in {flag.start for flag in after} and not any(480 <= flag.start < 500 for flag in after)
        assert {flag.occasion for flag in after.explained} == {"Harbour festival"}
        assert all(flag.sentence.endswith(", on Harbour festival.") for flag in after.explained)
    stuck = values.copy()
    stuck[480:504] = stuck[480]
    exact = pt.find_anomalies(replace(told, values=stuck))
    assert [flag.kind for flag in exact if 480 <= flag.start < 500] == ["flat-line"], "an exact test needs no excuse"
    watching = pt.watch(told)
    assert [(f.start, f.score) for f in watching.flags] == [
        (f.start, f.score) for f in pt.find_anomalies(told, "as_of")
    ]


def test_what_is_found_is_taken_out_and_nothing_else(rng: np.random.Generator) -> None:
    clean = hourly(rng)
    values = clean.copy()
    values[500:512] += 14
    values[900] = np.nan
    looked = look_back(values, 0, HOURS)
    restored = looked.scale.out_of(looked.clean + looked.shift)
    away = np.ones(2000, dtype=bool)
    away[[*range(500, 512), 900]] = False
    assert restored[away] == pytest.approx(values[away]) and abs(restored[900] - clean[900]) < 4
    assert looked.scale.out_of(looked.clean)[500:512] == pytest.approx(clean[500:512], abs=1.5)
    assert 0.8 <= looked.tail < 1.2 and np.isnan(looked.strength[900])


def test_flagged_values_are_repaired_or_masked_and_never_scored(rng: np.random.Generator) -> None:
    clean = hourly(rng)
    values = clean.copy()
    values[500:512] += 14
    values[700:703] = np.nan
    values[1500:] += 12
    panel = pt.Panel.from_arrays({"calm": clean, "wild": values}, "2024-01-01", "1 hour")
    found = pt.find_anomalies(panel)
    assert [(flag.kind, flag.stays) for flag in found] == [
        ("level shift", False), ("gap", False), ("level shift", True)
    ]  # fmt: skip
    repaired, masked = found.repaired(), found.masked()
    wild = repaired.series(1)
    assert wild[500:512] == pytest.approx(clean[500:512], abs=4) and np.isfinite(wild[700:703]).all()
    away = np.ones(2000, dtype=bool)
    away[[*range(500, 512), *range(700, 703)]] = False
    assert wild[away].tobytes() == values[away].tobytes() and repaired.series(0).tobytes() == clean.tobytes()
    assert np.flatnonzero(np.isnan(repaired.scorable())).tolist() == (2000 + np.flatnonzero(~away)).tolist()
    assert np.flatnonzero(np.isnan(masked.learnable().values)).tolist() == (2000 + np.flatnonzero(~away)).tolist()
    assert {mask.reason for mask in masked.masks} == {"level shift", "gap"}
    assert [flag.start for flag in pt.find_anomalies(repaired, threshold=9)] == [1500]
