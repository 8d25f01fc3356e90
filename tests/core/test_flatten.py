"""Chains: closed forms, the round trip, and what happens beyond the cutoff."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from proteron.core import flatten
from proteron.core.errors import SettingsError, TooShortError, UnitsError
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
    flatten.ClassicalSeason(), flatten.ClassicalSeason(period=7, form="multiplied"),
    flatten.LoessSeasons(), flatten.LoessSeasons(periods=(24,), season_window=7, take="seasons only", robust=False),
    flatten.OccasionEffects(before=3, after=5), SeasonalDifference(period=1), SeasonalDifference(period=24),
    flatten.FractionalDifference(), flatten.Returns(), flatten.Returns(form="percent"),
    ZScore(), flatten.MinMax(), flatten.RobustScale(), flatten.PeriodSpread(each="week"), flatten.PeriodSpread(),
    flatten.LocalScale(), flatten.LocalScale(window=30, reach=7),
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
