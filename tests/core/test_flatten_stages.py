"""What single stages learn, against closed forms; order of quantiles, shared, switched off, short and odd input."""

import json

import numpy as np
import pytest
from scipy import special
from test_flatten import EVERY_STAGE

import proteron as pt
from proteron.core import flatten
from proteron.core.errors import ProteronError, SettingsError, TooShortError, UnitsError
from proteron.core.flatten import STAGES, Calendar, Chain, FittedChain, Stage
from proteron.core.flatten.fractional_difference import weights_of
from proteron.core.flatten.presets import presets
from proteron.core.panel import Occasion, Panel
from proteron.core.profile import yeo_johnson, yeo_johnson_lambda

name_of = lambda stage: f"{stage.title} {stage.document()}"  # noqa: E731


def months(values: np.ndarray) -> Panel:
    return Panel.from_arrays({"a": values}, "2010-01-01", "1 month")


@pytest.mark.parametrize("stage", EVERY_STAGE, ids=name_of)
def test_quantiles_keep_their_order_through_the_inverse(hourly: Panel, stage: Stage) -> None:
    """Flat quantiles, also far outside anything known, come back in order, from every origin, and finite."""
    fitted = Chain([stage]).fit(hourly, 900)
    lanes = fitted.lanes(hourly, 0)
    spread = np.nanstd(lanes[-1][:900])
    levels = np.nanmedian(lanes[-1][:900]) + spread * np.array([-30, -3, -1, 0, 1, 3, 30])
    flat = np.broadcast_to(levels[:, None, None], (7, 3, 60)).copy()
    back = fitted.undo_ahead("north", flat, np.array([900, 1100, 1400]), 0, lanes)
    assert np.isfinite(back).all()
    if isinstance(stage, flatten.Returns):  # a change of many spreads, sixty times over, leaves any range
        back = back[..., :5]
    assert (np.diff(back, axis=0) >= 0).all()


@pytest.mark.parametrize("stage", EVERY_STAGE, ids=name_of)
def test_forecasts_of_the_truth_come_back_as_the_truth(hourly: Panel, stage: Stage) -> None:
    """Undone from an origin, the flat future is the future: exactly, as far as a stage can know."""
    fitted = Chain([stage]).fit(hourly, 700)
    lanes = fitted.lanes(hourly, 0)
    origins = np.array([700, 1103, 1300])
    ahead = 1 if isinstance(stage, flatten.LocalScale) else 40
    flat = np.stack([lanes[-1][o : o + ahead] for o in origins])
    truth = np.stack([hourly["north"][o : o + ahead] for o in origins])
    back = fitted.undo_ahead("north", flat, origins, 0, lanes)
    assert np.nanmax(np.abs(back / truth - 1)) < 1e-9


@pytest.mark.parametrize("stage", EVERY_STAGE, ids=name_of)
@pytest.mark.parametrize("kind", ["constant", "short", "alternating", "large", "gappy"])
def test_odd_series_come_back_or_are_refused_in_words(stage: Stage, kind: str) -> None:
    rng = np.random.default_rng(7)
    wave = 50 + np.sin(np.arange(800.0)) + rng.normal(size=800)
    values = {
        "constant": np.full(800, 7.0),
        "short": wave[:9],
        "alternating": np.tile([1.0, 2.0], 400),
        "large": wave * 1e9,
        "gappy": np.where(rng.random(800) < 0.6, np.nan, wave),
    }[kind]
    panel = Panel.from_arrays({"a": values}, "2024-01-01", "1h")
    with np.errstate(all="raise", under="ignore"):
        try:
            fitted = Chain([stage]).fit(panel)
        except ProteronError as error:
            assert error.message.startswith("a: ")
            return
        flat = fitted.apply(panel)
        back = fitted.undo(flat).values
    heads = stage.period if isinstance(stage, flatten.SeasonalDifference) else 0
    assert np.isfinite(flat.values[heads:][np.isfinite(values[heads:])]).all()
    assert (np.isnan(back) == np.isnan(values)).all()
    assert np.nanmax(np.abs(back - values)) <= 1e-10 * np.nanmax(np.abs(values))


@pytest.mark.parametrize("stage", STAGES, ids=lambda stage: stage.title)
def test_a_fitted_stage_survives_json_bit_for_bit(hourly: Panel, stage: type[Stage]) -> None:
    with_occasions = Panel(**{**vars_of(hourly), "occasions": (Occasion("fair", 100, 124), Occasion("fair", 900, 924))})
    fitted = Chain([stage()]).fit(with_occasions, 900)
    text = json.dumps(fitted.document())
    again = FittedChain.from_document(json.loads(text), hourly.axis, with_occasions.occasions)
    assert again.apply(with_occasions).values.tobytes() == fitted.apply(with_occasions).values.tobytes()


def vars_of(panel: Panel) -> dict:
    return {name: getattr(panel, name) for name in panel.__dataclass_fields__}


def test_box_cox_is_the_textbook_transform_of_scaled_values(rng: np.random.Generator) -> None:
    values = np.exp(rng.normal(size=300))
    fitted = Chain([flatten.BoxCox(exponent=0.5)]).fit(months(values))
    unit = np.exp(np.log(values).mean())
    np.testing.assert_allclose(fitted.apply(months(values)).values, special.boxcox(values / unit, 0.5), rtol=1e-12)
    chosen = Chain([flatten.BoxCox()]).fit(months(values)).states[0][0]
    assert abs(chosen.number("exponent")) < 0.15  # lognormal: the logarithm
    curve = chosen.array("likelihood")
    assert chosen.array("exponents")[curve.argmax()] == pytest.approx(chosen.number("exponent"), abs=0.06)


def test_yeo_johnson_in_its_four_branches() -> None:
    # Yeo & Johnson 2000, eq. 2.1.
    x = np.array([-2.0, -0.5, 0.0, 0.5, 2.0])
    np.testing.assert_allclose(yeo_johnson(x, 0.0)[3:], np.log1p(x[3:]))
    np.testing.assert_allclose(yeo_johnson(x, 2.0)[:2], -np.log1p(-x[:2]))
    np.testing.assert_allclose(yeo_johnson(x, 1.0), x)
    np.testing.assert_allclose(yeo_johnson(x, 0.5)[3:], 2 * (np.sqrt(1 + x[3:]) - 1))
    skewed = np.random.default_rng(1).gamma(1.5, size=4000) - 0.2
    moved = yeo_johnson(skewed, yeo_johnson_lambda(skewed))
    assert abs(((moved - moved.mean()) ** 3).mean() / moved.std() ** 3) < 0.1


def test_a_logit_keeps_forecasts_between_floor_and_ceiling(rng: np.random.Generator) -> None:
    values = 40 + 30 * np.sin(np.arange(200.0) / 9) + rng.normal(size=200)
    fitted = Chain([flatten.Logit(floor=0, ceiling=100)]).fit(months(values))
    flat = np.linspace(-13, 13, 50)[None, None]
    back = fitted.undo_ahead("a", flat, np.array([200]), 0, fitted.lanes(months(values), 0))
    assert back.min() > 0
    assert back.max() < 100
    with pytest.raises(UnitsError, match=r"values between 50 and 100; \d+ known values are not \(lowest .* first at"):
        Chain([flatten.Logit(floor=50, ceiling=100)]).fit(months(values))
    with pytest.raises(SettingsError):
        Chain([flatten.Logit(floor=5, ceiling=5)]).fit(months(values))


@pytest.mark.parametrize("stage", [flatten.Log(), flatten.BoxCox(), flatten.Returns()])
def test_values_a_transform_cannot_take_are_named_with_what_fits(stage: Stage) -> None:
    values = np.array([3.0, 2, -4, 5, 0, 8, 9, 7])
    with pytest.raises(UnitsError, match=r"2 known values are not \(lowest -4, first at 2010-03-01") as caught:
        Chain([stage]).fit(months(values))
    assert "Yeo–Johnson takes any value; or give an offset above 4" in caught.value.message


@pytest.mark.parametrize(
    ("shape", "truth"),
    [
        ("quadratic", lambda t: 3 + 2 * t - 4 * t**2),
        ("exponential", lambda t: 5 + 2 * np.exp(1.7 * t)),
        ("saturating", lambda t: 10 + 40 / (1 + np.exp(-9 * (t - 0.4)))),
    ],
)
@pytest.mark.parametrize("robust", [False, True])
def test_curved_trends_find_their_curve(shape: str, truth, robust: bool, rng: np.random.Generator) -> None:  # type: ignore[no-untyped-def]
    at = np.arange(300)
    values = truth(at / 299) + 0.05 * rng.normal(size=300)
    if robust:
        values[rng.choice(300, 12, replace=False)] += 30
    fitted = Chain([flatten.CurveTrend(shape=shape, robust=robust)]).fit(months(values), 300)
    part = fitted.stages[0].parts(fitted.states[0][0], at, fitted.calendar)["trend"]
    assert np.abs(part - truth(at / 299)).max() < 0.1
    beyond = fitted.stages[0].parts(fitted.states[0][0], np.arange(300, 340), fitted.calendar)["trend"]
    np.testing.assert_allclose(beyond, truth(np.arange(300, 340) / 299), rtol=0.03, atol=0.05)


def test_a_moving_average_and_a_smooth_trend_run_on_straight() -> None:
    line = 5 + 0.25 * np.arange(100.0)
    for stage in (
        flatten.MovingAverage(window=9),
        flatten.SmoothTrend(stiffness=1600),
        flatten.PiecewiseTrend(knots=0),
    ):
        fitted = Chain([stage]).fit(months(line), 60)
        assert np.abs(fitted.apply(months(line)).values).max() < 1e-6


def test_period_medians_ignore_a_spike() -> None:
    wave = np.tile([1.0, 5.0, 9.0], 21)
    wave[4] = 1000
    state = Chain([flatten.PeriodMeans(period=3, statistic="median")]).fit(months(wave)).states[0][0]
    assert state.array("effects").tolist() == [-4, 0, 4]


def test_waves_of_a_period_that_is_no_whole_number_of_steps(rng: np.random.Generator) -> None:
    at = np.arange(1500)
    season = 3 * np.cos(2 * np.pi * at / 36.525) + np.sin(4 * np.pi * at / 36.525)
    panel = Panel.from_arrays({"a": 20 + 0.01 * at + season + 0.3 * rng.normal(size=1500)}, "2020-01-01", "1 day")
    fitted = Chain([flatten.FourierSeason(periods=(36.525,))]).fit(panel, 1000)
    assert fitted.stages[0].facts(fitted.states[0][0])["waves of 36.525"] <= 3
    (part,) = fitted.stages[0].parts(fitted.states[0][0], at, fitted.calendar).values()
    assert np.abs(part - season).max() < 0.12  # also 500 steps beyond the cutoff


def test_a_multiplied_season_is_divided_out() -> None:
    figure = np.array([0.5, 1.0, 1.5, 1.0])
    values = (10 + np.arange(80.0)) * np.tile(figure, 20)
    state = Chain([flatten.ClassicalSeason(period=4, form="multiplicative")]).fit(months(values)).states[0][0]
    np.testing.assert_allclose(state.array("figure"), figure, atol=0.01)
    with pytest.raises(TooShortError, match="2 are needed"):
        Chain([flatten.ClassicalSeason(period=12)]).fit(months(values[:20]))


def test_occasions_are_learned_by_name_with_a_window_and_taken_ahead(rng: np.random.Generator) -> None:
    values = 100 + 0.1 * rng.normal(size=400)
    spans = [Occasion("fair", at, at + 2) for at in (40, 120, 200, 280, 360)] + [Occasion("never", 390, 391)]
    for each in spans[:5]:
        values[each.start : each.stop] += 30
        values[each.stop] -= 10
    panel = Panel.from_arrays({"a": values}, "2023-01-01", "1 day")
    panel = Panel(**{**vars_of(panel), "occasions": tuple(spans)})
    fitted = Chain([flatten.OccasionEffects(after=1, doubt=0)]).fit(panel, 300)
    state = fitted.states[0][0]
    assert state.array("effect fair") == pytest.approx([30, -10], abs=0.3)
    assert "never has not happened yet" in state.notes[0]
    assert np.abs(fitted.apply(panel).values[360:363] - 100).max() < 1  # known ahead: the next one is taken out too


def test_fractional_weights_have_their_closed_form() -> None:
    k = np.arange(1, 40)
    expected = special.gamma(k - 0.3) / (special.gamma(-0.3) * special.gamma(k + 1))  # Hosking 1981, eq. 2
    np.testing.assert_allclose(weights_of(0.3, 39), expected, rtol=1e-12)
    walk = np.random.default_rng(3).normal(size=3000).cumsum()
    flat = Chain([flatten.FractionalDifference(order=0.9)]).fit(months(walk)).apply(months(walk)).values
    assert pt.profile.unit_root(flat).rejected


def test_returns_are_changes_against_the_last_known_value() -> None:
    values = np.array([100.0, 110, np.nan, 99, 99])
    percent = Chain([flatten.Returns(form="percent")]).fit(months(values)).apply(months(values)).values
    np.testing.assert_allclose(percent, [0, 0.1, np.nan, -0.1, 0])
    logs = Chain([flatten.Returns()]).fit(months(values)).apply(months(values)).values
    np.testing.assert_allclose(logs[[1, 3]], np.log([1.1, 0.9]))


def test_each_year_is_divided_by_its_own_spread(rng: np.random.Generator) -> None:
    spreads = np.repeat([1.0, 5.0, 2.0], 12)
    values = 50 + spreads * np.tile([-1.0, 1.0], 18)
    fitted = Chain([flatten.PeriodSpread()]).fit(months(values), 24)
    assert fitted.states[0][0].array("spreads").tolist() == pytest.approx([1, 5])
    np.testing.assert_allclose(fitted.apply(months(values)).values[24:], values[24:] / 5)  # the last spread goes on
    figure = fitted.stages[0].figures(fitted.states[0][0], fitted.calendar)[0]
    assert figure.labels == ("2010", "2011")


def test_the_stretch_of_a_spread_is_its_period_also_in_files_that_call_it_each() -> None:
    old = flatten.PeriodSpread.model_validate({"kind": "period_spread", "each": "week", "least": 9})
    assert (old.period, old.least) == ("week", 9)
    assert "each" not in old.document()
    with pytest.raises(ValueError, match="each"):
        flatten.PeriodSpread.model_validate({"each": "week", "period": "month"})


def test_instance_normalisation_forgets_a_shift(rng: np.random.Generator) -> None:
    values = rng.normal(size=600)
    values[300:] = 1000 + 50 * rng.normal(size=300)
    flat = Chain([flatten.LocalScale(window=48, reach=12)]).fit(months(values), 200).apply(months(values)).values
    assert np.abs(flat[360:]).max() < 6
    assert abs(flat[360:].std() - 1) < 0.3


def test_stages_can_be_switched_off_and_shared(hourly: Panel) -> None:
    on, off = flatten.ZScore(), flatten.Log(off=True)
    chain = Chain([off, on])
    assert chain.active == (on,)
    assert chain.text == "z-score"
    assert chain.fit(hourly, 900).apply(hourly).hash == Chain([on]).fit(hourly, 900).apply(hourly).hash
    fitted = Chain([flatten.PeriodMeans(period=24, shared=True)]).fit(hourly, 900)
    assert fitted.states[0] == fitted.states[1]
    own = Chain([flatten.PeriodMeans(period=24)]).fit(hourly, 900)
    expected = np.median([state[0].array("effects") for state in own.states], axis=0)
    np.testing.assert_allclose(fitted.states[0][0].array("effects"), expected)
    with pytest.raises(SettingsError, match="cannot be shared"):
        Chain([flatten.LoessSeasons(shared=True)]).fit(hourly, 900)


def test_a_chain_keeps_its_hash_whatever_it_is_called(hourly: Panel) -> None:
    plain, named = Chain([flatten.Log()]), Chain([flatten.Log()], name="mine")
    assert plain.hash == named.hash
    assert Chain.from_document(named.document()).name == "mine"
    assert Chain([flatten.Log(off=True)]).hash != plain.hash


def test_bias_adjustment_forecasts_the_mean_instead_of_the_median() -> None:
    rng = np.random.default_rng(2)
    values = np.exp(2 + 0.8 * rng.normal(size=1500))
    panel = months(values)
    forecasts = {
        adjust: pt.forecaster("mean", chain=Chain([flatten.Log()], bias_adjust=adjust))
        .fit(panel)
        .forecast(3)
        .mean[0, 0]
        for adjust in (False, True)
    }
    assert forecasts[False] == pytest.approx(np.exp(2), rel=0.05)
    assert forecasts[True] == pytest.approx(np.exp(2 + 0.8**2 / 2), rel=0.15)


def test_presets_fit_what_they_are_offered_for(hourly: Panel) -> None:
    offered = presets(Calendar(hourly.axis, (Occasion("fair", 3, 5),)), 900)
    assert any(preset.name == "trend + two seasons, robust" for preset in offered)
    assert all("year" not in preset.why.split() for preset in offered[:1])  # 900 hours cannot teach a year
    for preset in offered:
        assert len(preset.why) > 30
        fitted = Chain(preset.stages).fit(hourly, 900)
        back = fitted.undo(fitted.apply(hourly)).values
        assert np.nanmax(np.abs(back / hourly.values - 1)) < 1e-9


@pytest.mark.parametrize("stage", EVERY_STAGE, ids=name_of)
def test_every_robust_stage_has_a_plain_twin_and_back(stage: Stage) -> None:
    twin = stage.twin()
    if twin is None:
        assert not {"robust", "method", "statistic"} & set(type(stage).model_fields)
        return
    assert twin != stage
    assert twin.twin().twin() == twin  # type: ignore[union-attr]


@pytest.mark.parametrize("trend", [flatten.PiecewiseTrend(), flatten.SmoothTrend(stiffness=10.0)])
def test_a_season_that_a_trend_has_taken_is_said_before_it_is_missed(trend: flatten.Stage) -> None:
    """Bends that follow the year leave no year to the stage behind; the other way round nothing is said."""
    rng = np.random.default_rng(3)
    days = np.arange(365 * 4)
    values = 100 + 0.01 * days + 18 * np.sin(2 * np.pi * days / 365.25) + rng.normal(size=len(days))
    panel = Panel.from_arrays({"a": values}, "2020-01-01", "1 day")
    year = flatten.FourierSeason(periods=(365.25,), order=2)
    (said,) = Chain([trend, year]).fit(panel).states[0][1].notes
    assert said.startswith(f"the {trend.title} before it has taken ") and said.endswith(": put the season first")
    assert Chain([year, trend]).fit(panel).states[0][0].notes == ()
    assert Chain([flatten.LinearTrend(), year]).fit(panel).states[0][1].notes == ()
    noise = Panel.from_arrays({"a": rng.normal(size=len(days))}, "2020-01-01", "1 day")
    assert Chain([trend, year]).fit(noise).states[0][1].notes == ()
