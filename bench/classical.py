"""How fast the classical contenders fit, against one pass or one likelihood of their own.

.venv/bin/python bench/classical.py
"""

import statistics
import time
from collections.abc import Callable

import numpy as np
from scipy import linalg

import proteron as pt
from proteron.core.forecasters.arima import Orders, fit_arima
from proteron.core.forecasters.arima.filters import whiten
from proteron.core.forecasters.arima.polynomials import expanded
from proteron.core.forecasters.regression import least_squares
from proteron.core.forecasters.smoothing import Form, admissible_forms, choose_form, fit_form
from proteron.core.forecasters.smoothing.kernels import smooth


def seconds(work: Callable[[], object], repeats: int = 9) -> float:
    work()
    times = []
    for _ in range(repeats):
        begun = time.perf_counter()
        work()
        times.append(time.perf_counter() - begun)
    return statistics.median(times)


def say(what: str, value: float, unit: str) -> None:
    print(f"{what:58}{value:10.2f} {unit}")


def main() -> None:
    rng = np.random.default_rng(0)
    _smoothing(rng)
    _arima(rng)
    design = rng.normal(size=(100_000, 60))
    target = design @ rng.normal(size=60) + rng.normal(size=100_000)
    bare = seconds(lambda: linalg.qr(design, mode="economic", check_finite=False), 5)
    say("least squares, 100,000 × 60", seconds(lambda: least_squares(design, target), 5) / bare, "× the QR")


def _passes(values: np.ndarray, period: int, weights: np.ndarray, start: np.ndarray, room: list[np.ndarray]):
    return lambda: [smooth(values, 1, 1, period, weights, start, *room) for _ in range(200)]


def _fit(values: np.ndarray, form: Form, period: int):
    return lambda: fit_form(values, form, period)


def _smoothing(rng: np.random.Generator) -> None:
    n, period = 1000, 12
    season = 8 * np.sin(np.arange(n) * 2 * np.pi / period)
    noise = rng.normal(size=n)
    made = {
        "a walk": 100 + noise.cumsum() + season, "a walk seen with noise": 100 + 0.3 * noise.cumsum() + season
        + rng.normal(size=n), "a line": 100 + 0.2 * np.arange(n) + season + 3 * noise,
        "a season that changes": 100 + season * (1 + np.arange(n) / 600) + noise,
    }  # fmt: skip
    form = Form("additive", "additive", "additive")
    for name, values in made.items():
        fitted = fit_form(values, form, period)
        weights = fitted.weights * [1, 1 / fitted.weights[0], 1, 1]
        room = [np.empty(n), np.empty(n + 1), np.empty(n + 1), np.empty(n + period)]
        one = seconds(_passes(values, period, weights, fitted.start, room)) / 200
        say(f"smoothing pass, season included, {name}", 1e9 * one / n, "ns a point")
        say(f"whole fit of 1,000 points, {name}", seconds(_fit(values, form, period)) / one, "passes")
    values = made["a walk"]
    monthly = np.abs(values[:150])
    forms = admissible_forms(monthly, period)
    say(f"{len(forms)} forms of 150 monthly points", 1e3 * seconds(lambda: choose_form(monthly, forms, period)), "ms")


def _arima(rng: np.random.Generator) -> None:
    ar = expanded(np.array([0.5, 0.2]), np.array([0.3]), 12, -1.0)
    ma = expanded(np.array([0.4, 0.1]), np.array([-0.5]), 12, 1.0)
    column, white = rng.normal(size=(200, 1)), np.empty((200, 1))
    like = seconds(lambda: [whiten(column, ar, ma, white) for _ in range(200)]) / 200
    say("exact likelihood (2, 2) (1, 1) per 12, 200 points", 1e6 * like, "µs")
    shocks, x = rng.normal(size=420), np.zeros(420)
    for t in range(14, 420):
        x[t] = 0.5 * x[t - 1] + shocks[t] + 0.4 * shocks[t - 1] - 0.5 * shocks[t - 12]
    series, orders = np.cumsum(x[207:]), Orders(2, 1, 2, 1, 1, 1, 12)
    found = fit_arima(series, orders, with_errors=False)
    whole = seconds(lambda: fit_arima(series, orders, with_errors=False))
    say("whole seasonal fit, evaluations made", found.calls, "")
    say("whole seasonal fit, its time", whole / like, "likelihoods")
    monthly = 100 + np.cumsum(rng.normal(size=150)) + 8 * np.sin(np.arange(150) * 2 * np.pi / 12)
    panel = pt.Panel.from_arrays({"a": monthly}, "2010-01-01", "1 month")
    model = pt.forecaster("arima")
    tried = len(model.fit(panel).state.facts["series"]["a"]["tried"])
    say(f"order search, 150 monthly points, {tried} models", 1e3 * seconds(lambda: model.fit(panel), 3), "ms")


if __name__ == "__main__":
    main()
