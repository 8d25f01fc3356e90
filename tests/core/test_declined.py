"""What a forecaster cannot do is said in words: series it declines, columns that are mixes, levels it would lose."""

import numpy as np
import pytest

import proteron as pt
from proteron.core.panel import Panel


def test_a_series_that_is_declined_is_said_in_a_notebook_too() -> None:
    rng = np.random.default_rng(1)
    demand = rng.poisson(0.4, 80).astype(float)
    panel = Panel.from_arrays({"fine": demand, "below": demand - 1}, "2024-01-01", "1 day")
    with pytest.warns(
        pt.DeclinedWarning, match="“below” has no forecast by intermittent demand: Demand is never below"
    ):
        fitted = pt.forecaster("intermittent").fit(panel)
    mean = fitted.forecast(3).mean
    assert np.isfinite(mean[0]).all()
    assert np.isnan(mean[1]).all()


@pytest.mark.filterwarnings("error::proteron.DeclinedWarning")
def test_nothing_is_said_where_nothing_is_declined() -> None:
    panel = Panel.from_arrays({"a": np.random.default_rng(2).poisson(0.4, 80).astype(float)}, "2024-01-01", "1 day")
    assert np.isfinite(pt.forecaster("intermittent").fit(panel).forecast(3).mean).all()


def test_without_a_constant_a_level_is_kept_by_a_difference() -> None:
    """What is not differenced and has no constant returns to zero, however high the series lies."""
    rng = np.random.default_rng(3)
    noise = rng.normal(size=120)
    high = Panel.from_arrays({"a": 176 + noise}, "2024-01-01", "1 month")
    found = pt.forecaster("arima", constant=False).fit(high).forecast(24).mean[0]
    assert np.abs(found - 176).max() < 5
    low = Panel.from_arrays({"a": noise}, "2024-01-01", "1 month")
    about_zero = pt.forecaster("arima", constant=False).fit(low)
    assert np.abs(about_zero.forecast(24).mean[0]).max() < 1
    given = pt.forecaster("arima", constant=False, order=(1, 0, 0), seasonal=(0, 0, 0)).fit(high)
    assert abs(given.forecast(400).mean[0, -1]) < 176, "what is asked for is done"


def panel_with(**columns: np.ndarray) -> Panel:
    rng = np.random.default_rng(4)
    ahead = {name: ("known_ahead", values) for name, values in columns.items()}
    return Panel.from_arrays({"a": 50 + rng.normal(size=100)}, "2024-01-01", "1 day", covariates=ahead)


@pytest.mark.parametrize(
    ("columns", "words"),
    [
        ({"x": np.arange(106.0), "y": 3 + 2 * np.arange(106.0)}, "“y” is a mix of the columns before it"),
        ({"x": np.full(106, 7.0)}, "“x” never changes"),
        ({"x": np.arange(106.0), "y": np.full(106, 2.0)}, "“y” never changes"),
    ],
)
def test_a_column_that_adds_nothing_is_named_and_not_called_too_few_points(columns: dict, words: str) -> None:
    panel = panel_with(**columns)
    with pytest.warns(pt.DeclinedWarning, match=words):
        pt.forecaster("arima", covariates=list(columns)).fit(panel)
