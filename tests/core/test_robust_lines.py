"""Lines through outliers: published fits, slow twins, and how little gross errors move them."""

import itertools

import numpy as np
import pytest

from proteron.core.errors import InputError, SettingsError, TooShortError
from proteron.core.flatten import fit_line
from proteron.core.flatten.robust_lines import median_slope, regress

# Rousseeuw & Leroy 1987, table 2: international calls from Belgium, 1950 to 1973; other units 1964 to 1969.
YEARS = np.arange(50.0, 74.0)
CALLS = np.array([
    4.4, 4.7, 4.7, 5.9, 6.6, 7.3, 8.1, 8.8, 10.6, 12.0, 13.5, 14.9, 16.1, 21.2, 119.0, 124.0, 142.0, 159.0, 182.0,
    212.0, 43.0, 24.0, 27.0, 29.0,
])  # fmt: skip


@pytest.mark.parametrize(
    ("method", "slope", "intercept", "near"),
    [  # Venables & Ripley 2002, section 6.5
        ("least_squares", 5.041, -260.059, 0.001),
        ("huber", 2.041, -102.62, 0.005),
        ("tukey", 1.098, -52.302, 0.001),
    ],
)
def test_published_fits_of_a_contaminated_series(method: str, slope: float, intercept: float, near: float) -> None:
    line = fit_line(YEARS, CALLS, method)
    assert line.slope == pytest.approx(slope, abs=near)
    assert line.intercept == pytest.approx(intercept, abs=60 * near)
    assert line.converged


def test_trimmed_squares_leave_the_contaminated_years_out() -> None:
    line = fit_line(YEARS, CALLS, "least_trimmed")
    assert set(YEARS[line.weights == 0]) >= set(range(64, 71))
    assert line.slope == pytest.approx(1.10, abs=0.03)  # Rousseeuw & Leroy 1987, p. 26: 0.110 in tens of millions


def test_the_median_slope_of_sen_1968() -> None:
    x, y = np.array([1.0, 2, 3, 4, 10, 12, 18]), np.array([9.0, 15, 19, 20, 45, 55, 78])
    assert median_slope(x, y) == 4.0


@pytest.mark.parametrize("count", [401, 402, 900])
def test_counting_inversions_finds_the_same_median_as_all_pairs(rng: np.random.Generator, count: int) -> None:
    x = np.sort(rng.normal(size=count))
    y = 0.3 * x + rng.standard_cauchy(count)
    slopes = [(y[j] - y[i]) / (x[j] - x[i]) for i, j in itertools.combinations(range(count), 2)]
    assert median_slope(x, y) == pytest.approx(np.median(slopes), rel=1e-10)


def test_fifteen_per_cent_gross_outliers_hardly_move_robust_slopes(rng: np.random.Generator) -> None:
    """200 points, unit noise, 30 of them 20 to 40 spreads too high: mean shift of the slope over 300 series
    below 5 % of the standard deviation that least squares has on clean data."""
    count, series = 200, 300
    at = np.arange(count, dtype=float)
    bound = 1 / np.sqrt(((at - at.mean()) ** 2).sum())
    shifts: dict[str, list[float]] = {"tukey": [], "least_trimmed": [], "least_squares": []}
    for _ in range(series):
        clean = 3 + 0.02 * at + rng.normal(size=count)
        spoiled = clean.copy()
        chosen = rng.choice(count, 30, replace=False)
        spoiled[chosen] += rng.uniform(20, 40, size=30)
        for method, each in shifts.items():
            each.append(fit_line(at, spoiled, method).slope - 0.02)
    error_of_mean = {method: np.std(each) / np.sqrt(series) for method, each in shifts.items()}
    for method in ("tukey", "least_trimmed"):
        assert abs(np.mean(shifts[method])) < 0.05 * bound + 2 * error_of_mean[method]
        assert np.std(shifts[method]) < 1.3 * bound
    assert np.std(shifts["least_squares"]) > 5 * bound  # the plain line is bent


def test_spikes_at_one_end_do_not_turn_the_line(rng: np.random.Generator) -> None:
    at = np.arange(100.0)
    values = 5 + 0.1 * at + rng.normal(size=100)
    values[85:] -= 200
    for method in ("tukey", "least_trimmed", "theil_sen"):
        assert fit_line(at, values, method).slope == pytest.approx(0.1, abs=0.25 if method == "theil_sen" else 0.02)
    assert fit_line(at, values).slope < -1


def test_regression_solves_the_estimating_equations(rng: np.random.Generator) -> None:
    """At the solution the weighted residuals are orthogonal to every column."""
    design = np.column_stack([np.ones(300), rng.normal(size=(300, 3))])
    values = design @ [1, 2, -1, 0.5] + rng.standard_t(2, size=300)
    for loss in ("squared", "huber", "tukey"):
        fit = regress(design, values, loss)
        residuals = values - design @ fit.weights
        assert np.abs(design.T @ (fit.case_weights * residuals)).max() < 1e-4 * 300


def test_degenerate_lines_have_a_defined_answer() -> None:
    for method in ("least_squares", "theil_sen", "huber", "tukey", "least_trimmed"):
        exact = fit_line(np.arange(9.0), 2 - np.arange(9.0), method)
        assert exact.slope == pytest.approx(-1)
        assert fit_line([0.0, 1, 2, 3], [5.0, 5, 5, 5], method).slope == pytest.approx(0, abs=1e-12)
    with pytest.raises(TooShortError):
        fit_line([0.0, 1.0], [np.nan, 1.0])
    with pytest.raises(InputError):
        fit_line([2.0, 2.0], [0.0, 1.0])
    with pytest.raises(SettingsError):
        fit_line([0.0, 1.0], [0.0, 1.0], "quantum")  # type: ignore[arg-type]
