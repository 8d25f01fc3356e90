"""How fast a window table is cut, against a fresh copy of memory of the table's size.

.venv/bin/python bench/windows.py
"""

import gc
import statistics
import time
from collections.abc import Callable

import numpy as np

from proteron import Panel, WindowPlan

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
        del table


if __name__ == "__main__":
    main()
