"""Reasons for which forecasters decline, and settings they turn down: provoked one by one, each said in a sentence."""

from typing import Any

import numpy as np
import pytest

import proteron as pt
from proteron.core.forecasters.arima import Orders, fit_arima
from proteron.core.forecasters.smoothing import Form, admissible_forms, choose_form, fit_form

RNG = np.random.default_rng(77)
NOISE = 10 + RNG.normal(size=60)
WALK = 50 + RNG.normal(size=60).cumsum()
LONG_GAPS = np.where(np.arange(2500) % 5 < 4, np.nan, 10 + np.random.default_rng(1).normal(size=2500))

SETTINGS: list[tuple[str, dict[str, Any], str]] = [
    ("smoothing", {"starts": "stated"}, "need a start level"),
    ("smoothing", {"start_level": 3.0}, "only where they are stated"),
    ("smoothing", {"level_weight": 1.5}, "less than 1"),
    ("smoothing", {"trend": "straight"}, "none"),
    ("arima", {"seasonal": (1, 0, 0), "period": 1}, "period of at least 2"),
    ("arima", {"stationary": False, "enforced": False}, "must be invertible"),
    ("additive", {"floor": 5.0, "ceiling": 1.0}, "above the floor"),
    ("additive", {"season": "multiplicative", "ceiling": 100.0}, "not both"),
    ("trend_curve", {"capacity": 5.0}, "saturating"),
    ("trend_curve", {"knots": (3.0,)}, "pieces"),
    ("several_seasons", {"periods": [1.5]}, "greater than 2"),
    ("moving_average", {"length": 0}, "greater than or equal to 1"),
    ("theta", {"theta": 0.5}, "greater than or equal to 1"),
    ("garch", {"colour": "red"}, "colour"),
    ("vector_autoregression", {"factors": 0}, "greater than or equal to 1"),
    ("switching_regimes", {"switches": "colour"}, "level"),
    ("nothing_of_the_kind", {}, "no forecaster"),
]


@pytest.mark.parametrize(("kind", "settings", "said"), SETTINGS, ids=lambda each: str(each)[:40])
def test_settings_that_contradict_each_other_are_turned_down(kind: str, settings: dict[str, Any], said: str) -> None:
    with pytest.raises(pt.SettingsError, match=said):
        pt.forecaster(kind, **settings)


DECLINED: list[tuple[str, dict[str, Any], np.ndarray, str]] = [
    ("last_value", {}, np.full(5, np.nan), "Nothing is known as of this cutoff"),
    ("smoothing", {"season": "additive"}, NOISE[:13], "too few for smoothing of this form with period 12"),
    ("smoothing", {"season": "multiplicative"}, NOISE - 20, "Multiplied parts need values above zero"),
    ("smoothing", {"error": "multiplicative"}, np.zeros(30), "the smallest is 0"),
    ("smoothing", {"season": "additive", "starts": "stated", "start_level": 1.0, "start_season": (1.0, -1.0)}, NOISE,
     "12 phases needs as many start values, not 2"),
    ("several_seasons", {"periods": [12.0, 40.0]}, NOISE, "period of 40 needs two cycles"),
    ("several_seasons", {"periods": [3.0], "waves": 1, "trend": "damped", "errors": (2, 2)}, NOISE[:9],
     "known points; there are 9"),
    ("arima", {"order": (2, 0, 0), "seasonal": (1, 1, 1)}, NOISE[:20], "need more points than 20"),
    ("arima", {"order": (3, 1, 3)}, NOISE[:8], "needs more than 8 known points"),
    ("arima", {"covariates": ("plan",)}, NOISE, "“plan” is not known ahead"),
    ("arima", {"covariates": ("other",)}, NOISE, "There is no covariate “other”"),
    ("local_trend", {}, NOISE[:4], "known points; there are 4"),
    ("structural", {"period": 12}, NOISE[:5], "known points; there are 5"),
    ("intermittent", {}, np.zeros(20), "no demand above zero"),
    ("intermittent", {}, NOISE - 10, "never below zero"),
    ("additive", {"season": "multiplicative"}, NOISE - 20, "above the floor"),
    ("additive", {"covariates": ("plan",)}, NOISE, "is not a number that is known ahead"),
    ("switching_regimes", {}, NOISE[:9], "there are 9"),
    ("switching_regimes", {}, np.full(60, 4.0), "series that varies"),
    ("trend_curve", {"shape": "saturating"}, NOISE[:3], "there are 3"),
    ("garch", {}, NOISE[:12], "there are 12"),
    ("garch", {}, np.full(200, 4.0), "varies"),
    ("random_walk_process", {}, WALK - 100, "above zero"),
    ("random_walk_process", {}, np.exp(np.cumsum(np.where(np.arange(60) % 2, 30.0, -30.0))), "so wild"),
    ("smoothing", {}, 1e200 * NOISE, "cannot be squared"),
]  # fmt: skip


@pytest.mark.parametrize(
    ("kind", "settings", "values", "said"), DECLINED, ids=[f"{each[0]}: {each[3][:30]}" for each in DECLINED]
)
def test_a_series_that_cannot_be_learned_is_declined_with_its_reason(
    kind: str, settings: dict[str, Any], values: np.ndarray, said: str
) -> None:
    """By the fit where nothing at all can be learned, else in the state, with no forecast."""
    alone = pt.Panel.from_arrays(
        {"a": values}, "2010-01-01", "1 month", covariates={"plan": np.cos(np.arange(len(values)))}
    )
    try:
        fitted = pt.forecaster(kind, **settings).fit(alone, horizon=3)
    except pt.ProteronError as error:
        reason = error.message
    else:
        reason = fitted.state.facts["declined"]["a"]
        assert np.isnan(fitted.forecast(3).mean).all() and fitted.summary == f"No forecast: {reason}"
    assert said in reason
    assert (reason[0].isupper() or reason[0] in "“0123456789") and reason.endswith(".")


def test_one_declined_series_leaves_the_others_alone() -> None:
    good = 10 + np.random.default_rng(5).normal(size=60)
    panel = pt.Panel.from_arrays({"bad": np.zeros(60), "good": good}, "2010-01-01", "1 month")
    fitted = pt.forecaster("smoothing", error="multiplicative", trend=None, season=None).fit(panel)
    only = pt.forecaster("smoothing", error="multiplicative", trend=None, season=None).fit(panel.select([1]))
    assert list(fitted.state.facts["declined"]) == ["bad"]
    np.testing.assert_array_equal(fitted.forecast(4).mean[1], only.forecast(4).mean[0])
    assert np.isnan(fitted.forecast(4).mean[0]).all()


def test_fits_without_a_forecaster_refuse_too() -> None:
    with pytest.raises(pt.TooShortError, match="needs more than 10 known points"):
        fit_form(NOISE[:10], Form("additive", "additive", "additive"), 12)
    with pytest.raises(pt.TooShortError, match="No form of smoothing"):
        choose_form(NOISE[:2], [Form()], 1)
    assert admissible_forms(NOISE[:3], 12, "additive", "additive", "additive") == []
    with pytest.raises(pt.TooShortError, match=r"order \(2, 0, 0\)"):
        fit_arima(NOISE[:3], Orders(2, 0, 0))
    holes = NOISE.copy()
    holes[3] = np.nan
    missing = np.ones((60, 1))
    missing[9] = np.nan
    with pytest.raises(pt.SettingsError, match="missing where the series is known"):
        fit_arima(holes, Orders(1, 0, 0), covariates=missing, names=("x",))
    with pytest.raises(pt.TooShortError, match="fill them first"):
        fit_arima(LONG_GAPS, Orders(1, 1, 0))


def test_a_vector_autoregression_says_what_it_lacks() -> None:
    def learn(values: dict[str, np.ndarray], **settings: Any) -> None:
        pt.forecaster("vector_autoregression", **settings).fit(
            pt.Panel.from_arrays(values, "2010-01-01", "1 day")
        )  # fmt: skip

    wide = {f"s{i}": NOISE for i in range(61)}
    for values, settings, said in (
        (wide, {}, "61 series are too many"),
        ({"a": NOISE, "b": np.full(60, np.nan)}, {}, "not known at all"),
        ({"a": NOISE, "b": WALK}, {"order": 40}, "needs more than 60 points"),
        ({"a": NOISE, "b": np.where(np.arange(60) % 2, WALK, np.nan)}, {"order": 2}, "too few points in a row"),
    ):
        with pytest.raises(pt.TooShortError, match=said):
            learn(values, **settings)
