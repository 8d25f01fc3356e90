"""Regression against certified problems, closed forms and optimality conditions."""

import numpy as np
import pytest
from reference_series import LONGLEY
from scipy import stats

import proteron as pt
from proteron.core.forecasters.regression import coordinate_path, least_squares
from proteron.core.forecasters.regression.solve import quantile_fit, robust_fit
from proteron.core.forecasters.regression.terms import design, read_terms

# Certified for LONGLEY.
COEFFICIENTS = [-3482258.63459582, 15.0618722713733, -0.358191792925910e-01, -2.02022980381683, -1.03322686717359,
                -0.511041056535807e-01, 1829.15146461355]  # fmt: skip
ERRORS = [890420.383607373, 84.9149257747669, 0.334910077722432e-01, 0.488399681651699, 0.214274163161675,
          0.226073200069370, 455.478499142212]  # fmt: skip


def digits(found: float, certified: float) -> float:
    return -np.log10(max(abs(found - certified) / abs(certified), 1e-16))


def test_longley_is_certified_to_eleven_digits() -> None:
    fitted = least_squares(np.column_stack([np.ones(16), LONGLEY[:, 1:]]), LONGLEY[:, 0])
    assert min(digits(a, b) for a, b in zip(fitted.coefficients, COEFFICIENTS, strict=True)) > 11
    assert min(digits(a, b) for a, b in zip(fitted.errors, ERRORS, strict=True)) > 9.5
    assert digits(np.sqrt(fitted.variance), 304.854073561965) > 11
    assert fitted.left == 9
    names = ("deflator", "product", "unemployed", "armed", "population", "year")
    columns = {name: {"a": LONGLEY[:, i + 1]} for i, name in enumerate(names)}
    panel = pt.Panel.from_arrays({"a": LONGLEY[:, 0]}, "1947-01-01", "1 month", covariates=columns)
    entered = pt.forecaster("regression", covariates=names).fit(panel)
    for name, certified, error in zip(("intercept", *names), COEFFICIENTS, ERRORS, strict=True):
        assert digits(entered.parameters[name], certified) > 11
        assert digits(entered.standard_errors[name], error) > 9.5
    assert "only known afterwards" in entered.summary


@pytest.mark.parametrize(("number", "certified"), [(1, [1] * 6), (2, [1, 0.1, 0.01, 0.001, 0.0001, 0.00001])])
def test_wampler_is_certified_to_nine_digits(number: int, certified: list[float]) -> None:
    """NIST “Wampler1” and “Wampler2”: polynomials of degree five through their own values."""
    x = np.arange(21.0)
    y = sum(c * x**k for k, c in enumerate(certified))
    fitted = least_squares(np.column_stack([x**k for k in range(6)]), y)
    assert min(digits(a, b) for a, b in zip(fitted.coefficients, certified, strict=True)) > 9


def test_a_polynomial_of_degree_ten_keeps_nine_digits() -> None:
    """Columns as nearly dependent as in NIST “Filip” (condition 1e15), with a solution that is known exactly."""
    x = np.linspace(-9, -3, 82)
    truth = np.arange(11.0) - 4.5
    columns = np.column_stack([x**k for k in range(11)])
    exact = (columns.astype(np.longdouble) @ truth.astype(np.longdouble)).astype(float)
    fitted = least_squares(columns, exact)
    # The values are rounded to doubles, which alone moves the solution by about the condition number × 1e-16.
    assert np.abs(fitted.residuals).max() < 4e-16 * np.abs(exact).max() * 82
    normal = columns.astype(np.longdouble)
    slope = normal.T @ (exact.astype(np.longdouble) - normal @ fitted.coefficients.astype(np.longdouble))
    assert (np.abs(slope) <= 1e-13 * (np.abs(normal).T @ np.abs(exact))).all()


def test_the_table_has_errors_tests_inflation_and_robust_errors(rng: np.random.Generator) -> None:
    x = np.column_stack([np.ones(200), rng.normal(size=(200, 2))])
    x[:, 2] += 2 * x[:, 1]
    y = x @ [1.0, 2.0, -1.0] + rng.normal(size=200)
    fitted = least_squares(x, y)
    inverse = np.linalg.inv(x.T @ x)
    np.testing.assert_allclose(fitted.errors, np.sqrt(np.diag(inverse) * fitted.variance), rtol=1e-10)
    explained = stats.pearsonr(x[:, 1], x[:, 2]).statistic ** 2
    np.testing.assert_allclose(fitted.inflation[1:], 1 / (1 - explained), rtol=1e-10)
    np.testing.assert_allclose(fitted.p_values, 2 * stats.t.sf(np.abs(fitted.t_values), 197))
    white = least_squares(x, y, robust_lags=0)
    middle = (x * fitted.residuals[:, None]).T @ (x * fitted.residuals[:, None])
    by_hand = np.sqrt(np.diag(inverse @ middle @ inverse) * 200 / 197)
    np.testing.assert_allclose(white.errors, by_hand, rtol=1e-10)
    slow = np.zeros(200)
    for t in range(1, 200):
        slow[t] = 0.9 * slow[t - 1] + rng.normal()
    level = least_squares(np.ones((200, 1)), slow, robust_lags=12).errors[0]
    assert level > 2 * least_squares(np.ones((200, 1)), slow).errors[0]
    with pytest.raises(pt.SettingsError, match="sums of others"):
        least_squares(np.column_stack([x, x[:, 1] + x[:, 2]]), y)


def test_penalised_quantile_and_robust_fits_satisfy_their_conditions(rng: np.random.Generator) -> None:
    x = rng.normal(size=(150, 6))
    x = (x - x.mean(axis=0)) / x.std(axis=0)
    y = x @ [2.0, 0, 0, -1.0, 0, 0.3] + rng.normal(size=150)
    y -= y.mean()
    gram, right = x.T @ x / 150, x.T @ y / 150
    for share in (1.0, 0.5):
        for strength, found in zip((0.5, 0.1), coordinate_path(gram, right, np.array([0.5, 0.1]), share, 1e-12, 10_000),
                                   strict=True):  # fmt: skip
            slope = right - gram @ found - strength * (1 - share) * found
            on = found != 0
            np.testing.assert_allclose(slope[on], strength * share * np.sign(found[on]), atol=1e-9)
            assert (np.abs(slope[~on]) <= strength * share + 1e-9).all()
    even = coordinate_path(gram, right, np.array([0.2]), 0.0, 1e-13, 100_000)[0]
    np.testing.assert_allclose(even, np.linalg.solve(gram + 0.2 * np.eye(6), right), rtol=1e-8)
    full = np.column_stack([np.ones(150), x])
    for level in (0.1, 0.5, 0.9):
        below = (y < full @ quantile_fit(full, y, level) - 1e-9).mean()
        assert below == pytest.approx(level, abs=7 / 150)
    wild = y.copy()
    wild[:15] += 50
    truth = np.array([0, 2.0, 0, 0, -1.0, 0, 0.3])
    assert np.abs(robust_fit(full, wild, "tukey").coefficients - truth).max() < 0.4
    assert np.abs(robust_fit(full, wild, "huber").coefficients - truth).max() < 1.0
    assert np.abs(least_squares(full, wild).coefficients - truth).max() > 2


def test_terms_are_read_coded_and_refused() -> None:
    panel = pt.Panel.from_arrays(
        {"a": np.arange(6.0), "b": np.arange(6.0)}, "2024-01-01", "1 day",
        covariates={
            "rain": ("known_ahead", {"a": np.arange(8.0), "b": np.arange(8.0)}),
            "site": ("static", {"a": "shop", "b": "office"}),
        },
    )  # fmt: skip
    columns, names = design(panel, 0, read_terms("rain + rain^2 + time * rain + site against office"), 0)
    assert names == ("rain", "rain^2", "time * rain", "site is shop")
    assert columns[3].tolist() == [3, 9, 9, 1]
    days, names = design(panel, 0, read_terms("weekday against 6"), 0)
    assert names == tuple(f"weekday is {day}" for day in range(6)) and days[0].tolist() == [1, 0, 0, 0, 0, 0]
    for text, said in (("rain +", "not a column"), ("rain^40", "powers"), ("rain + rain", "twice")):
        with pytest.raises(pt.SettingsError, match=said):
            pt.forecaster("regression", formula=text)
    for bad in ({"penalty": "lasso", "loss": "huber"}, {"robust_lags": 3, "penalty": "ridge"}, {"strength": 1.0}):
        with pytest.raises(pt.SettingsError):  # nothing that is asked for is passed over
            pt.forecaster("regression", **bad)
    for text, said in (("site against moon", "has no “moon”"), ("rain against 3", "is a number"), ("snow", "snow")):
        assert said in pt.forecaster("regression", formula=text).fit(panel).summary["a"]


def test_crossed_columns_come_with_each_of_them_alone() -> None:
    shown = lambda text: [" * ".join(factor.name for factor in term) for term in read_terms(text)]  # noqa: E731
    assert shown("a * b") == ["a * b"]
    assert shown("a ** b + time") == ["a", "b", "a * b", "time"]
    assert shown("a ** b ** c") == ["a", "b", "c", "a * b", "a * c", "b * c", "a * b * c"]
    assert shown("a ** b * c") == ["a", "b * c", "a * b * c"]
    for text in ("a ** b + a", "a ** ", " ** ".join("abcdefg")):
        with pytest.raises(pt.SettingsError):
            read_terms(text)


def test_forecasts_use_what_is_known_ahead(rng: np.random.Generator) -> None:
    plan = rng.normal(size=130)
    y = 4 + 3 * plan[:100] - 0.5 * plan[:100] ** 2 + 0.2 * rng.normal(size=100)
    panel = pt.Panel.from_arrays({"a": y}, "2024-01-01", "1 day", covariates={"plan": ("known_ahead", {"a": plan})})
    fitted = pt.forecaster("regression", formula="plan + plan^2").fit(panel)
    assert fitted.parameters["plan^2"] == pytest.approx(-0.5, abs=0.1)
    with pytest.raises(pt.TooShortError, match="“plan” is known up to 2024-05-09"):
        fitted.forecast(40)
    forecast = fitted.forecast(30, levels=(0.95,))
    truth = 4 + 3 * plan[100:] - 0.5 * plan[100:] ** 2
    np.testing.assert_allclose(forecast.mean[0], truth, atol=0.3)
    table = fitted.contender.forecaster.coefficient_table(fitted.state, "a")
    assert [row.name for row in table] == ["intercept", "plan", "plan^2"]
    assert table[1].p < 1e-6 and table[1].inflation > 1
    sparse = pt.forecaster("regression", formula="plan + plan^2 + plan^3 + time", penalty="lasso").fit(panel)
    assert abs(sparse.parameters["time"]) < 1e-3
