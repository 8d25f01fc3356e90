"""What the profile says and suggests, from both sides of every decision: verdicts, stages, transforms."""

from typing import Any

import numpy as np
import pytest

from proteron.core import profile
from proteron.core.profile.assessment import Assessment, joint_verdict, run_tests, suggest, transform_advice
from proteron.core.profile.hypothesis_tests import TestResult
from proteron.core.profile.shape import SpreadByLevel, spread_by_level
from proteron.core.profile.strengths import Strengths

YES, NO, NEITHER = 0.01, 0.5, float("nan")


def result(name: str, p_value: float) -> TestResult:
    return TestResult(name, 1.0, p_value, 1, "null", f"verdict of {name}")


@pytest.mark.parametrize(
    ("root", "level", "season", "words"),
    [
        (YES, NO, None, "Both agree: flat enough to learn from."),
        (NO, YES, None, "Both agree: not flat yet; difference it once or take out a trend."),
        (YES, YES, None, "They disagree: it returns to a level that moves; take out a trend or a season."),
        (NO, NO, None, "They disagree: too little to tell."),
        (NO, YES, 12, "Both agree: not flat yet, and the season wanders: difference it once at lag 12."),
        (YES, NO, 7, "The season wanders: difference it once at lag 7."),
        (YES, YES, 7, "The season wanders: difference it once at lag 7."),
        (NO, NO, 7, "The season wanders: difference it once at lag 7."),
        (NEITHER, YES, None, "Nothing varies: nothing to say."), (YES, NEITHER, 12, "Nothing varies: nothing to say."),
    ],
)  # fmt: skip
def test_two_tests_say_together(root: float, level: float, season: int | None, words: str) -> None:
    assert joint_verdict(result("unit root", root), result("stationarity", level), season) == words


def test_a_test_rejects_below_five_per_cent() -> None:
    assert result("x", 0.0499).rejected
    assert not result("x", 0.05).rejected
    assert not result("x", NEITHER).rejected


FLAT = SpreadByLevel(np.zeros(0), np.zeros(0), None, "no")
POSITIVE = np.linspace(1, 50, 60)


def stages(
    values: np.ndarray = POSITIVE, trend: float = 0.0, seasons: dict[int, float] | None = None, season: int = 12,
    level_spread: SpreadByLevel = FLAT, **p_values: float,
) -> list[dict[str, Any]]:  # fmt: skip
    """Stages suggested where everything else is as quiet as it can be."""
    quiet = {"unit root": YES, "stationarity": NO, "break": NO, "even spread": NO, "stable season": NO}
    given = quiet | {name.replace("_", " "): p for name, p in p_values.items()}
    tests = tuple(result(name, p) for name, p in given.items())
    found = Strengths(trend, seasons or {})
    return [each.stage for each in suggest(values, Assessment(tests, {}, ""), found, level_spread, season)]


def test_a_quiet_series_is_left_alone() -> None:
    assert stages() == []


def test_strong_seasons_are_taken_out_together_and_weak_ones_are_not() -> None:
    assert stages(seasons={12: 0.29}) == []
    assert stages(seasons={12: 0.3}) == [{"kind": "loess_seasons", "periods": [12], "robust": True}]
    two = stages(seasons={24: 0.9, 168: 0.5, 8766: 0.1})
    assert two == [{"kind": "loess_seasons", "periods": [24, 168], "robust": True}]


def test_a_season_that_wanders_is_differenced_only_where_it_is_strong() -> None:
    difference = {"kind": "seasonal_difference", "period": 12}
    assert difference in stages(seasons={12: 0.64}, stable_season=YES)
    assert difference not in stages(seasons={12: 0.63}, stable_season=YES)
    assert difference not in stages(seasons={12: 0.9}, stable_season=NO)
    assert difference not in stages(seasons={24: 0.9}, stable_season=YES), "another season's strength is not its own"


def test_a_trend_is_taken_out_where_no_season_carries_it() -> None:
    line, pieces = "linear_trend", "piecewise_trend"
    assert [stage["kind"] for stage in stages(trend=0.64)] == [line]
    assert stages(trend=0.63) == []
    assert [stage["kind"] for stage in stages(trend=0.8, **{"break": YES})] == [pieces]
    assert stages(trend=0.6, **{"break": YES}) == [], "a break of a trend that is not strong"
    with_season = [stage["kind"] for stage in stages(trend=0.9, seasons={12: 0.9})]
    assert with_season == ["loess_seasons"], "the decomposition takes the trend out too"


def test_a_walk_is_differenced_once() -> None:
    once = {"kind": "seasonal_difference", "period": 1}
    assert stages(unit_root=NO) == [once]
    assert stages(unit_root=NEITHER) == [], "where nothing varies there is nothing to difference"
    assert [stage["kind"] for stage in stages(unit_root=NO, trend=0.9)] == ["linear_trend", "seasonal_difference"]
    assert once not in stages(unit_root=NO, seasons={12: 0.9})


@pytest.mark.parametrize(
    ("values", "slope", "stage"),
    [
        (POSITIVE, 0.76, {"kind": "log"}), (POSITIVE, 0.75, {"kind": "box_cox", "exponent": "likelihood"}),
        (POSITIVE - 1, 1.0, {"kind": "log1p"}), (POSITIVE - 2, 1.0, {"kind": "yeo_johnson"}),
    ],
)  # fmt: skip
def test_a_spread_that_grows_is_evened_out_by_what_the_values_allow(
    values: np.ndarray, slope: float, stage: dict[str, Any]
) -> None:
    grows = SpreadByLevel(np.zeros(0), np.zeros(0), slope, "It grows.", True)
    assert stages(values, level_spread=grows)[0] == stage
    with_uneven = stages(values, level_spread=grows, even_spread=YES)
    assert {"kind": "period_spread", "period": "year"} not in with_uneven, "one cure is enough"
    assert stages(values, even_spread=YES) == [{"kind": "period_spread", "period": "year"}]


def test_spread_by_level_needs_a_level_that_moves_and_a_slope_beyond_doubt() -> None:
    rng = np.random.default_rng(1)
    level = np.repeat(np.exp(np.linspace(0, 3, 40)), 12)
    for power, grows, words in ((1.0, True, "a logarithm evens it out"), (0.5, True, "a power of 0.5"),
                                (0.0, False, "does not grow")):  # fmt: skip
        found = spread_by_level(level + 0.2 * level**power * rng.normal(size=len(level)), 12)
        assert found.grows is grows
        assert words in found.verdict
        if grows:
            assert found.slope == pytest.approx(power, abs=0.12)
    still = spread_by_level(50 + rng.normal(size=480), 12)
    assert (still.slope, still.grows) == (None, False)
    assert spread_by_level(level[:48], 12).slope is None, "four blocks are too few"
    gappy = level + 0.1 * level * rng.normal(size=len(level))
    gappy[::3] = np.nan
    assert len(spread_by_level(gappy, 12).level) == 40
    gappy[:120] = np.nan
    assert len(spread_by_level(gappy, 12).level) == 30, "blocks with nothing in them are left out"


def test_the_advice_of_a_panel_s_row_is_that_of_its_profile() -> None:
    rng = np.random.default_rng(2)
    level = np.repeat(np.exp(np.linspace(0, 3, 40)), 12)
    growing = level * np.exp(0.2 * rng.normal(size=len(level)))
    kind, exponent = transform_advice(growing, 12)
    assert kind == "log"
    assert exponent == pytest.approx(profile.box_cox_lambda(growing))
    assert transform_advice(growing - growing.min(), 12) == ("log1p", None)
    assert transform_advice(growing - 2, 12)[1] is None
    assert transform_advice(50 + rng.normal(size=480), 12)[0] == "none"
    assert transform_advice(growing[:7], 12) == ("none", None), "too few for an exponent"


def test_tests_run_where_they_can_and_say_why_where_not() -> None:
    rng = np.random.default_rng(3)
    noise = rng.normal(size=300)
    full = run_tests(noise, 12)
    assert {test.name for test in full.tests} == {
        "unit root", "unit root, corrected", "stationarity", "stationarity around a line", "stable season",
        "whiteness", "runs", "normality", "volatility", "even spread", "break",
    }  # fmt: skip
    assert full.refused == {}
    for season, there in ((1, False), (2, True), (24, True), (25, False)):
        names = {test.name for test in run_tests(noise, season).tests}
        assert ("stable season" in names) is there, season
    for nothing in (np.zeros(0), np.full(5, np.nan)):
        assert run_tests(nothing, 24).tests == ()
        assert len(run_tests(nothing, 24).refused) == 11
    few = run_tests(noise[:4], 12)
    assert few.verdict == "Too few known points to test."
    assert set(few.refused) | {test.name for test in few.tests} == {test.name for test in full.tests}
    assert all(few.refused.values())
    lags = {test.name: test.lags for test in run_tests(noise, 12).tests}
    assert (lags["whiteness"], lags["volatility"]) == (24, 12)
    lags = {test.name: test.lags for test in run_tests(noise[:60], 24).tests}
    assert (lags["whiteness"], lags["volatility"]) == (12, 6), "no more lags than points can bear"
    gaps = noise.copy()
    gaps[::2] = np.nan
    lags = {test.name: test.lags for test in run_tests(gaps, 1).tests}
    assert (lags["whiteness"], lags["volatility"]) == (10, 1)
