"""How well faults are found that are known: looking back and as-of, with and without parts of the detector; speed.

Run as `python bench/anomalies.py [count]`; series are made up and published ones, faults are planted by the tests' own
rules. Nothing here is a bar that a test asserts.
"""

import sys
import time
from collections.abc import Callable
from pathlib import Path
from unittest.mock import patch

import numpy as np

import proteron as pt
from proteron.core.detection import exact, joint
from proteron.core.detection.as_of import Watch
from proteron.core.detection.joint import look_back
from proteron.core.panel import Floats

sys.path.append(str(Path(__file__).parents[1] / "tests" / "core"))
from labelled import FIRST, SEASONS, SECOND, Found, Labelled, Span, bank, tally

STEPS = {seasons: f"1 {step}" for step, seasons in SEASONS.items()}


def finder(mode: str, **budget: float) -> Found:
    """Flags of the detector as it stands."""

    def find(values: Floats, seasons: tuple[int, ...]) -> list[Span]:
        panel = pt.Panel.from_arrays({"a": values}, "2001-01-01", STEPS[seasons])
        return [(flag.start, flag.stop, flag.kind) for flag in pt.find_anomalies(panel, mode, **budget)]

    return find


def show(title: str, series: list[Labelled], find: Found) -> None:
    """A line of the table."""
    since = time.process_time()
    found = tally(series, find)
    print(
        f"{title:34s} {found.event_f1:.3f}  {found.point_f1:.3f}  {found.found / found.faults:6.1%}"
        f"  {found.named / max(found.found, 1):6.1%}  {found.false_per_thousand:5.2f}"
        f"  {time.process_time() - since:6.1f}", flush=True,
    )  # fmt: skip


def ablations() -> dict[str, Callable[[], object]]:
    """Parts taken out."""
    return {
        "without exact copies": lambda: patch.object(exact, "copies", lambda values, seasons: []),
        "without steps": lambda: patch.object(joint, "STEP_PRICE", 1e9),
        "one pass": lambda: patch.object(joint, "_PASSES", (1.0,)),
        "untrimmed": lambda: patch.object(joint, "_blamed", lambda back, square: slice(0, len(back))),
    }


def main() -> None:
    """Print the tables."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 60
    for name, kinds in (("first", FIRST), ("second", SECOND)):
        series = bank(kinds, count)
        print(f"{name} kinds, {len(series)} series\n{'':34s} event  point  recall   named  false    CPU s")
        for mode in ("looking_back", "as_of"):
            show(mode, series, finder(mode))
            show(f"{mode}, 10 per 1,000", series, finder(mode, per_thousand=10))
        for title, taken_out in ablations().items():
            with taken_out():  # type: ignore[attr-defined]
                show(title, series, finder("looking_back"))
    rng, at = np.random.default_rng(0), np.arange(20_000)
    values = 100 + 10 * np.sin(at * np.pi / 12) + rng.normal(size=len(at))
    values[::1000] += 20
    look_back(values, 0, (24, 168))
    since = time.perf_counter()
    look_back(values, 0, (24, 168))
    print(f"looking back: {len(values) / (time.perf_counter() - since):,.0f} points a second")
    watch = Watch(0, (24, 168))
    watch.add(values[:4000])
    since = time.perf_counter()
    for each in values[4000:8000]:
        watch.add(np.array([each]))
    print(f"as-of: {(time.perf_counter() - since) / 4:.3f} ms a point, one by one")


if __name__ == "__main__":
    main()
