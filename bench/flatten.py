"""How fast decompositions and chains are: ratios to one pass of FFT over the same values, medians of repeats.

.venv/bin/python bench/flatten.py
"""

import os
import time

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

from collections.abc import Callable

import numpy as np

from proteron.core.flatten import Chain, LinearTrend, LoessSeasons, Log, ZScore, decompose, fit_line
from proteron.core.panel import Panel

REPEATS = 7


def median_seconds(work: Callable[[], object], repeats: int = REPEATS) -> float:
    times = []
    for _ in range(repeats):
        begun = time.perf_counter()
        work()
        times.append(time.perf_counter() - begun)
    return float(np.median(times))


def report(name: str, work: Callable[[], object], yardstick: Callable[[], object], repeats: int = REPEATS) -> None:
    work()
    mine, theirs = median_seconds(work, repeats), median_seconds(yardstick, repeats)
    print(f"{name:58s} {mine / theirs:9.1f} x an FFT pass   ({mine:.3f} s here)")


def main() -> None:
    rng = np.random.default_rng(1)
    hours = np.arange(20_000)
    hourly = 60 + 0.001 * hours + rng.normal(size=len(hours))
    for period, swing in ((24, 10), (168, 5), (8766, 8)):
        hourly += swing * np.sin(2 * np.pi * hours / period)
    hourly[rng.choice(len(hours), 400, replace=False)] += 80
    one_pass = lambda: np.fft.rfft(hourly)  # noqa: E731
    for name, settings in (
        ("robust, three seasons, 20,000 h, fixed figures", {}),
        ("robust, three seasons, 20,000 h, changing figures", {"season_window": 13}),
        ("plain, three seasons, 20,000 h, changing figures", {"season_window": 13, "robust": False}),
    ):
        report(name, lambda settings=settings: decompose(hourly, (24, 168, 8766), **settings), one_pass)
    panel = [100 + rng.normal(size=200).cumsum() + np.tile(rng.normal(size=12), 17)[:200] for _ in range(1000)]
    table = np.array(panel)
    all_passes = lambda: np.fft.rfft(table, axis=1)  # noqa: E731
    report("robust, 1,000 monthly series of 200", lambda: [decompose(each, (12,)) for each in panel], all_passes, 3)
    for method in ("theil_sen", "huber", "tukey", "least_trimmed"):
        report(f"line through 20,000 points, {method}", lambda method=method: fit_line(hours, hourly, method), one_pass)
    one = Panel.from_arrays({"a": hourly}, "2022-01-01", "1h")
    chain = Chain([Log(), LinearTrend(method="tukey"), LoessSeasons(periods=(24, 168)), ZScore()])
    report("chain of four stages fitted on 20,000 points", lambda: chain.fit(one, 15_000), one_pass)


if __name__ == "__main__":
    main()
