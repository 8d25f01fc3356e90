"""Chains: closed forms, the round trip, and what happens beyond the cutoff."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import proteron as pt
from proteron.core import flatten
from proteron.core.errors import InputError, SettingsError, TooShortError, UnitsError
from proteron.core.flatten import (
    STAGES,
    Chain,
    FittedChain,
    LinearTrend,
    Log,
    PeriodMeans,
    SeasonalDifference,
    Stage,
    ZScore,
)  # fmt: skip
from proteron.core.panel import Panel

EVERY_STAGE: list[Stage] = [
    flatten.Log(), flatten.Log(offset=5), flatten.Log1p(), flatten.BoxCox(), flatten.BoxCox(exponent=-1.5),
    flatten.BoxCox(exponent="guerrero", period=24), flatten.YeoJohnson(), flatten.YeoJohnson(exponent=3),
    flatten.Logit(), flatten.Logit(floor=-10, ceiling=400),
    flatten.Level(), flatten.Level(statistic="median"),
    *[LinearTrend(method=m) for m in ("least_squares", "theil_sen", "huber", "tukey", "least_trimmed")],
    *[flatten.CurveTrend(shape=s, robust=r) for s in ("quadratic", "exponential", "saturating") for r in (False, True)],
    flatten.PiecewiseTrend(), flatten.PiecewiseTrend(knots=3, robust=False), flatten.MovingAverage(),
    flatten.MovingAverage(window=7), flatten.SmoothTrend(), flatten.SmoothTrend(stiffness=100, robust=True),
    PeriodMeans(period="hour_of_week"), PeriodMeans(period=7), PeriodMeans(period=24, statistic="median"),
    flatten.FourierSeason(), flatten.FourierSeason(periods=(24.5, 168), order=3, robust=False),
    flatten.ClassicalSeason(), flatten.ClassicalSeason(period=7, form="multiplicative"),
    flatten.LoessSeasons(), flatten.LoessSeasons(periods=(24,), season_window=7, take="seasons only", robust=False),
    flatten.OccasionEffects(before=3, after=5), SeasonalDifference(period=1), SeasonalDifference(period=24),
    flatten.FractionalDifference(), flatten.Returns(), flatten.Returns(form="percent"),
    ZScore(), flatten.MinMax(), flatten.RobustScale(), flatten.PeriodSpread(period="week"), flatten.PeriodSpread(),
    flatten.LocalScale(), flatten.LocalScale(window=30, reach=7),
    flatten.WithoutAnomalies(), flatten.WithoutAnomalies(threshold=9),
]  # fmt: skip


def test_every_registered_stage_is_exercised() -> None:
    assert {type(stage) for stage in EVERY_STAGE} == set(STAGES)


def relative_error(back: np.ndarray, values: np.ndarray) -> float:
    assert (np.isnan(back) == np.isnan(values)).all()
    return float(np.nanmax(np.abs(back - values) / np.maximum(np.abs(values), 1e-300)))


@pytest.mark.parametrize("stage", EVERY_STAGE, ids=lambda stage: f"{stage.title} {stage.document()}")
@pytest.mark.parametrize("until", [400, 1100, None])
def test_round_trip_of_every_stage_with_gaps(hourly: Panel, stage: Stage, until: int | None) -> None:
    fitted = Chain([stage]).fit(hourly, until)
    assert relative_error(fitted.undo(fitted.apply(hourly)).values, hourly.values) < 1e-10


@settings(max_examples=40, deadline=None)
@given(
    order=st.permutations(
        [Log(offset=50), LinearTrend(), PeriodMeans(period=5), SeasonalDifference(period=3), ZScore()]
    ),
    values=st.lists(st.one_of(st.floats(1, 1e6), st.just(float("nan"))), min_size=30, max_size=80),
)
def test_round_trip_of_any_chain(order: list[Stage], values: list[float]) -> None:
    if np.isfinite(values[:20]).sum() < 12:
        return
    panel = Panel.from_arrays({"a": values}, "2024-01-01", "1 day")
    try:
        fitted = Chain([Log(offset=1), *[s for s in order if not isinstance(s, Log)]]).fit(panel, 20)
    except TooShortError:
        return
    back = fitted.undo(fitted.apply(panel)).values
    scale = np.nanmax(np.abs(panel.values))
    assert (np.isnan(back) == np.isnan(panel.values)).all()
    assert np.nanmax(np.abs(back - panel.values)) < 1e-8 * scale


def test_log_goes_on_as_a_tangent_below_anything_known() -> None:
    panel = Panel.from_arrays({"a": [1.0, 2.0, 3.0, 0.0, -7.0, 5.0]}, "2024-01-01", "1 day")
    fitted = Chain([Log()]).fit(panel, until=3)
    assert np.isfinite(fitted.apply(panel).values).all()
    assert (
        relative_error(fitted.undo(fitted.apply(panel)).values[[0, 1, 2, 4, 5]], panel.values[[0, 1, 2, 4, 5]]) < 1e-10
    )


def test_learned_numbers_have_their_closed_form() -> None:
    line = 3.0 + 0.5 * np.arange(40)
    panel = Panel.from_arrays({"a": line}, "2024-01-01", "1 day")
    state = Chain([LinearTrend()]).fit(panel, until=10).states[0][0]
    assert state.number("slope") == pytest.approx(0.5)
    flat = Chain([LinearTrend()]).fit(panel, until=10).apply(panel)
    assert np.abs(flat.values).max() < 1e-10  # projected straight on beyond the cutoff
    z = Chain([ZScore()]).fit(panel, until=10).states[0][0]
    assert z.number("centre") == pytest.approx(line[:10].mean())
    assert z.number("spread") == pytest.approx(line[:10].std())


def test_period_means_sum_to_zero_and_name_unseen_phases() -> None:
    wave = np.tile([1.0, 5.0, 9.0], 20)
    panel = Panel.from_arrays({"a": wave}, "2024-01-01", "1 day")
    state = Chain([PeriodMeans(period=3)]).fit(panel, until=30).states[0][0]
    assert state.array("effects").tolist() == pytest.approx([-4, 0, 4])
    short = Chain([PeriodMeans(period="month")]).fit(panel, until=30).states[0][0]
    assert "11 of 12 phases" in short.notes[0]


def test_a_seasonal_difference_is_undone_from_any_origin(hourly: Panel) -> None:
    chain = Chain([Log(), SeasonalDifference(period=24), ZScore()])
    fitted = chain.fit(hourly, 700)
    lanes = fitted.lanes(hourly, 0)
    origins = np.array([700, 950, 1400])
    flat = np.stack([lanes[-1][o : o + 60] for o in origins])
    truth = np.stack([hourly["north"][o : o + 60] for o in origins])
    back = fitted.undo_ahead("north", flat, origins, 0, lanes)
    assert np.nanmax(np.abs(back / truth - 1)) < 1e-9


def test_a_fitted_chain_survives_json(hourly: Panel) -> None:
    import json

    chain = Chain([Log(), PeriodMeans(period="hour_of_day"), SeasonalDifference(period=24)])
    fitted = chain.fit(hourly, 900)
    again = FittedChain.from_document(json.loads(json.dumps(fitted.document())), hourly.axis)
    assert (again.apply(hourly).values.tobytes()) == fitted.apply(hourly).values.tobytes()
    assert again.chain.hash == chain.hash


def test_errors_name_series_stage_and_remedy(hourly: Panel) -> None:
    negative = hourly.with_values(hourly.values - 60)
    with pytest.raises(UnitsError, match="north: log needs positive values"):
        Chain([Log()]).fit(negative, 500)
    with pytest.raises(TooShortError, match="east"):
        Chain([SeasonalDifference(period=24)]).fit(hourly, 60)
    with pytest.raises(SettingsError):
        Chain([{"kind": "wavelet"}])
    constant = Panel.from_arrays({"a": [4.0] * 9}, "2024-01-01", "1 day")
    assert "only centred" in Chain([ZScore()]).fit(constant).states[0][0].notes[0]


# A panel of other dates than those learned on


def later_piece(panel: Panel, start: int) -> Panel:
    """The same values from grid position `start` on, as a panel of its own whose axis begins there."""
    arrays = {key: panel[key][start - int(panel.starts[i]) :] for i, key in enumerate(panel.keys)}
    return Panel.from_arrays(arrays, str(panel.axis.times(np.array([start]))[0]) + "+00:00", panel.step, panel.zone)


@pytest.mark.parametrize("stage", EVERY_STAGE, ids=lambda stage: f"{stage.title} {stage.document()}")
def test_a_later_panel_is_placed_on_the_learned_axis_or_refused(hourly: Panel, stage: Stage) -> None:
    plain = Panel.from_arrays({key: hourly[key] for key in hourly}, {k: str(hourly.times(k)[0]) for k in hourly}, "1h")
    fitted = Chain([stage]).fit(plain, 1000)
    later = later_piece(plain, 1100)
    assert later.axis != plain.axis
    read_back = FittedChain.from_document(fitted.document(), later.axis)
    if stage.from_start:
        for each in (fitted, read_back):
            for move in (each.apply, each.undo):
                with pytest.raises(InputError, match=r"north: .* 2024-01-01 00:00:00; this begins at 2024-02-15 20:00"):
                    move(later)
        return
    for each in (fitted, read_back):
        flat = each.apply(later)
        for index, key in enumerate(plain.keys):
            whole = fitted.apply(plain)[key][1100 - int(plain.starts[index]) :]
            np.testing.assert_array_equal(flat.series(index), whole)
        assert relative_error(each.undo(flat).values, later.values) < 1e-10


def test_another_grid_is_refused_in_words(hourly: Panel) -> None:
    fitted = Chain([LinearTrend()]).fit(hourly, 1000)
    other_step = Panel.from_arrays({"north": np.ones(50)}, "2024-03-01", "30 min")
    with pytest.raises(InputError, match="The step is 30 minutes, but what was learned has 1 hour"):
        fitted.apply(other_step)
    off = Panel.from_arrays({"north": np.ones(50)}, "2024-03-01T00:20", "1h")
    with pytest.raises(InputError, match="does not fall on the one that was learned on"):
        fitted.undo(off)
    with pytest.raises(InputError, match="step"):
        FittedChain.from_document(fitted.document(), other_step.axis)
    with pytest.raises(InputError, match="not fitted on a series “west”"):
        fitted.apply(Panel.from_arrays({"west": np.ones(5)}, "2024-03-01", "1h", "Europe/Lisbon"))


def test_a_fitted_contender_forecasts_a_later_panel_as_it_does_the_whole(hourly: Panel) -> None:
    plain = Panel.from_arrays({key: hourly[key] for key in hourly}, {k: str(hourly.times(k)[0]) for k in hourly}, "1h")
    chain = Chain([LinearTrend(), PeriodMeans(period=24)])
    for name, settings_ in (("ridge", {"lags": range(1, 30)}), ("trend_curve", {}), ("last_value", {})):
        fitted = pt.forecaster(name, chain=chain, **settings_).fit(plain, 1000, horizon=12)
        later = later_piece(plain, 1100)
        one, two = fitted.means(plain, np.array([1200]), 12)[0], fitted.means(later, np.array([100]), 12)[0]
        np.testing.assert_allclose(one, two, rtol=1e-12)


def test_parts_are_told_at_any_future_date(hourly: Panel) -> None:
    fitted = Chain([LinearTrend(), PeriodMeans(period=24)]).fit(hourly, 1000)
    moments = [hourly.axis.local(np.array([at]))[0] for at in (999, 1800, 5000)]
    parts = fitted.parts("north", [str(each) for each in moments])
    state = fitted.states_of("north")[0]
    trend = parts["linear trend: trend"]
    slope = (trend[2] - trend[1]) / 3200
    assert trend[1] - trend[0] == pytest.approx(801 * slope)
    assert set(state.arrays)  # something was learned
    restored = fitted.undo(hourly.with_values(np.zeros(len(hourly.values))))["north"]
    assert restored[999] == pytest.approx(sum(each[0] for each in parts.values()))
    np.testing.assert_array_equal(fitted.parts("north", np.array([1800]))["linear trend: trend"], trend[1:2])
    with pytest.raises(InputError, match="no grid point at 2024-06-01 00:30"):
        fitted.parts("north", ["2024-06-01 00:30"])
