"""What is obvious of a step ahead, and which rows are looked at to tell."""

import numpy as np
import pytest

from proteron import Panel
from proteron.core.forecasters.aligned import (
    aligned_columns,
    lags_before,
    nearest_columns,
    nearest_line,
    seasons_of,
    some_of,
    with_aligned_lags,
)
from proteron.core.forecasters.networks.straight import worth_of
from proteron.core.windows import Table, WindowPlan

SEASON, STEPS = 7, 10


def plan_of(known: Panel) -> WindowPlan:
    return with_aligned_lags(WindowPlan(lags=[1], horizon=range(1, STEPS + 1)), known)


def made(known: Panel) -> tuple[WindowPlan, Table]:
    plan = plan_of(known)
    return plan, plan.cut(known)


def panel_of(values: np.ndarray) -> Panel:
    return Panel.from_arrays({"a": values}, "2020-01-01", "1d")


def line_of(plan: WindowPlan, line: np.ndarray, step: int) -> dict[int, float]:
    """What a line weighs of each lag for a step, but zeros."""
    return {plan.lags[at]: weight for at, weight in enumerate(line[:, step - 1]) if weight}


def test_lags_lie_whole_seasons_before_every_step_and_before_the_origin() -> None:
    plan = plan_of(panel_of(np.arange(200.0)))
    assert {5, 6, 7, 8} <= set(plan.lags) and SEASON + 1 in plan.lags
    columns = aligned_columns(plan, panel_of(np.arange(200.0)))[SEASON]
    table = plan.cut(panel_of(np.arange(200.0)))
    ahead = table.targets[0] - table.features[0, columns]
    assert ahead.tolist() == [7.0] * 7 + [14.0] * 3


@pytest.mark.parametrize(
    ("kind", "expected"),
    [
        ("still", {7: 1.0}),
        ("walking", {1: 6 / 7, 7: 1.0, 8: -6 / 7}),
        ("no season", {1: 1.0}),
        ("noise", {}),
    ],
)  # fmt: skip
def test_the_nearest_line_is_a_season_ago_moved_with_the_level_or_the_last_or_nothing(
    kind: str, expected: dict[int, float], rng: np.random.Generator
) -> None:
    walk, season = np.cumsum(rng.normal(size=900)), np.tile([0.0, 40, 80, 30, -20, -60, -70], 129)[:900]
    values = {"still": season, "walking": season + walk, "no season": walk, "noise": rng.normal(size=900)}[kind]
    known = panel_of(values + 1e-3 * rng.normal(size=900))
    plan, table = made(known)
    features = table.features - (values.mean() if kind == "noise" else 0)
    line = nearest_line(plan, known, features, table.targets)
    assert line_of(plan, line, 1) == pytest.approx(expected)
    if kind == "walking":
        assert line_of(plan, line, 7) == {1: 1.0}  # a season before is the origin itself
        assert line_of(plan, line, 8) == pytest.approx({7: 1.0, 1: 6 / 7, 8: -6 / 7} | {7: 1.0})


def test_rows_that_are_looked_at_are_of_all_hours_and_the_same_each_time() -> None:
    rows = np.ones(48_000, dtype=bool)
    rows[::5] = False
    some = some_of(rows)
    assert len(some) == 2000 and rows[some].all() and (np.diff(some) > 0).all()
    assert np.bincount(some % 24).min() > 50
    np.testing.assert_array_equal(some, some_of(rows))
    assert some_of(rows, 40_000).tolist() == np.flatnonzero(rows).tolist()


def test_each_series_counts_alike_whatever_a_line_errs_in_it() -> None:
    known = Panel.from_arrays({"a": np.arange(60.0), "b": 1000 * np.arange(60.0), "c": np.ones(60)}, "2020-01-01", "1d")
    table = WindowPlan(lags=[1], horizon=[1]).cut(known)
    rows = table.positions > 30
    worth = worth_of(table, rows, np.ones((1, 1)))
    each = [np.unique(worth[table.series[rows] == series]) for series in range(3)]
    assert [len(mine) for mine in each] == [1, 1, 1]
    assert each[0][0] == pytest.approx(1.0) and each[1][0] == pytest.approx(1e-3)
    assert each[2][0] == pytest.approx(100.0)  # a series without an error counts no more than so


def test_seasons_are_the_two_shortest_or_one_and_two_of_its_cycles() -> None:
    hours = Panel.from_arrays({"a": np.arange(400.0)}, "2020-01-01", "1h")
    months = Panel.from_arrays({"a": np.arange(400.0)}, "1980-01-01", "1 month")
    years = Panel.from_arrays({"a": np.arange(40.0)}, "1980-01-01", "1 year")
    assert (seasons_of(hours), seasons_of(months), seasons_of(years)) == ([24, 168], [12, 24], [])
    assert lags_before(12, 14)[:2] == [12, 11] and lags_before(12, 14)[11:] == [1, 12, 11]


def test_of_two_seasons_that_err_alike_their_mean_is_nearest(rng: np.random.Generator) -> None:
    months = Panel.from_arrays({"a": np.tile(100 * rng.normal(size=12), 60)}, "1960-01-01", "1 month")
    noisy = months.with_values(months.values + rng.normal(size=720))
    plan = with_aligned_lags(WindowPlan(lags=[2], horizon=[1, 2]), noisy)
    table = plan.cut(noisy)
    assert line_of(plan, nearest_line(plan, noisy, table.features, table.targets), 1) == {12: 0.5, 24: 0.5}


def test_trees_begin_at_what_is_nearest_where_it_beats_the_level(rng: np.random.Generator) -> None:
    known = panel_of(np.tile([0.0, 40, 80, 30, -20, -60, -70], 40) + rng.normal(size=280))
    plan, table = made(known)
    found = nearest_columns(plan, known, table.features, table.targets)
    np.testing.assert_array_equal(found, aligned_columns(plan, known)[SEASON])
    noise = panel_of(rng.normal(size=280))
    plan, table = made(noise)
    assert nearest_columns(plan, noise, table.features, table.targets) is None
