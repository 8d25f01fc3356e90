"""Nested loess decomposition: slow twin, recovery of known parts, gaps and short histories."""

import numpy as np
import pytest

from proteron.core.flatten import LoessSeasons, decompose, find_knots
from proteron.core.flatten.loess import loess
from proteron.core.flatten.moving_average import centred_average
from proteron.core.flatten.piecewise_trend import _line_cost, _partition
from proteron.core.flatten.smooth_trend import smooth
from proteron.core.panel import Panel

# Cobb 1978, table 1: annual flow of the Nile at Aswan, 1871 to 1970 (10^8 m³).
NILE = np.array([
    1120, 1160, 963, 1210, 1160, 1160, 813, 1230, 1370, 1140, 995, 935, 1110, 994, 1020, 960, 1180, 799, 958, 1140,
    1100, 1210, 1150, 1250, 1260, 1220, 1030, 1100, 774, 840, 874, 694, 940, 833, 701, 916, 692, 1020, 1050, 969,
    831, 726, 456, 824, 702, 1120, 1100, 832, 764, 821, 768, 845, 864, 862, 698, 845, 744, 796, 1040, 759,
    781, 865, 845, 944, 984, 897, 822, 1010, 771, 676, 649, 846, 812, 742, 801, 1040, 860, 874, 848, 890,
    744, 749, 838, 1050, 918, 986, 797, 923, 975, 815, 1020, 906, 901, 1170, 912, 746, 919, 718, 714, 740,
], dtype=float)  # fmt: skip


def slow_loess(values: np.ndarray, weights: np.ndarray, x: float, window: int) -> float:
    """Cleveland 1979 as written: sort by distance, tricube weights, weighted line."""
    at = np.arange(len(values))
    distance = np.abs(at - x)
    nearest = np.sort(distance)[: min(window, len(values))]
    reach = nearest[-1] + max(window - len(values), 0) // 2
    tricube = np.where(distance <= nearest[-1], (1 - np.minimum(distance / reach, 1) ** 3) ** 3, 0) * weights
    design = np.column_stack([np.ones(len(at)), at - x])
    return float(np.linalg.lstsq(design * np.sqrt(tricube)[:, None], values * np.sqrt(tricube), rcond=None)[0][0])


@pytest.mark.parametrize("window", [7, 21, 150])
def test_loess_equals_its_definition(rng: np.random.Generator, window: int) -> None:
    values, weights = rng.normal(size=60).cumsum(), rng.uniform(0.1, 1, size=60)
    fitted, trace = loess(values, weights, window, 1, 2, 1)
    twin = [slow_loess(values, weights, x, window) for x in range(-2, 61)]
    np.testing.assert_allclose(fitted, twin, atol=1e-9)
    # The trace, by its definition: how far each fitted value follows its own point.
    bumped = [loess(values + 1e-3 * (np.arange(60) == i), weights, window, 1, 0, 0)[0][i] for i in range(60)]
    plain = loess(values, weights, window, 1, 0, 0)[0]
    assert trace == pytest.approx(((np.array(bumped) - plain) / 1e-3).sum(), rel=1e-6)


def test_moving_average_keeps_lines_and_spans_gaps(rng: np.random.Generator) -> None:
    line = 3 + 0.5 * np.arange(50.0)
    for window in (5, 12):
        np.testing.assert_allclose(centred_average(line, window), line, atol=1e-9)
    values = rng.normal(size=50)
    weights = np.array([0.5] + [1] * 11 + [0.5])
    assert centred_average(values, 12)[20] == pytest.approx((values[14:27] * weights).sum() / 12)
    gappy = line.copy()
    gappy[20:22] = np.nan
    np.testing.assert_allclose(centred_average(gappy, 9), line, atol=1e-9)


def test_the_smooth_trend_equals_the_dense_solution(rng: np.random.Generator) -> None:
    values = rng.normal(size=40).cumsum()
    values[[5, 6, 30]] = np.nan
    bends = np.diff(np.eye(40), 2, axis=0)
    weight = np.diag(np.isfinite(values).astype(float))
    expected = np.linalg.solve(weight + 1600 * bends.T @ bends, weight @ np.nan_to_num(values))
    np.testing.assert_allclose(smooth(values, 1600), expected, atol=1e-8)


def oracle(clean: np.ndarray, components: list[np.ndarray]) -> list[np.ndarray]:
    """Least squares on clean data by someone who knows the form: each component's columns are given."""
    design = np.concatenate(components, axis=1)
    weights = np.linalg.lstsq(design, clean, rcond=None)[0]
    ends = np.cumsum([part.shape[1] for part in components])
    return [part @ weights[end - part.shape[1] : end] for part, end in zip(components, ends, strict=True)]


def rms(values: np.ndarray) -> float:
    return float(np.sqrt((values**2).mean()))


@pytest.mark.parametrize(
    ("count", "periods", "orders", "bend"),
    [(20_000, (24, 168, 8766), (4, 2, 1), 1), (20_000, (24, 168), (12, 3), 2), (2_000, (7, 365), (3, 2), 1),
     (180, (12,), (6,), 1)],
)  # fmt: skip
def test_the_robust_decomposition_finds_every_part_behind_spikes(
    count: int, periods: tuple[int, ...], orders: tuple[int, ...], bend: int
) -> None:
    """Trend, two or three seasons, noise, 2 % gross spikes: mean error of each part over ten series is below
    1.5 times that of least squares that knows the form and sees the clean data; plain loess is not."""
    rng = np.random.default_rng(11)
    at = np.arange(count)
    columns = [np.polynomial.legendre.legvander(np.linspace(-1, 1, count), bend)]
    for period, order in zip(periods, orders, strict=True):
        angles = 2 * np.pi * np.outer(at, np.arange(1, order + 1)) / period
        waves = np.concatenate([np.cos(angles), np.sin(angles)], axis=1)
        columns.append(waves[:, np.abs(waves).max(axis=0) > 1e-9])
    errors: dict[str, list[list[float]]] = {"robust": [], "plain": [], "oracle": []}
    for _ in range(10 if count < 5_000 else 4):
        parts = [each @ rng.normal(scale=3, size=each.shape[1]) for each in columns]
        clean = sum(parts) + rng.normal(size=count)
        spoiled = clean.copy()
        hit = rng.choice(count, count // 50, replace=False)
        spoiled[hit] += rng.choice([-1, 1], len(hit)) * rng.uniform(20, 60, len(hit))
        known = oracle(clean, columns)
        errors["oracle"].append([rms(k - p) for k, p in zip(known, parts, strict=True)])
        for name, robust in (("robust", True), ("plain", False)):
            found = decompose(spoiled, periods, robust=robust)
            got = [found.trend, *[season.path for season in found.seasons]]
            errors[name].append([rms(g - p) for g, p in zip(got, parts, strict=True)])
    mean = {name: np.mean(each, axis=0) for name, each in errors.items()}
    assert (mean["robust"] < 1.5 * mean["oracle"]).all(), mean["robust"] / mean["oracle"]
    assert (mean["plain"] > 1.5 * mean["oracle"]).any()


def test_a_changing_season_is_followed(rng: np.random.Generator) -> None:
    at = np.arange(240)
    season = (1 + at / 120) * np.sin(2 * np.pi * at / 12)
    values = 0.05 * at + season + 0.1 * rng.normal(size=240)
    changing = decompose(values, [12], season_window=9)
    fixed = decompose(values, [12])
    assert rms(changing.seasons[0].path - season) < 0.1 < rms(fixed.seasons[0].path - season)
    assert abs(changing.seasons[0].figure.mean()) < 1e-9


def test_gaps_do_not_hurt_a_decomposition(rng: np.random.Generator) -> None:
    at = np.arange(600)
    values = 10 + 0.01 * at + 3 * np.sin(2 * np.pi * at / 24) + 0.2 * rng.normal(size=600)
    gappy = values.copy()
    gappy[rng.random(600) < 0.2] = np.nan
    gappy[200:260] = np.nan
    whole, holed = decompose(values, [24]), decompose(gappy, [24])
    assert np.abs(whole.trend - holed.trend).max() < 0.2
    assert np.abs(whole.seasons[0].path - holed.seasons[0].path).max() < 0.15
    assert np.isfinite(decompose(np.where(at % 24 == 5, np.nan, values), [24]).seasons[0].figure).all()


def test_a_season_that_cannot_be_learned_is_named_with_what_is_needed() -> None:
    values = 5 + np.sin(2 * np.pi * np.arange(10_000) / 24)
    panel = Panel.from_arrays({"a": values}, "2024-01-01", "1h")
    state = LoessSeasons().fit(panel.series(0), panel.positions(0), _calendar(panel))
    assert any("year (8,766 steps) cannot be learned: 1.1 cycles known, 2 are needed" in note for note in state.notes)
    assert "figure 168" in state.arrays
    assert "figure 8766" not in state.arrays


def _calendar(panel: Panel):  # type: ignore[no-untyped-def]
    from proteron.core.flatten import Calendar

    return Calendar(panel.axis, panel.occasions)


def test_knots_are_found_where_the_line_bends(rng: np.random.Generator) -> None:
    at = np.arange(900.0)
    values = np.interp(at, [0, 300, 600, 899], [0, 30, 0, 5]) + rng.normal(size=900)
    knots = find_knots(at, values)
    assert len(knots) == 2
    np.testing.assert_allclose(knots, [300, 600], atol=25)
    assert len(find_knots(at, rng.normal(size=900))) == 0
    (dam,) = find_knots(np.arange(100.0), NILE)
    assert 1871 + dam == pytest.approx(1899, abs=2)  # Cobb 1978: the change of 1898


def test_optimal_partitioning_equals_the_full_search(rng: np.random.Generator) -> None:
    values = np.concatenate([rng.normal(size=14), 6 + rng.normal(size=11), 0.8 * np.arange(13) + rng.normal(size=13)])
    at = np.linspace(0, 1, len(values))
    sums = np.zeros((len(values) + 1, 5))
    sums[1:] = np.cumsum(np.column_stack([at, values, at * at, at * values, values * values]), axis=0)
    best = {0: (-9.0, ())}
    for stop in range(4, len(values) + 1):
        options = [
            (best[start][0] + _line_cost(sums, start, stop) + 9.0, (*best[start][1], stop))
            for start in best
            if stop - start >= 4
        ]
        if options:
            best[stop] = min(options)
    assert tuple(_partition(sums, 9.0, 4)) == best[len(values)][1]
