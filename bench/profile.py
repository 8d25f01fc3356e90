"""All tests and features of 1,000 series of 1,000 points on two processes, against one pass of FFT.

.venv/bin/python bench/profile.py
"""

import os
import time

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

from concurrent.futures import ProcessPoolExecutor

import numpy as np

from proteron.core.panel import Panel
from proteron.core.profile import panel_features

SERIES, POINTS, PROCESSES = 1000, 1000, 2


def panel(seed: int, count: int) -> Panel:
    rng = np.random.default_rng(seed)
    at = np.arange(POINTS)
    series = {}
    for number in range(count):
        walk = rng.normal(size=POINTS).cumsum() * rng.uniform(0, 0.3)
        season = rng.uniform(0, 5) * np.sin(2 * np.pi * at / 12 + rng.uniform(0, 6))
        series[f"s{number}"] = 80 + walk + season + rng.normal(size=POINTS)
    return Panel.from_arrays(series, "1930-01-01", "1 month")


def work(seed: int, count: int) -> int:
    return sum(1 for _ in panel_features(panel(seed, count)))


def main() -> None:
    with ProcessPoolExecutor(PROCESSES) as pool:
        list(pool.map(work, range(PROCESSES), [2] * PROCESSES))  # compiled code is loaded
        parts = 20
        begun = time.perf_counter()
        done = sum(pool.map(work, range(parts), [SERIES // parts] * parts))
        mine = time.perf_counter() - begun
    table = np.random.default_rng(0).normal(size=(SERIES, POINTS))
    passes = []
    for _ in range(7):
        begun = time.perf_counter()
        np.fft.rfft(table, axis=1)
        passes.append(time.perf_counter() - begun)
    print(f"{done} series: {mine / np.median(passes):.0f} x an FFT pass over the panel ({mine:.1f} s here)")


if __name__ == "__main__":
    main()
