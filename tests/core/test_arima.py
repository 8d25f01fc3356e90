"""ARIMA against published fits, the plain normal likelihood, and its own simulations."""

import numpy as np
import pytest
from reference_series import AIRLINE, HORMONE, LAKE_HURON
from scipy.linalg import toeplitz

import proteron as pt
from proteron.core.forecasters.arima import Orders, fit_arima
from proteron.core.forecasters.arima.filters import whiten, whiten_gappy
from proteron.core.forecasters.arima.fit import differenced
from proteron.core.forecasters.arima.polynomials import (
    autocovariances,
    expanded,
    from_partial,
    impulses,
    to_partial,
)

PUBLISHED = [
    # Box, Jenkins & Reinsel 1994, § 9.2 fit the same model by near-exact likelihood: θ .40, Θ .56.
    (np.log(AIRLINE), Orders(0, 1, 1, 0, 1, 1, 12), False, None, {"ma1": -0.4018, "sma1": -0.5569},
     {"ma1": 0.0896, "sma1": 0.0731}, 244.70, 0.001348),
    # Diggle 1990; Venables & Ripley 2002, § 14.2.
    (HORMONE, Orders(1), True, None, {"ar1": 0.5739, "mean": 2.4133}, {"ar1": 0.1161, "mean": 0.1466}, -29.38, 0.1975),
    (HORMONE, Orders(3), True, None, {"ar1": 0.6448, "ar2": -0.0634, "ar3": -0.2198, "mean": 2.3931},
     {"ar1": 0.1394, "ar2": 0.1668, "ar3": 0.1421, "mean": 0.0963}, -27.09, 0.1787),
    (HORMONE, Orders(1, 0, 1), True, None, {"ar1": 0.4522, "ma1": 0.1982, "mean": 2.4101},
     {"ar1": 0.1769, "ma1": 0.1705, "mean": 0.1358}, -28.76, 0.1923),
    # Brockwell & Davis 1991, Series A, with and without a line in time.
    (LAKE_HURON, Orders(2), True, None, {"ar1": 1.0436, "ar2": -0.2495, "mean": 579.0473},
     {"ar1": 0.0983, "ar2": 0.1008, "mean": 0.3319}, -103.63, 0.4788),
    (LAKE_HURON, Orders(2), True, np.arange(1875, 1973) - 1920.0,
     {"ar1": 1.0048, "ar2": -0.2913, "mean": 579.0993, "year": -0.0216},
     {"ar1": 0.0976, "ar2": 0.1004, "mean": 0.2370, "year": 0.0081}, -101.20, 0.4566),
]  # fmt: skip


@pytest.mark.parametrize("case", range(len(PUBLISHED)))
def test_published_fits_are_reproduced_to_the_printed_digits(case: int) -> None:
    values, orders, constant, line, parameters, errors, loglik, variance = PUBLISHED[case]
    columns = None if line is None else line[:, None]
    fitted = fit_arima(
        values, orders, constant=constant, covariates=columns, names=("year",) if line is not None else ()
    )
    for name, printed in parameters.items():
        assert fitted.parameters[name] == pytest.approx(printed, abs=1.1e-4)
    for name, printed in errors.items():
        assert fitted.standard_errors[name] == pytest.approx(printed, abs=1.6e-4)
    assert fitted.loglik == pytest.approx(loglik, abs=0.006)
    assert fitted.variance == pytest.approx(variance, rel=5e-4)


def random_model(rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    ar = from_partial(rng.uniform(-0.9, 0.9, rng.integers(0, 4)))
    ma = -from_partial(rng.uniform(-0.9, 0.9, rng.integers(0, 4)))
    seasonal = [rng.uniform(-0.6, 0.6, rng.integers(0, 2)) for _ in range(2)]
    return expanded(ar, seasonal[0], 4, -1.0), expanded(ma, seasonal[1], 4, 1.0)


@pytest.mark.parametrize("seed", range(12))
def test_filters_equal_the_whole_covariance_matrix(seed: int) -> None:
    rng = np.random.default_rng(seed)
    ar, ma = random_model(rng)
    covariance = toeplitz(autocovariances(ar, ma, 70))
    values = np.column_stack([np.linalg.cholesky(covariance) @ rng.normal(size=70), np.ones(70)])
    known = rng.random(70) > 0.2
    gappy = values.copy()
    gappy[~known, 0] = np.nan
    for given, filter_, seen in ((values, whiten, np.ones(70, bool)), (gappy, whiten_gappy, known)):
        root = np.linalg.cholesky(covariance[np.ix_(seen, seen)])
        white = np.empty_like(values)
        logs = filter_(given, ar, ma, white)
        assert logs == pytest.approx(2 * np.log(np.diag(root)).sum(), abs=1e-8)
        np.testing.assert_allclose(white[seen], np.linalg.solve(root, values[seen]), atol=1e-7)
    partial = rng.uniform(-0.95, 0.95, 5)
    np.testing.assert_allclose(to_partial(from_partial(partial)), partial, atol=1e-9)
    psi = impulses(ar, ma, 4000)
    assert autocovariances(ar, ma, 3)[2] == pytest.approx((psi[2:] * psi[:-2]).sum(), abs=1e-6)


def test_missing_values_after_differences_count_as_not_there() -> None:
    """The likelihood is that of all differences with the missing values integrated out, by plain linear algebra."""
    values = np.log(AIRLINE[:60]).copy()
    values[[10, 11, 30, 45]] = np.nan
    orders = Orders(0, 1, 1, 0, 1, 1, 12)
    fitted = fit_arima(values, orders)
    known = np.isfinite(values)
    rows = differenced(np.eye(60), orders)  # each row one difference
    ar, ma = fitted.polynomials()
    of_differences = toeplitz(autocovariances(ar, ma, len(rows)))
    # Differences free of the missing points: combinations of the rows that give those weight nothing.
    free = np.linalg.svd(rows[:, ~known].T)[2][np.linalg.matrix_rank(rows[:, ~known]) :]
    covariance = fitted.variance * free @ of_differences @ free.T
    contrast = free @ (rows @ np.where(known, values, 0.0))
    sign, logs = np.linalg.slogdet(covariance)
    exact = -0.5 * (len(contrast) * np.log(2 * np.pi) + logs + contrast @ np.linalg.solve(covariance, contrast))
    exact -= 0.5 * np.linalg.slogdet(rows[:, ~known].T @ rows[:, ~known])[1]  # the contrasts' own scale
    assert sign > 0
    assert fitted.count == len(contrast)
    assert fitted.loglik == pytest.approx(exact, abs=1e-6)


def test_parameters_are_recovered_within_their_standard_errors() -> None:
    """Over 60 simulated series, (estimate - truth) / standard error spreads like a standard normal."""
    truth = {"ar1": 0.6, "ma1": 0.4, "sma1": -0.5, "mean": 3.0}
    scores: list[list[float]] = []
    for seed in range(60):
        rng = np.random.default_rng([7, seed])
        noise = rng.normal(size=520)
        shocks = noise.copy()
        shocks[1:] += 0.4 * noise[:-1]
        both = shocks.copy()
        both[4:] -= 0.5 * shocks[:-4]
        x = np.zeros(520)
        for t in range(1, 520):
            x[t] = 0.6 * x[t - 1] + both[t]
        fitted = fit_arima(x[120:] + 3.0, Orders(1, 0, 1, 0, 0, 1, 4), constant=True)
        scores.append([(fitted.parameters[n] - v) / fitted.standard_errors[n] for n, v in truth.items()])
    found = np.array(scores)
    assert (np.abs(found.mean(axis=0)) < 4 / np.sqrt(60)).all()
    assert (found.std(axis=0) > 0.7).all() and (found.std(axis=0) < 1.35).all()


def test_ranges_agree_with_simulation_and_cover() -> None:
    panel = pt.Panel.from_arrays({"a": np.log(AIRLINE)}, "1949-01-01", "1 month")
    fitted = pt.forecaster("arima", order=(0, 1, 1), seasonal=(0, 1, 1)).fit(panel)
    forecast = fitted.forecast(24, levels=(0.95,))
    # Box, Jenkins & Reinsel's model, forecast from December 1960.
    assert forecast.mean[0, :4] == pytest.approx([6.1102, 6.0538, 6.1717, 6.1993], abs=2e-4)
    paths = fitted.contender.forecaster.simulate(fitted.state, panel, 144, 24, 8000, 1)
    spread = (forecast.upper[0.95][0] - forecast.lower[0.95][0]) / (2 * 1.959964)
    assert paths[:, 0].std(axis=0) / spread == pytest.approx(np.ones(24), abs=0.04)
    inside = {0.8: 0, 0.95: 0}
    for seed in range(300):
        rng = np.random.default_rng([3, seed])
        x = np.zeros(163)
        noise = rng.normal(size=163)
        for t in range(1, 163):
            x[t] = 0.7 * x[t - 1] + noise[t] + 0.3 * noise[t - 1]
        one = pt.Panel.from_arrays({"a": x[60:160]}, "2024-01-01", "1 day")
        model = pt.forecaster("arima", order=(1, 0, 1), seasonal=(0, 0, 0)).fit(one)
        answer = model.forecast(3, levels=(0.8, 0.95))
        for level in inside:
            inside[level] += int(((answer.lower[level][0] <= x[160:]) & (x[160:] <= answer.upper[level][0])).sum())
    assert inside[0.8] / 900 == pytest.approx(0.8, abs=0.04)
    assert inside[0.95] / 900 == pytest.approx(0.95, abs=0.02)


def test_orders_are_found_and_every_attempt_is_kept() -> None:
    rng = np.random.default_rng(11)
    x = np.zeros(400)
    noise = rng.normal(size=400)
    for t in range(2, 400):
        x[t] = 1.2 * x[t - 1] - 0.5 * x[t - 2] + noise[t]
    panel = pt.Panel.from_arrays({"a": x}, "2024-01-01", "1 day")
    fitted = pt.forecaster("arima", period=1).fit(panel)
    assert fitted.parameters["ar1"] == pytest.approx(1.2, abs=0.15)
    tried = fitted.state.facts["series"]["a"]["tried"]
    assert len(tried) >= 8 and tried[0]["criterion"] == min(t["criterion"] for t in tried if t["criterion"] is not None)
    grid = pt.forecaster("arima", period=1, search="grid", largest=3).fit(panel)
    assert len(grid.state.facts["series"]["a"]["tried"]) > 15
    assert grid.criteria["aicc"] <= fitted.criteria["aicc"] + 1e-6
    moving = pt.Panel.from_arrays({"a": np.cumsum(1 + x)}, "2024-01-01", "1 day")
    assert pt.forecaster("arima", period=1).fit(moving).summary.startswith("ARIMA (")
    assert ", 1, " in pt.forecaster("arima", period=1).fit(moving).summary


def test_parts_of_an_order_may_be_chosen_also_in_files_without_null() -> None:
    chosen = pt.forecaster("arima", order=(1, "choose", 0), period=1)
    assert chosen.forecaster.order == (1, None, 0)  # type: ignore[union-attr]
    assert pt.forecaster("arima", order=(1, None, 0), period=1).hash == chosen.hash
    fitted = chosen.fit(pt.Panel.from_arrays({"a": LAKE_HURON}, "1875-01-01", "1 month"))
    assert fitted.parameters["ar1"] > 0 and "ma1" not in fitted.parameters
    assert pt.forecaster("smoothing", trend="none").hash == pt.forecaster("smoothing", trend=None).hash
    for bad in ({"order": (1, -1, 0)}, {"order": (1, 0)}, {"period": 1, "seasonal": (1, 0, 0)}):
        with pytest.raises(pt.SettingsError):
            pt.forecaster("arima", **bad)


def test_covariates_known_ahead_enter_the_mean(rng: np.random.Generator) -> None:
    plan = rng.normal(size=260)
    noise = rng.normal(size=240)
    x = 5 + 2.5 * plan[:240] + noise
    x[1:] += 0.6 * noise[:-1]
    panel = pt.Panel.from_arrays({"a": x}, "2024-01-01", "1 day", covariates={"plan": ("known_ahead", {"a": plan})})
    settings = {"order": (0, 0, 1), "seasonal": (0, 0, 0), "covariates": ("plan",)}
    fitted = pt.forecaster("arima", **settings).fit(panel)
    assert abs(fitted.parameters["plan"] - 2.5) < 4 * fitted.standard_errors["plan"]
    forecast = fitted.forecast(10).mean[0]
    by_hand = fitted.parameters["mean"] + fitted.parameters["plan"] * plan[240:250]
    np.testing.assert_allclose(forecast[1:], by_hand[1:], rtol=1e-9)
    observed = pt.Panel.from_arrays({"a": x}, "2024-01-01", "1 day", covariates={"plan": {"a": plan[:240]}})
    summary = pt.forecaster("arima", **settings).fit(observed).summary
    assert "not known ahead" in summary


def undifferenced(orders: Orders, count: int) -> tuple[np.ndarray, np.ndarray]:
    """y = starts @ first values + sums @ differences, (count, lost) and (count, count - lost)."""
    differences = differenced(np.eye(count), orders)
    whole = np.linalg.inv(np.vstack([np.eye(orders.lost, count), differences]))
    return whole[:, : orders.lost], whole[:, orders.lost :]


@pytest.mark.parametrize("holes", [(20, 21, 22), (44, 45), (1, 3, 30, 41, 42), (47,)])
def test_forecasts_after_gaps_are_the_exact_conditional_means(holes: tuple[int, ...]) -> None:
    """Against the whole covariance matrix, the first values having almost no distribution at all."""
    orders, known, ahead = Orders(1, 1, 1, 0, 1, 1, 4), 48, 5
    x = np.random.default_rng(8).normal(size=known).cumsum()
    x[list(holes)] = np.nan
    panel = pt.Panel.from_arrays({"a": x}, "2000-01-01", "1 day")
    fitted = pt.forecaster("arima", order=(1, 1, 1), seasonal=(0, 1, 1), period=4).fit(panel)
    parameters = fitted.parameters
    ar = np.array([parameters["ar1"]])
    ma = expanded(np.array([parameters["ma1"]]), np.array([parameters["sma1"]]), 4, 1.0)
    starts, sums = undifferenced(orders, known + ahead)
    gammas = autocovariances(ar, ma, known + ahead - orders.lost)
    covariance = 1e7 * starts @ starts.T + sums @ toeplitz(gammas) @ sums.T
    there = np.flatnonzero(np.isfinite(x))
    expected = covariance[known:, there] @ np.linalg.solve(covariance[np.ix_(there, there)], x[there])
    assert fitted.forecast(ahead).mean[0] == pytest.approx(expected, abs=2e-4)


def test_an_autoregression_that_explodes_needs_freedom_to_be_seen() -> None:
    rng = np.random.default_rng(2)
    x = [1.0]
    for noise in rng.normal(size=150):
        x.append(1.03 * x[-1] + noise)
    panel = pt.Panel.from_arrays({"a": x[:141]}, "2000-01-01", "1 day")
    settings = {"order": (1, 0, 0), "seasonal": (0, 0, 0), "constant": False}
    free = pt.forecaster("arima", stationary=False, **settings).fit(panel)
    y = np.array(x[:141])
    slope = float(y[1:] @ y[:-1] / (y[:-1] @ y[:-1]))  # what the conditional likelihood has its maximum at
    assert free.parameters["ar1"] == pytest.approx(slope, rel=2e-6)
    assert slope > 1.02
    error = np.sqrt(((y[1:] - slope * y[:-1]) ** 2).mean() / (y[:-1] @ y[:-1]))
    assert free.standard_errors["ar1"] == pytest.approx(error, rel=3e-3)
    assert free.forecast(10).mean[0] == pytest.approx(y[-1] * free.parameters["ar1"] ** np.arange(1, 11), rel=1e-9)
    assert pt.forecaster("arima", **settings).fit(panel).parameters["ar1"] < 1
    with pytest.raises(pt.SettingsError, match="must be invertible"):
        pt.forecaster("arima", stationary=False, enforced=False)
