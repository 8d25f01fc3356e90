"""Windows against slow twins; rows never cross series; stability at a large offset."""

import numpy as np
import pyarrow as pa
import pytest

from proteron.core.errors import SettingsError
from proteron.core.panel import Panel
from proteron.core.timeline import calendar_codes
from proteron.core.windows import CovariateSteps, Rolling, WindowPlan, default_plan, rolling_moments

PLAN = WindowPlan(
    lags=[1, 2, 3, 24, 25],
    rolling=[Rolling("mean", 24), Rolling("std", 24), Rolling("mean", 7)],
    calendar=["hour_of_day"],
    covariates=[CovariateSteps(column="weather", at=(0, -3)), CovariateSteps(column="plan", at=(1, 6))],
    horizon=[1, 6],
)


def slow_row(panel: Panel, series: int, t: int) -> list[float]:
    """One row by hand: `t` is the local index of the origin."""
    x = panel.series(series)
    weather, plan = panel.covariate("weather").series(series), panel.covariate("plan").series(series)
    at = lambda v, i: v[i] if 0 <= i < len(v) else np.nan  # noqa: E731
    row = [x[t + 1 - lag] for lag in (1, 2, 3, 24, 25)]
    row += [x[t - 23 : t + 1].mean(), x[t - 23 : t + 1].std(ddof=1), x[t - 6 : t + 1].mean()]
    local = panel.axis.local(np.array([panel.starts[series] + t + 1]))
    angle = 2 * np.pi * calendar_codes("hour_of_day", local)[0] / 24
    row += [np.sin(angle), np.cos(angle), weather[t], weather[t - 3], at(plan, t + 1), at(plan, t + 6)]
    return [*row, x[t + 1], x[t + 6]]


def test_every_cell_equals_the_slow_twin(hourly: Panel) -> None:
    table = PLAN.cut(hourly)
    expected = {}
    for series in range(2):
        for t in range(24, hourly.lengths[series] - 6):
            row = slow_row(hourly, series, t)
            if np.isfinite(row).all():
                expected[(series, int(hourly.starts[series]) + t)] = row
    rows = np.concatenate([table.features, table.targets], axis=1)
    assert list(expected) == list(zip(table.series.tolist(), table.positions.tolist(), strict=True))
    np.testing.assert_allclose(rows, np.array(list(expected.values())), rtol=1e-12, atol=1e-12)
    assert sum(table.dropped.values()) == hourly.lengths.sum() - len(table)


def test_lag_one_is_the_last_known_value_and_horizon_one_the_next() -> None:
    panel = Panel.from_arrays({"a": np.arange(10.0)}, "2024-01-01", "1h")
    table = WindowPlan(lags=[1, 3], horizon=[1]).cut(panel)
    assert table.features[0].tolist() == [2.0, 0.0]
    assert table.targets[0].tolist() == [3.0]
    assert str(table.origins[0]) == "2024-01-01T02:00:00"
    assert table.keys[0] == "a"


@pytest.mark.parametrize("stride", [1, 2, 7])
def test_stride_and_lag_runs_agree_with_plain_indexing(stride: int, rng: np.random.Generator) -> None:
    panel = Panel.from_arrays({"a": rng.normal(size=60), "b": rng.normal(size=31)}, "2024-01-01", "1h")
    lags = [1, 2, 3, 9, 12, 13, 20]
    table = WindowPlan(lags=lags, horizon=[2], stride=stride).cut(panel)
    for row in range(len(table)):
        x = panel.series(int(table.series[row]))
        t = int(table.positions[row])
        assert table.features[row].tolist() == [x[t + 1 - lag] for lag in lags]
        assert table.targets[row, 0] == x[t + 2]


@pytest.mark.parametrize("window", [2, 3, 24, 168])
@pytest.mark.parametrize("gaps", [False, True])
def test_rolling_moments_are_exact_at_a_large_offset(window: int, gaps: bool, rng: np.random.Generator) -> None:
    x = 1e9 + rng.normal(size=2000)
    if gaps:
        x[[0, 77, 78, 500, 1337]] = np.nan
    means, squares = rolling_moments(x, np.array([0, 2000]), window)
    views = np.lib.stride_tricks.sliding_window_view(x, window)
    exact = views.astype(np.longdouble) - 10**9
    mean = np.array(exact.mean(axis=1), dtype=np.float64)
    spread = np.array(exact.std(axis=1, ddof=1), dtype=np.float64)
    np.testing.assert_allclose(means[window - 1 :] - 1e9, mean, atol=2e-7)
    np.testing.assert_allclose(np.sqrt(squares[window - 1 :] / (window - 1)), spread, rtol=1e-12)
    assert np.isnan(means[: window - 1]).all()


def test_missing_cells_drop_the_row_or_stay(hourly: Panel) -> None:
    dropped = WindowPlan(lags=[1]).cut(hourly)
    kept = WindowPlan(lags=[1], missing="keep").cut(hourly)
    assert len(kept) - len(dropped) == dropped.incomplete > 0
    assert np.isnan(kept.features).any()


def test_an_observed_covariate_cannot_be_read_ahead(hourly: Panel) -> None:
    with pytest.raises(SettingsError, match="only observed"):
        WindowPlan(covariates=[CovariateSteps(column="weather", at=(1,))]).cut(hourly)


def test_arrow_takes_the_table(hourly: Panel) -> None:
    table = PLAN.cut(hourly)
    arrow = pa.table(table)
    assert arrow.column_names == ["origin", "key", *table.names, "+1", "+6"]
    assert arrow.num_rows == len(table)
    assert arrow["lag 2"].to_numpy().tolist() == table.features[:, 1].tolist()


def test_plans_refuse_nonsense_and_read_themselves_back() -> None:
    assert WindowPlan.parse(PLAN.document()) == PLAN
    for bad in (
        {"lags": [0]},
        {"horizon": []},
        {"lags": [1, 1]},
        {"stride": 0},
        {"rolling": [{"statistic": "std", "window": 1}]},
    ):
        with pytest.raises(SettingsError):
            WindowPlan(**bad)


def test_the_default_plan_fits_short_and_long_series(hourly: Panel) -> None:
    assert default_plan(hourly).look_back >= 168
    short = Panel.from_arrays({"a": np.arange(30.0)}, "2020-01-01", "1 month")
    assert len(default_plan(short).cut(short)) > 10


def test_single_precision_and_large_tables_hold_the_same_cells(hourly: Panel, rng: np.random.Generator) -> None:
    exact, single = PLAN.cut(hourly), PLAN.cut(hourly, precision="float32")
    assert single.features.dtype == single.targets.dtype == np.float32
    np.testing.assert_allclose(single.features, exact.features, rtol=1e-6, atol=1e-6)
    assert single.positions.tolist() == exact.positions.tolist()
    long = rng.normal(size=180_000)
    panel = Panel.from_arrays({"a": long[:70_001], "b": long[70_001:]}, "2000-01-01", "1min")
    table = WindowPlan(lags=[*range(1, 49), 60], stride=1).cut(panel)  # so large that two threads write it
    assert table.features.nbytes > 1 << 26
    for row in rng.integers(0, len(table), 300).tolist():
        x, t = panel.series(int(table.series[row])), int(table.positions[row])
        assert table.features[row].tolist() == [x[t + 1 - lag] for lag in (*range(1, 49), 60)]
