"""Hypothesis tests beside the unit root: by hand, against published tables, and how often they reject."""

import numpy as np
import pytest
from scipy import stats
from test_decomposition import NILE
from test_profile import AIRLINE, autoregression

from proteron.core import profile
from proteron.core.errors import SettingsError, TooShortError
from proteron.core.profile.break_tests import _crossing_probability, recursive_residuals
from proteron.core.profile.seasonal_tests import von_mises_survival


def test_the_corrected_unit_root_statistic_by_hand(rng: np.random.Generator) -> None:
    # Hamilton 1994, eq. 17.6.12.
    x = autoregression(rng, [0.8], 150)
    y, design = np.diff(x), np.column_stack([x[:-1], np.ones(149)])
    inverse = np.linalg.inv(design.T @ design)
    weights = inverse @ design.T @ y
    residuals = y - design @ weights
    s2 = residuals @ residuals / (149 - 2)
    error = np.sqrt(s2 * inverse[0, 0])
    gamma = [residuals[k:] @ residuals[: 149 - k] / 149 for k in range(5)]
    long_run = gamma[0] + 2 * sum((1 - k / 5) * gamma[k] for k in range(1, 5))
    expected = np.sqrt(gamma[0] / long_run) * weights[0] / error - 0.5 * (long_run - gamma[0]) / np.sqrt(
        long_run
    ) * 149 * error / np.sqrt(s2)
    assert profile.unit_root_hac(x, lags=4).statistic == pytest.approx(expected)
    # Without correction it is the plain Dickey–Fuller statistic, scaled by the residuals' degrees of freedom.
    plain = profile.unit_root(x, lags=0).statistic
    assert profile.unit_root_hac(x, lags=0).statistic == pytest.approx(plain)


def test_lag_choice_reads_all_orders_off_one_factorisation(rng: np.random.Generator) -> None:
    x = autoregression(rng, [0.5, 0.2, -0.3], 240)
    most = int(np.ceil(12 * 2.4**0.25))
    changes = np.diff(x)
    y = changes[most:]

    def regression(order: int) -> tuple[float, float]:
        lagged = [changes[most - k : len(changes) - k] for k in range(1, order + 1)]
        design = np.column_stack([x[most:-1], np.ones(len(y)), *lagged])
        weights, rss, *_ = np.linalg.lstsq(design, y, rcond=None)
        error = np.sqrt(rss[0] / (len(y) - design.shape[1]) * np.linalg.inv(design.T @ design)[-1, -1])
        return rss[0], abs(weights[-1] / error)

    aic = [len(y) * np.log(regression(k)[0] / len(y)) + 2 * (k + 2) for k in range(most + 1)]
    assert profile.unit_root(x, lags="aic").lags == int(np.argmin(aic))
    bic = [len(y) * np.log(regression(k)[0] / len(y)) + np.log(len(y)) * (k + 2) for k in range(most + 1)]
    assert profile.unit_root(x, lags="bic").lags == int(np.argmin(bic))
    longest = next((k for k in range(most, 0, -1) if regression(k)[1] > 1.645), 0)
    assert profile.unit_root(x, lags="t").lags == longest
    with pytest.raises(SettingsError):
        profile.unit_root(x, lags="hunch")  # type: ignore[arg-type]


def test_critical_values_of_the_seasonal_test_match_the_published_table() -> None:
    # Canova & Hansen 1995, table 1: 10, 5 and 1 % by degrees of freedom.
    table = {1: (0.353, 0.470, 0.748), 2: (0.610, 0.749, 1.07), 3: (0.846, 1.01, 1.35), 6: (1.49, 1.68, 2.12),
             11: (2.49, 2.75, 3.27)}  # fmt: skip
    for freedom, critical in table.items():
        found = [von_mises_survival(each, freedom) for each in critical]
        np.testing.assert_allclose(found, [0.10, 0.05, 0.01], atol=0.004)


def test_the_seasonal_test_tells_a_fixed_figure_from_a_wandering_one() -> None:
    rng = np.random.default_rng(5)
    rejections = {"fixed": 0, "wandering": 0}
    for _ in range(60):
        figure = np.tile(rng.normal(scale=2, size=4), 60)
        wandering = rng.normal(scale=0.6, size=(60, 4)).cumsum(axis=0).ravel()
        for name, season in (("fixed", figure), ("wandering", wandering)):
            rejections[name] += profile.seasonal_stability(season + rng.normal(size=240), 4).rejected
    assert rejections["fixed"] <= 10  # nominal 5 % of 60 is 3
    assert rejections["wandering"] >= 50
    with pytest.raises(SettingsError):
        profile.seasonal_stability(np.arange(500.0), 168)
    with pytest.raises(TooShortError):
        profile.seasonal_stability(np.arange(20.0), 12)


def test_normality_by_hand() -> None:
    x = np.array([1.0, 2, 3, 4, 5, 6, 7, 30])
    s, k = stats.skew(x), stats.kurtosis(x)
    result = profile.jarque_bera(x)
    assert result.statistic == pytest.approx(8 / 6 * (s**2 + k**2 / 4))
    assert result.p_value == pytest.approx(np.exp(-result.statistic / 2))
    assert result.verdict == "Not normal: long upper tail."


def test_volatility_by_hand(rng: np.random.Generator) -> None:
    x = rng.normal(size=80)
    e2 = (x - x.mean()) ** 2
    design = np.column_stack([np.ones(78), e2[1:-1], e2[:-2]])
    residuals = e2[2:] - design @ np.linalg.lstsq(design, e2[2:], rcond=None)[0]
    share = 1 - residuals @ residuals / ((e2[2:] - e2[2:].mean()) ** 2).sum()
    result = profile.arch_lm(x, 2)
    assert result.statistic == pytest.approx(78 * share)
    assert result.p_value == pytest.approx(stats.chi2.sf(78 * share, 2))
    shocks = rng.normal(size=2000)
    clustered = shocks.copy()
    for t in range(1, 2000):
        clustered[t] = shocks[t] * np.sqrt(0.2 + 0.7 * clustered[t - 1] ** 2)
    assert profile.arch_lm(clustered, 5).rejected


def test_even_spread_by_hand(rng: np.random.Generator) -> None:
    x = rng.normal(size=60) * np.linspace(1, 4, 60)
    t = np.column_stack([np.ones(60), np.arange(60)])
    e = x - t @ np.linalg.lstsq(t, x, rcond=None)[0]
    scaled = e**2 / (e @ e / 60)
    fitted = t @ np.linalg.lstsq(t, scaled, rcond=None)[0]
    explained = ((fitted - scaled.mean()) ** 2).sum()
    assert profile.breusch_pagan(x, studentised=False).statistic == pytest.approx(explained / 2)
    share = explained / ((scaled - scaled.mean()) ** 2).sum()
    assert profile.breusch_pagan(x).statistic == pytest.approx(60 * share)
    assert profile.breusch_pagan(x).rejected
    assert not profile.breusch_pagan(rng.normal(size=400)).rejected


def test_runs_by_hand() -> None:
    x = np.array([1.0, 9, 8, 2, 3, 7, 1.5, 6])  # below above above below below above below above: 6 runs, 4 and 4
    result = profile.runs_test(x)
    expected, variance = 2 * 16 / 8 + 1, 32 * (32 - 8) / (64 * 7)
    assert result.statistic == pytest.approx((6 - expected) / np.sqrt(variance))
    assert "follow their neighbours" in profile.runs_test(np.arange(60.0)).verdict
    assert "alternate" in profile.runs_test(np.tile([1.0, 2.0], 30) + np.arange(60) / 1e6).verdict


def test_the_break_test_uses_recursive_residuals_and_published_lines() -> None:
    # Brown, Durbin & Evans 1975: 0.850, 0.948 and 1.143 at 10, 5 and 1 %.
    for height, level in ((0.850, 0.10), (0.948, 0.05), (1.143, 0.01)):
        assert _crossing_probability(height) == pytest.approx(level, abs=0.0005)
    values = NILE
    twin = []
    for t in range(2, len(values)):
        design = np.column_stack([np.ones(t), np.arange(t)])
        inverse = np.linalg.inv(design.T @ design)
        row = np.array([1.0, t])
        error = values[t] - row @ inverse @ design.T @ values[:t]
        twin.append(error / np.sqrt(1 + row @ inverse @ row))
    np.testing.assert_allclose(recursive_residuals(values), twin, rtol=1e-9)
    residuals = values - np.polynomial.Polynomial.fit(np.arange(100), values, 1)(np.arange(100))
    assert (np.array(twin) ** 2).sum() == pytest.approx((residuals**2).sum())  # as theory demands


def test_chow_at_the_break_of_the_nile() -> None:
    result = profile.chow(NILE, 28, trend="constant")
    before, after = NILE[:28], NILE[28:]
    apart = ((before - before.mean()) ** 2).sum() + ((after - after.mean()) ** 2).sum()
    whole = ((NILE - NILE.mean()) ** 2).sum()
    assert result.statistic == pytest.approx((whole - apart) / (apart / 98))
    assert result.p_value == pytest.approx(stats.f.sf(result.statistic, 1, 98))
    assert result.statistic == max(profile.chow(NILE, at, trend="constant").statistic for at in range(5, 95))
    with pytest.raises(SettingsError):
        profile.chow(NILE, 0)
    with pytest.raises(TooShortError):
        profile.chow(NILE, 1)


@pytest.mark.parametrize(
    "test", [profile.unit_root_hac, profile.jarque_bera, profile.runs_test, profile.cusum, profile.breusch_pagan,
             lambda x: profile.arch_lm(x, 4), lambda x: profile.seasonal_stability(x, 4)],
)  # fmt: skip
def test_tests_reject_the_true_null_about_as_often_as_they_say(test) -> None:  # type: ignore[no-untyped-def]
    rng = np.random.default_rng(9)
    rejected = 0
    for _ in range(200):
        noise = rng.normal(size=160)
        rejected += test(noise.cumsum() if test is profile.unit_root_hac else noise).rejected
    assert rejected <= 24  # 5 % of 200 is 10; three standard deviations above is 19
    with np.errstate(all="raise"):
        assert np.isnan(test(np.full(60, 3.0)).p_value)


def test_the_joint_verdict_names_the_lag_to_difference_at() -> None:
    verdict = profile.run_tests(AIRLINE, 12).verdict
    assert "difference it once" in verdict or "take out a trend" in verdict
    wandering = np.random.default_rng(1).normal(size=(80, 4)).cumsum(axis=0).ravel()
    assert "at lag 4" in profile.run_tests(wandering, 4).verdict
    names = [test.name for test in profile.run_tests(AIRLINE, 12).tests]
    assert len(names) == len(set(names)) == 11
    few = profile.run_tests(np.array([1.0, 2.0, np.nan]), 12)
    assert few.tests == ()
    assert "needs 8 known points" in few.refused["unit root"]
