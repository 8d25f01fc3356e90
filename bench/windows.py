"""How fast a window table is cut, against a fresh copy of memory of the table's size.

.venv/bin/python bench/windows.py
"""

import gc
import statistics
import time
from collections.abc import Callable

import numpy as np

from proteron import Panel, WindowPlan
from proteron.core.windows import CovariateSteps, Fourier, Rolling
from proteron.core.windows.rolling import extremes
from proteron.core.windows.rolling_kernels import (
    known_moments,
    rolling_moments,
    rolling_quantile,
    weighted_means,
    weighted_moments,
)

REPEATS = 7


def seconds(work: Callable[[], object]) -> float:
    begun = time.perf_counter()
    result = work()
    passed = time.perf_counter() - begun
    del result
    return passed


def compare(title: str, work: Callable[[], object], yardstick: Callable[[], object]) -> None:
    """Median of pairwise ratios, the two run in turn."""
    work(), yardstick()
    ratios = []
    for _ in range(REPEATS):
        gc.collect()
        ratios.append(seconds(work) / seconds(yardstick))
    print(f"{title:60} {statistics.median(ratios):6.2f} × the copy  ({min(ratios):.2f} … {max(ratios):.2f})")


def main() -> None:
    rng = np.random.default_rng(0)
    plan = WindowPlan(lags=range(1, 65))
    one = Panel.from_arrays({"a": rng.normal(size=1_000_000)}, "1990-01-01", "1h")
    many = Panel.from_arrays({str(i): rng.normal(size=1_000) for i in range(1_000)}, "1990-01-01", "1h")
    for title, panel in (("64 lags of 1,000,000 points", one), ("64 lags of 1,000 series × 1,000 points", many)):
        table = plan.cut(panel).features
        compare(title, lambda panel=panel: plan.cut(panel), table.copy)
        single = plan.cut(panel, precision="float32").features
        compare(f"{title}, float32", lambda panel=panel: plan.cut(panel, precision="float32"), single.copy)
        del table
    _rolling(one)
    _plan(rng)


def _rolling(panel: Panel) -> None:
    """Rolling statistics of 1,000,000 points against a copy of the array."""
    values, offsets = panel.values, panel.offsets
    for window in (7, 24, 168):
        compare(f"rolling mean + std, {window}", lambda w=window: rolling_moments(values, offsets, w), values.copy)
        compare(
            f"rolling mean + std of known points, {window}",
            lambda w=window: known_moments(values, offsets, w, 1), values.copy,
        )  # fmt: skip
        compare(f"rolling min + max, {window}", lambda w=window: extremes(values, offsets, w, w), values.copy)
        compare(f"rolling median, {window}", lambda w=window: rolling_quantile(values, offsets, w, 0.5, w), values.copy)
    compare("exponentially weighted mean", lambda: weighted_means(values, offsets, 0.9), values.copy)
    compare("exponentially weighted mean + variance", lambda: weighted_moments(values, offsets, 0.9), values.copy)


def _plan(rng: np.random.Generator) -> None:
    """A plan of 24 lags, 12 rolling features, calendar, waves and 3 covariates over 8 x 17,520 hours."""
    series = {str(i): rng.normal(size=17_520) for i in range(8)}
    columns = {name: {key: rng.normal(size=17_520) for key in series} for name in ("a", "b", "c")}
    panel = Panel.from_arrays(series, "2023-01-01", "1h", "Europe/Lisbon", covariates=columns)
    plan = WindowPlan(
        lags=range(1, 25),
        rolling=[Rolling(each, window) for window in (6, 24, 168) for each in ("mean", "std", "min", "max")],
        calendar=["hour_of_day", "weekday"],
        more=[Fourier(period=8766, order=3)],
        covariates=[CovariateSteps(column=name, at=(0,)) for name in columns],
    )
    table = plan.cut(panel).features
    compare(f"plan of {len(plan.names)} features over 8 x 17,520 h", lambda: plan.cut(panel), table.copy)
    times = [seconds(lambda: plan.cut(panel)) for _ in range(REPEATS)]
    print(f"{'':60} {1000 * statistics.median(times):6.0f} ms here")


if __name__ == "__main__":
    main()
