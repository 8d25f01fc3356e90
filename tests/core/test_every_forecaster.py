"""What holds for every registered forecaster: states move on, numbers repeat, ranges cover, nothing trips it up."""

from collections.abc import Callable

import numpy as np
import pytest
from simulated import (
    arma,
    growth,
    regimes,
    shocks_that_last,
    smoothed,
    unobserved_parts,
)

import proteron as pt
from proteron.core.forecasters import FittedContender
from proteron.core.forecasters.registry import reasons_against
from quick import KINDS, LEARNERS, QUICK, SINGLE

SETTINGS = QUICK | {"structural": {"period": 4}, "arima": {"largest": 2}}


def make(kind: str) -> pt.Contender:
    return pt.forecaster(kind, **SETTINGS.get(kind, {}))


@pytest.mark.parametrize("kind", KINDS)
def test_new_points_move_a_state_on_as_if_they_had_always_been_known(kind: str) -> None:
    rng = np.random.default_rng(3)
    values = {key: 40 + 5 * np.sin(np.arange(160) * np.pi / 6) + rng.normal(size=160).cumsum() / 3 for key in "ab"}
    panel = pt.Panel.from_arrays(values, "2010-01-01", "1 month")
    fitted, again = (make(kind).fit(panel, until=120, horizon=4) for _ in range(2))
    learner = fitted.contender.forecaster
    assert not fitted.state.facts.get("declined")
    together = fitted.means(panel, np.arange(120, 157, 4), 4)[0]
    assert together.tobytes() == again.means(panel, np.arange(120, 157, 4), 4)[0].tobytes()
    for place, origin in enumerate(range(120, 157, 4)):
        later = FittedContender(
            fitted.contender, panel.cut_at(origin), origin, fitted.chain, fitted.state, fitted.guards
        )
        answer = later.forecast(4, levels=(0.8,))
        np.testing.assert_allclose(answer.mean, together[:, place], rtol=1e-6 if kind in SINGLE else 1e-10)
        assert (answer.lower[0.8] <= answer.upper[0.8]).all()
    paths = [learner.simulate(each.state, panel, 120, 4, 30, 5) for each in (fitted, again)]
    assert "ranges" not in learner.can or paths[0].tobytes() == paths[1].tobytes()


def test_a_refit_with_everything_given_is_the_state_moved_on() -> None:
    rng = np.random.default_rng(1)
    season = 6 * np.sin(np.arange(140) * np.pi / 6)
    panel = pt.Panel.from_arrays({"a": 50 + season + rng.normal(size=140).cumsum()}, "2010-01-01", "1 month")
    form = {"error": "additive", "trend": "additive", "season": "additive", "damped": True,
            "level_weight": 0.4, "trend_weight": 0.1,
            "season_weight": 0.2, "damping": 0.9, "starts": "stated", "start_level": 50.0, "start_trend": 0.3,
            "start_season": season[:12].tolist()}  # fmt: skip
    early, late = (pt.forecaster("smoothing", **form).fit(panel, until=until) for until in (100, 130))
    np.testing.assert_allclose(early.means(panel, np.array([130]), 6)[0][:, 0], late.forecast(6).mean, rtol=1e-10)
    with pytest.raises(pt.SettingsError, match="start level"):
        pt.forecaster("smoothing", starts="stated")
    declined = pt.forecaster("smoothing", **{**form, "start_season": [1.0, 2.0]}).fit(panel)
    assert "needs as many start values, not 2" in declined.summary


@pytest.mark.parametrize(
    "kind", ["last_value", "smoothing", "theta", "arima", "local_level", "drift", "several_seasons"]
)
def test_ranges_are_wider_when_the_last_points_are_missing(kind: str) -> None:
    values = np.random.default_rng(6).normal(size=150).cumsum()
    open_end = values.copy()
    open_end[-10:] = np.nan
    wide = []
    for each in (values, open_end):
        panel = pt.Panel.from_arrays({"a": each[:150]}, "2010-01-01", "1 day")
        fitted = make(kind).fit(panel)
        forecast = fitted.forecast(3, levels=(0.8,))
        wide.append(forecast.upper[0.8][0, 0] - forecast.lower[0.8][0, 0])
        paths = fitted.contender.forecaster.simulate(fitted.state, panel, 150, 3, 6000, 2)[:, 0, 0]
        assert np.ptp(np.quantile(paths, [0.1, 0.9])) == pytest.approx(wide[-1], rel=0.07)
    assert 2 < wide[1] / wide[0] < 4.5  # a walk's range grows with the root of the steps, 11 instead of 1


Made = Callable[[np.random.Generator, int], np.ndarray]
SEASONAL = 8 * np.sin(np.arange(12) * np.pi / 6)
CALIBRATED: dict[str, tuple[str, dict, Made]] = {
    "simple smoothing": ("smoothing", {"error": "additive", "trend": None, "season": None},
                         lambda r, n: smoothed(r, n)),
    "smoothing with trend and season": (
        "smoothing", {"error": "additive", "trend": "additive", "season": "additive", "damped": False},
        lambda r, n: smoothed(r, n, slope=0.3, season=SEASONAL),
    ),
    "multiplied": (
        "smoothing", {"error": "multiplicative", "trend": None, "season": "multiplicative"},
        lambda r, n: smoothed(r, n, season=1 + SEASONAL / 40, multiplied=True),
    ),
    "theta": ("theta", {}, lambda r, n: smoothed(r, n)),
    "average": ("smoothing_average", {}, lambda r, n: smoothed(r, n)),
    "several seasons": ("several_seasons", {"periods": [12.0], "waves": 1, "trend": "none", "errors": (0, 0)},
                        lambda r, n: smoothed(r, n) + np.resize(SEASONAL, n)),
    "ARMA": ("arima", {"order": (1, 0, 1), "seasonal": (0, 0, 0)}, lambda r, n: 5 + arma(r, n, [0.7], [0.3])),
    "seasonal ARIMA": ("arima", {"order": (0, 1, 1), "seasonal": (0, 1, 1)},
                       lambda r, n: arma(r, n, [], [-0.4, *([0.0] * 10), -0.5, 0.2], undone=(1, 12))),
    "local level": ("local_level", {}, lambda r, n: unobserved_parts(r, n, 0.5, 0.0)),
    "local trend": ("local_trend", {}, lambda r, n: unobserved_parts(r, n, 0.3, 0.05)),
    "volatility with t errors": ("garch", {"errors": "t"}, lambda r, n: shocks_that_last(r, n, freedom=6.0)),
    "two regimes": ("switching_regimes", {}, regimes),
    "growth": ("random_walk_process", {}, growth),
    "curve": ("trend_curve", {"shape": "linear"}, lambda r, n: 3 + 0.5 * np.arange(n) + r.normal(size=n)),
    "additive": ("additive", {"knots": 5}, lambda r, n: 0.3 * np.arange(n) + np.resize(SEASONAL, n) + r.normal(size=n)),
    "seasonal mean": ("seasonal_mean", {}, lambda r, n: np.resize(SEASONAL, n) + r.normal(size=n)),
}  # fmt: skip


@pytest.mark.parametrize("case", CALIBRATED)
def test_ranges_cover_as_often_as_they_say(case: str) -> None:
    """Two hundred series of each model's own making, four steps ahead; within what chance allows."""
    kind, settings, made = CALIBRATED[case]
    inside = {0.8: 0, 0.95: 0}
    for seed in range(200):
        values = made(np.random.default_rng([len(case), seed]), 304)
        panel = pt.Panel.from_arrays({"a": values[:300]}, "1990-01-01", "1 month")
        forecast = pt.forecaster(kind, **settings).fit(panel, horizon=4).forecast(4, levels=(0.8, 0.95))
        for level in inside:
            there = (forecast.lower[level][0] <= values[300:]) & (values[300:] <= forecast.upper[level][0])
            inside[level] += int(there.sum())
    assert inside[0.8] / 800 == pytest.approx(0.8, abs=0.055)
    assert inside[0.95] / 800 == pytest.approx(0.95, abs=0.03)


def ugly_series() -> dict[str, np.ndarray]:
    """Two hundred series from 3 to 30,000 points that no model was made for."""
    rng = np.random.default_rng(99)
    out: dict[str, np.ndarray] = {}

    def add(name: str, values: np.ndarray) -> None:
        out[f"{len(out)}: {name}, {len(values)} points"] = np.asarray(values, dtype=float)

    lengths = [3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 16, 20, 24, 25, 26, 30, 36, 40, 49, 60, 75, 100, 120, 150, 240, 365]
    for n in lengths:
        noise = rng.normal(size=n)
        few, spike = np.full(n, np.nan), noise.copy()
        few[rng.choice(n, min(10, n), replace=False)] = rng.normal(size=min(10, n))
        spike[n // 2] = 10.0 ** rng.integers(3, 13)
        add("noise", noise)
        add("constant", np.full(n, rng.choice([0.0, 7.0, -3.0, 1e9, 1e-9])))
        add("two values", rng.integers(0, 2, n) * 5.0 + 1)
        add("all missing but ten", few)
        add("spike", spike)
    for n in (12, 50, 300):
        noise, at = rng.normal(size=n), np.arange(n)
        add("huge", 1e130 * np.abs(noise))
        add("beyond squares", 1e200 * np.abs(noise))
        add("tiny", 1e-150 * noise)
        add("negative", -1e6 + noise)
        add("step", noise + 1e5 * (at > n // 2))
        add("line", at)
        add("fast", np.exp(at * 0.3))
        add("counts", rng.poisson(0.1, n))
        add("missing at the end", np.where(at > n * 0.8, np.nan, noise))
        add("missing at the start", np.where(at < n * 0.8, np.nan, noise))
        add("every other", np.where(at % 2, np.nan, noise))
        add("far from zero", 1e14 + noise)
        add("walk", noise.cumsum())
        add("alternating", (-1.0) ** at)
        add("zeros, then not", np.where(at < n * 0.9, 0, noise))
        add("one value", np.where(at == n // 3, 5.0, np.nan))
        add("rising late", np.maximum(at - 0.8 * n, 0))
        add("growth", 100 * np.exp(0.02 * at + 0.05 * noise))
        add("hundreds", np.round(noise) * 100)
        add("season", np.sin(at * np.pi / 6))
        add("last is different", np.where(at == n - 1, 1e7, noise))
    add("long noise", rng.normal(size=30_000))
    add("long with holes", np.where(rng.uniform(size=3000) < 0.4, np.nan, rng.normal(size=3000).cumsum()))
    return out


@pytest.mark.parametrize("kind", KINDS)
def test_no_forecaster_stumbles_over_two_hundred_ugly_series(kind: str) -> None:
    """Each forecasts or declines with a reason; what is forecast is finite and within reach of what was known."""
    series = ugly_series()
    assert len(series) == 200
    for key, values in series.items():
        long = len(values) > 1000
        panel = pt.Panel.from_arrays({"a": values}, "2015-01-01", "1 hour" if long else "1 month")
        try:
            fitted = make(kind).fit(panel, horizon=3)
            forecast = fitted.forecast(3, levels=(0.8,))
        except pt.ProteronError as error:
            assert error.message
            continue
        assert fitted.summary and all(np.isfinite(value) for value in fitted.parameters.values()), key
        if np.isnan(forecast.mean).all():
            assert fitted.state.facts["declined"]["a"] and fitted.summary.startswith("No forecast: "), key
            continue
        size = np.nanmax(np.abs(values))
        assert np.isfinite(forecast.mean).all(), key
        if kind not in LEARNERS:  # windows of ten rows may be fitted by anything
            assert np.abs(forecast.mean).max() <= 1e4 * max(size, 1e-300), key
        if fitted.has_theory:
            assert np.isfinite(forecast.upper[0.8]).all() and (forecast.lower[0.8] <= forecast.upper[0.8]).all(), key


def test_what_does_not_suit_is_said_before_it_is_run() -> None:
    rng = np.random.default_rng(2)
    panel = pt.Panel.from_arrays({"a": 1e-9 + rng.normal(size=20).cumsum()}, "2020-01-01", "1 month")
    said = {kind: make(kind).forecaster.unsuited(panel) for kind in KINDS}
    assert said["garch"] is not None and said["smoothing"] is None and said["last_value"] is None
    assert "no season" not in str(said.values())
    assert "above zero" in str(said["random_walk_process"]) and "known ahead" in str(said["regression"])
    assert "at most one season" in str(said["several_seasons"]) and "below zero" in str(said["intermittent"])
    short = panel.cut_at(3)
    for kind in KINDS:
        forecaster = make(kind).forecaster
        if forecaster.least > 3:
            assert forecaster.unsuited(short) == f"It needs {forecaster.least} known points; there are 3."
    assert "two series" in reasons_against(panel, 0)["vector_autoregression"]
