"""Forecasters: closed forms, one protocol, defined answers on poor data."""

from dataclasses import replace

import numpy as np
import pytest

import proteron as pt
from proteron.core.errors import SettingsError
from proteron.core.forecasters import FORECASTERS, Contender, FittedContender, ForecasterState, quantile_rows
from proteron.core.panel import Panel
from proteron.core.phases import truths

SETTINGS = {
    "dense_network": {"hidden": [8], "epochs": 3}, "arima": {"order": (1, 0, 1), "seasonal": (0, 0, 0)},
    "boosted_trees": {"trees": 5},
}  # fmt: skip
NAMES = list(pt.forecasters())


def make(name: str, **more: object) -> Contender:
    return pt.forecaster(name, **{**SETTINGS.get(name, {}), **more})


def test_every_forecaster_is_registered_under_its_kind() -> None:
    assert {"last_value", "seasonal_last_value", "drift", "mean", "ridge", "dense_network"} <= set(NAMES)
    assert [each.model_fields["kind"].default for each in FORECASTERS] == NAMES
    with pytest.raises(pt.SettingsError, match="no forecaster"):
        pt.forecaster("oracle")
    with pytest.raises(pt.SettingsError, match="strength"):
        pt.forecaster("ridge", strength=-1)


def test_baselines_have_their_closed_form() -> None:
    x = np.array([3.0, 1, 4, 1, 5, 9, 2, np.nan])
    panel = Panel.from_arrays({"a": x}, "2024-01-01", "1 day")
    forecast = lambda name, **s: make(name, **s).fit(panel).forecast(4).mean[0].tolist()  # noqa: E731
    assert forecast("last_value") == [2, 2, 2, 2]
    assert forecast("seasonal_last_value", period=3) == [9, 2, 5, 9]
    assert forecast("drift") == pytest.approx([2 + k * (2 - 3) / 6 for k in range(1, 5)])
    assert forecast("mean") == pytest.approx([25 / 7] * 4)


@pytest.mark.parametrize("strength", [0.0, 1.0, 30.0])
def test_ridge_equals_the_normal_equations(strength: float, hourly: Panel) -> None:
    panel = hourly.select([0])
    model = pt.forecaster("ridge", lags=[1, 2, 24], horizon=[1], strategy="recursive", strength=strength)
    state = model.fit(panel, until=1000)
    table = pt.WindowPlan(lags=[1, 2, 24]).cut(panel.cut_at(1000))
    x, y = table.features, table.targets[:, 0]
    scaled = (x - x.mean(axis=0)) / x.std(axis=0)
    level = panel.cut_at(1000).values
    spread = np.nanstd(level)
    z = np.linalg.solve(scaled.T @ scaled + strength * np.eye(3), scaled.T @ ((y - y.mean()) / spread))
    slopes = z * spread / x.std(axis=0)
    assert [state.parameters[f"lag {k}"] for k in (1, 2, 24)] == pytest.approx(slopes, rel=1e-9)
    expected = y.mean() + (panel.values[[999, 998, 976]] - x.mean(axis=0)) @ slopes
    assert state.forecast(1).mean[0, 0] == pytest.approx(expected, rel=1e-9)
    intercept = y.mean() - x.mean(axis=0) @ slopes
    assert state.parameters["intercept"] == pytest.approx(intercept, rel=1e-6, abs=1e-6)


def test_recursion_feeds_its_own_forecasts_back(hourly: Panel) -> None:
    panel = hourly.select([0])
    state = pt.forecaster("ridge", lags=[1, 2], strategy="recursive").fit(panel, until=700)
    weights = state.parameters
    history = panel.values[:700].tolist()
    for _ in range(5):
        history.append(weights["intercept"] + weights["lag 1"] * history[-1] + weights["lag 2"] * history[-2])
    assert state.forecast(5).mean[0].tolist() == pytest.approx(history[-5:], rel=1e-9)


def test_direct_blocks_are_chained_beyond_their_horizon(hourly: Panel) -> None:
    state = pt.forecaster("ridge", lags=range(1, 30)).fit(hourly, until=1200, horizon=12)
    near, far = state.forecast(12).mean, state.forecast(40).mean
    assert np.array_equal(near, far[:, :12])
    assert np.isfinite(far).all()


@pytest.mark.parametrize("name", NAMES)
def test_the_chain_is_undone_and_units_come_back(name: str, hourly: Panel) -> None:
    chain = pt.Chain(
        [pt.flatten.Log(), pt.flatten.PeriodMeans(period="hour_of_day"), pt.flatten.SeasonalDifference(period=24)]
    )
    state = make(name, chain=chain).fit(hourly, until=1200, horizon=24)
    forecast = state.forecast(24)
    if "declined" in state.state.facts and len(state.state.facts["declined"]) == len(hourly):
        assert all(sentence.startswith("No forecast: ") for sentence in state.summary.values())
        return  # what is flat lies below zero, which some cannot take
    truth = truths(hourly, np.array([1200]), 24)[:, 0]
    assert np.nanmean(np.abs(forecast.mean - truth)) < 12
    assert (forecast.lower[0.95] > 0).all()  # a log keeps ranges positive
    assert (forecast.lower[0.95] <= forecast.lower[0.5]).all()
    assert (forecast.upper[0.95] >= forecast.upper[0.5]).all()


@pytest.mark.parametrize("name", NAMES)
def test_paths_are_seeded_and_joint(name: str, hourly: Panel) -> None:
    forecast = make(name).fit(hourly, until=1200, horizon=6).forecast(6)
    paths = forecast.paths(50, seed=3)
    assert paths.shape == (50, 2, 6)
    assert np.array_equal(paths, forecast.paths(50, seed=3))
    assert not np.array_equal(paths, forecast.paths(50, seed=4))


@pytest.mark.parametrize("name", NAMES)
@pytest.mark.parametrize(
    "values",
    [
        pytest.param(np.full(60, 5.0), id="constant"),
        pytest.param(1e12 + np.arange(60.0), id="huge"),
        pytest.param(np.where(np.arange(90) % 11 == 0, np.nan, np.sin(np.arange(90.0))), id="gappy"),
        pytest.param(np.arange(12.0), id="short"),
    ],
)
def test_poor_series_get_a_defined_answer(name: str, values: np.ndarray) -> None:
    panel = Panel.from_arrays({"a": values}, "2020-01-01", "1 month")
    try:
        fitted = make(name).fit(panel, horizon=3)
        forecast = fitted.forecast(3)
    except pt.TooShortError as error:
        assert len(values) == 12
        assert "points in a row are needed" in error.message
        return
    if np.isnan(forecast.mean).all():
        assert fitted.summary.startswith("No forecast: ") and fitted.state.facts["declined"]["a"]
        return
    assert np.isfinite(forecast.mean).all()
    assert np.abs(forecast.mean).max() < 4 * np.nanmax(np.abs(values))


@pytest.mark.parametrize("name", NAMES)
def test_nothing_known_is_a_clear_error(name: str) -> None:
    panel = Panel.from_arrays({"a": [np.nan] * 10}, "2020-01-01", "1 month")
    with pytest.raises(pt.TooShortError, match="Nothing is known"):
        make(name).fit(panel)


@pytest.mark.parametrize("name", NAMES)
def test_state_survives_plain_json_and_arrays(name: str, hourly: Panel) -> None:
    import json

    state = make(name).fit(hourly, until=900, horizon=5)
    again = ForecasterState(state.state.keys, state.state.arrays, json.loads(json.dumps(state.state.facts)))
    restored = FittedContender(state.contender, state.known, state.until, state.chain, again)
    origins = np.array([900, 950])
    assert restored.means(hourly, origins, 5)[0].tobytes() == state.means(hourly, origins, 5)[0].tobytes()
    assert Contender.from_document(json.loads(json.dumps(state.contender.document()))).hash == state.contender.hash


def test_fitted_values_and_residuals_line_up(hourly: Panel) -> None:
    state = pt.forecaster("ridge", lags=[1, 24], strategy="recursive").fit(hourly, until=800)
    fitted = state.fitted_values["east"]
    assert fitted.shape == state.known["east"].shape
    np.testing.assert_allclose(state.residuals["east"], state.known["east"] - fitted)
    assert state.criteria["east"]["rmse"] == pytest.approx(np.sqrt(np.nanmean(state.residuals["east"] ** 2)))
    assert "Linear in 2 features" in state.summary["north"]


def test_quantiles_ignore_missing_rows(rng: np.random.Generator) -> None:
    rows = rng.normal(size=(99, 2))
    rows[::9, 1] = np.nan
    assert quantile_rows(rows, 0.5)[0] == pytest.approx(np.median(rows[:, 0]))
    assert quantile_rows(rows, 0.95)[0] == np.sort(rows[:, 0])[94]  # (n + 1) q - 1
    assert quantile_rows(rows, 0.5)[1] == pytest.approx(np.nanmedian(rows[:, 1]))


FED_BACK = (
    "lags 1-3; mean 6; mean so far; weighted mean 4; std 5 of 3 known; difference 1 over 3; hour_of_day; "
    "plan at 0, +1; site is one_hot shop; waves 24; ahead 1 fed back"
)


def _lengthened(panel: pt.Panel, values: np.ndarray) -> pt.Panel:
    """`panel`, which ends everywhere at once, with one more point per series; known-ahead columns as they are."""
    parts = [np.append(panel.series(i), values[i]) for i in range(len(panel))]
    offsets = np.concatenate([[0], np.cumsum([len(part) for part in parts])])
    return replace(
        panel, values=np.concatenate(parts), offsets=offsets, marks=np.zeros(offsets[-1], dtype=np.uint8)
    )  # fmt: skip


def test_forecasts_fed_back_equal_one_step_after_the_other(rng: np.random.Generator) -> None:
    ahead = {key: rng.normal(size=320) for key in "ab"}
    panel = pt.Panel.from_arrays(
        {"a": rng.normal(size=300).cumsum(), "b": 5 + rng.normal(size=280)},
        {"a": "2024-01-01", "b": "2024-01-01T20:00"}, "1h",
        covariates={"plan": ("known_ahead", ahead), "site": ("static", {"a": "shop", "b": "office"})},
    )  # fmt: skip
    fitted = pt.forecaster("ridge", plan=pt.windows.read_plan(FED_BACK)).fit(panel, horizon=8)
    together = fitted.means(panel, np.array([300]), 8)[0][:, 0]
    grown = panel
    for step in range(8):
        one = fitted.means(grown, np.array([300 + step]), 1)[0][:, 0, 0]
        np.testing.assert_allclose(together[:, step], one, rtol=1e-9)
        grown = _lengthened(grown, one)


def test_plans_that_cannot_be_fed_back_are_refused_in_words(hourly: pt.Panel) -> None:
    for text in ("lags 1-3; weather at 0; ahead 1 fed back", "lags 1-3; weather at 0, -1; ahead 1 fed back"):
        with pytest.raises(SettingsError, match="only known afterwards") as caught:
            pt.windows.read_plan(text).cut(hourly)
        assert caught.value.field == "covariates"
    with pytest.raises(SettingsError, match="step by step"):
        pt.windows.read_plan("lags 1-3; ahead 1-4 fed back")


def test_a_far_step_alone_is_forecast_alone(hourly: pt.Panel) -> None:
    fitted = pt.forecaster("ridge", lags=[1, 2, 24], horizon=[6], strength=0.0).fit(hourly.cut_at(900), horizon=8)
    means = fitted.means(hourly, np.array([900]), 8)[0][:, 0]
    assert np.isfinite(means[:, 5]).all() and np.isnan(np.delete(means, 5, axis=1)).all()
    table = pt.WindowPlan(lags=[1, 2, 24], horizon=[6]).cut(hourly.cut_at(900))
    mine = table.series == 0
    design = np.column_stack([np.ones(mine.sum()), table.features[mine]])
    by_hand = np.linalg.lstsq(design, table.targets[mine, 0])[0]
    x = hourly.series(0)
    assert means[0, 5] == pytest.approx(by_hand @ [1, x[899], x[898], x[876]], rel=1e-9)


def test_rows_count_as_much_as_they_weigh(rng: np.random.Generator) -> None:
    slopes = np.repeat([-0.8, 0.9], 400)  # what the past does changes half way
    x = np.zeros(800)
    for t in range(1, 800):
        x[t] = slopes[t] * x[t - 1] + rng.normal()
    panel = pt.Panel.from_arrays({"a": x}, "2024-01-01", "1h")
    table = pt.WindowPlan(lags=[1], half_life=50).cut(panel)
    fitted = pt.forecaster("ridge", lags=[1], half_life=50, strategy="recursive", strength=0.0).fit(panel)
    root = np.sqrt(table.weights)
    design = np.column_stack([np.ones(len(table)), table.features]) * root[:, None]
    by_hand = np.linalg.lstsq(design, table.targets[:, 0] * root)[0]
    assert [fitted.parameters["intercept"], fitted.parameters["lag 1"]] == pytest.approx(by_hand.tolist(), rel=1e-8)
    settings = {"lags": [1], "strategy": "recursive", "hidden": [8], "epochs": 20}
    slope = {}
    for half_life in (None, 20.0):
        network = pt.forecaster("dense_network", half_life=half_life, **settings).fit(panel, seed=3)
        probe = [panel.with_values(np.append(x[:-1], value)) for value in (-2.0, 2.0)]
        low, high = (network.means(each, np.array([800]), 1)[0][0, 0, 0] for each in probe)
        slope[half_life] = (high - low) / 4
    assert slope[20.0] > slope[None] + 0.3
