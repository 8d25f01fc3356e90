"""Correlograms and tests against closed forms, published tables and slow twins."""

import numpy as np
import pytest

from proteron.core import profile
from proteron.core.errors import SettingsError, TooShortError, UnitsError

# Box & Jenkins 1976, series G: airline passengers (thousands), 1949 to 1960.
AIRLINE = np.array([
    112, 118, 132, 129, 121, 135, 148, 148, 136, 119, 104, 118,
    115, 126, 141, 135, 125, 149, 170, 170, 158, 133, 114, 140,
    145, 150, 178, 163, 172, 178, 199, 199, 184, 162, 146, 166,
    171, 180, 193, 181, 183, 218, 230, 242, 209, 191, 172, 194,
    196, 196, 236, 235, 229, 243, 264, 272, 237, 211, 180, 201,
    204, 188, 235, 227, 234, 264, 302, 293, 259, 229, 203, 229,
    242, 233, 267, 269, 270, 315, 364, 347, 312, 274, 237, 278,
    284, 277, 317, 313, 318, 374, 413, 405, 355, 306, 271, 306,
    315, 301, 356, 348, 355, 422, 465, 467, 404, 347, 305, 336,
    340, 318, 362, 348, 363, 435, 491, 505, 404, 359, 310, 337,
    360, 342, 406, 396, 420, 472, 548, 559, 463, 407, 362, 405,
    417, 391, 419, 461, 472, 535, 622, 606, 508, 461, 390, 432,
], dtype=float)  # fmt: skip


def autoregression(rng: np.random.Generator, weights: list[float], count: int) -> np.ndarray:
    x = np.zeros(count + 500)
    shocks = rng.normal(size=len(x))
    for t in range(len(weights), len(x)):
        x[t] = sum(w * x[t - k - 1] for k, w in enumerate(weights)) + shocks[t]
    return x[500:]


def test_acf_equals_its_definition(rng: np.random.Generator) -> None:
    x = rng.normal(size=333).cumsum()
    centred = x - x.mean()
    slow = [centred[k:] @ centred[: len(x) - k] / (centred @ centred) for k in range(41)]
    np.testing.assert_allclose(profile.acf(x, 40), slow, atol=1e-12)


def test_pacf_of_an_autoregression_cuts_off(rng: np.random.Generator) -> None:
    partial = profile.pacf(autoregression(rng, [0.6, -0.3], 60_000), 6)
    expected = [1, 0.6 / 1.3, -0.3, 0, 0, 0, 0]  # closed form of AR(2): ρ₁ = φ₁ / (1 - φ₂)
    np.testing.assert_allclose(partial, expected, atol=0.015)


def test_gaps_hardly_move_the_correlogram(rng: np.random.Generator) -> None:
    x = autoregression(rng, [0.8], 20_000)
    gappy = x.copy()
    gappy[rng.random(len(x)) < 0.2] = np.nan
    np.testing.assert_allclose(profile.acf(gappy, 10), profile.acf(x, 10), atol=0.03)


def test_finite_sample_critical_values_match_the_published_tables() -> None:
    # Fuller 1976, table 8.5.2, at n = 100 and 500 (constant; constant and trend), to two decimals.
    for count, trend, expected in ((101, "constant", (-3.51, -2.89, -2.58)), (101, "linear", (-4.04, -3.45, -3.15)),
                                   (501, "constant", (-3.44, -2.87, -2.57))):  # fmt: skip
        walk = np.random.default_rng(1).normal(size=count).cumsum()
        critical = profile.unit_root(walk, trend=trend, lags=0).critical
        assert tuple(critical.values()) == pytest.approx(expected, abs=0.015)


@pytest.mark.parametrize("trend", ["none", "constant", "linear"])
def test_p_values_agree_with_the_critical_values(trend: str) -> None:
    from proteron.core.profile.hypothesis_tests import _CRITICAL, _unit_root_p

    for level, surface in _CRITICAL[trend].items():
        assert _unit_root_p(surface[0], trend) == pytest.approx(float(level.strip("%")) / 100, abs=0.002)


def test_the_unit_root_statistic_equals_the_regression_t(rng: np.random.Generator) -> None:
    x = autoregression(rng, [0.9], 120)
    y, design = np.diff(x)[2:], np.column_stack([x[2:-1], np.diff(x)[1:-1], np.diff(x)[:-2], np.ones(117)])
    inverse = np.linalg.inv(design.T @ design)
    weights = inverse @ design.T @ y
    variance = ((y - design @ weights) ** 2).sum() / (117 - 4)
    assert profile.unit_root(x, lags=2).statistic == pytest.approx(weights[0] / np.sqrt(variance * inverse[0, 0]))


def test_both_tests_tell_a_walk_from_noise(rng: np.random.Generator) -> None:
    noise, walk = rng.normal(size=400), rng.normal(size=400).cumsum()
    assert profile.unit_root(noise).rejected
    assert not profile.stationarity(noise).rejected
    assert not profile.unit_root(walk).rejected
    assert profile.stationarity(walk).rejected
    assert "Both agree: flat" in profile.joint_verdict(profile.unit_root(noise), profile.stationarity(noise))
    assert "Both agree: not flat" in profile.joint_verdict(profile.unit_root(walk), profile.stationarity(walk))


def test_stationarity_statistic_by_hand() -> None:
    x = np.array([1.0, 3, 2, 5, 4, 6, 8, 7, 9, 12])
    e = x - x.mean()
    long_run = (e @ e + 2 * (2 / 3) * (e[1:] @ e[:-1]) + 2 * (1 / 3) * (e[2:] @ e[:-2])) / 10
    expected = (e.cumsum() ** 2).sum() / 100 / long_run
    result = profile.stationarity(x, lags=2)
    assert result.statistic == pytest.approx(expected)
    assert result.critical == {"10%": 0.347, "5%": 0.463, "2.5%": 0.574, "1%": 0.739}


def test_ljung_box_by_hand() -> None:
    x = np.array([2.0, 1, 4, 3, 6, 5, 8, 7])
    e = x - x.mean()
    r = [e[k:] @ e[:-k] / (e @ e) for k in (1, 2)]
    expected = 8 * 10 * (r[0] ** 2 / 7 + r[1] ** 2 / 6)
    result = profile.ljung_box(x, 2)
    assert result.statistic == pytest.approx(expected)
    assert result.p_value == pytest.approx(np.exp(-expected / 2))  # χ² with two degrees of freedom


def test_box_cox_on_the_airline_series() -> None:
    # Likelihood optimum near 0.148 (Box & Cox 1964 criterion); Guerrero 1993 reports about -0.3 for this series.
    assert profile.box_cox_lambda(AIRLINE) == pytest.approx(0.148, abs=0.002)
    assert profile.box_cox_lambda(1000 * AIRLINE) == pytest.approx(profile.box_cox_lambda(AIRLINE), abs=1e-6)
    assert profile.box_cox_lambda(AIRLINE, method="guerrero", period=12) == pytest.approx(-0.29, abs=0.03)


def test_degenerate_input_has_a_defined_answer() -> None:
    constant = np.full(50, 7.0)
    assert np.isnan(profile.acf(constant, 3)[1:]).all()
    assert "Constant" in profile.unit_root(constant).verdict
    assert profile.box_cox_lambda(constant) == 1.0
    for bad in (lambda: profile.acf([np.nan, 1.0], 2), lambda: profile.unit_root([1.0, 2.0])):
        with pytest.raises(TooShortError):
            bad()
    with pytest.raises(UnitsError):
        profile.box_cox_lambda([0.0, 1.0, 2.0, 3.0])
    with pytest.raises(SettingsError):
        profile.ljung_box(np.arange(9.0), 3, fitted=3)
