"""How far each family errs on small published series and on made-up ones, and how often its ranges hold.

Errors are those of forecasts from rolled origins, relative to the last value of the series without its season (mean of
the relative symmetric percentage error and the relative scaled error); ranges those of a contender as it stands.
Run as `python bench/accuracy.py [family …]`; nothing here is a bar that a test asserts.
"""

import sys
import time
import warnings
from pathlib import Path

import numpy as np

import proteron as pt

sys.path.append(str(Path(__file__).parents[1] / "tests" / "core"))
from relative_error import Series, measure, public_series

LOG = pt.Chain((pt.flatten.Log(),))
FIVE = {
    "smoothing": pt.forecaster("smoothing"), "smoothing on Log": pt.forecaster("smoothing", chain=LOG),
    "theta": pt.forecaster("theta", theta=None), "arima": pt.forecaster("arima"),
    "arima on Log": pt.forecaster("arima", chain=LOG),
}  # fmt: skip
FREE = {name: each.model_copy(update={"safeguards": False}) for name, each in FIVE.items()}
FAMILIES: dict[str, dict[str, object] | pt.Contender] = {
    **FIVE,
    **{f"{name}, free": each for name, each in FREE.items()},
    "mean of five": pt.blend(FIVE, "mean"),
    "mean of five, free": pt.blend(FREE, "mean", safeguards=False),
    "blend of five": pt.blend(FIVE),
    "blend of five, free": pt.blend(FREE, safeguards=False),
    "automatic": pt.forecaster("automatic", seconds=10),
    "smoothing, validation": {"kind": "smoothing", "choose_by": "validation"},
    "average": {"kind": "smoothing_average"},
    "theta, plain": {"kind": "theta"},
    "structural": {"kind": "structural"},
    "local level": {"kind": "local_level"},
    "local trend": {"kind": "local_trend"},
    "additive": {"kind": "additive"},
    "trend curve": {"kind": "trend_curve"},
    "last cycle": {"kind": "seasonal_last_value"},
}


def made_up(seed: int, count: int) -> list[Series]:
    """Series with levels, slopes and seasons that drift, grow and turn, by kinds that differ in how they do."""
    out = []
    for number in range(count):
        rng = np.random.default_rng([seed, number])
        step = ("month", "quarter", "year", "day", "hour")[number % 5]
        period = {"month": 12, "quarter": 4, "year": 1, "day": 7, "hour": 24}[step]
        length = {"month": 132, "quarter": 56, "year": 32, "day": 220, "hour": 24 * 21}[step]
        level, slope = 100.0, rng.normal(0, 0.4)
        drift, bend, keeps = rng.uniform(0.2, 2.5), rng.choice([0.0, 0.0, 0.1, 0.3]), rng.uniform(0.8, 1.0)
        levels = np.empty(length)
        for t in range(length):
            slope = keeps * slope + bend * rng.normal()
            level += slope + drift * rng.normal()
            levels[t] = level
        if rng.random() < 0.3:
            levels[rng.integers(length // 3, length) :] += rng.normal(0, 15)
        figure = rng.normal(0, rng.choice([0.0, 4.0, 12.0]), period)
        if step == "hour":
            figure = 20 * np.sin(2 * np.pi * (np.arange(24) + rng.integers(24)) / 24) + rng.normal(0, 3, 24)
        values = levels + np.resize(figure, length) + rng.normal(0, rng.choice([1.0, 4.0]), length)
        if rng.random() < 0.4:
            values = 100 * np.exp((values - 100) / 120)
        out.append((f"{step} {number}", step, values))
    return out


def main() -> None:
    """Print a table."""
    warnings.simplefilter("ignore")
    asked, told = [each for each in sys.argv[1:] if not each.startswith("-")], "-v" in sys.argv
    for title, bank in (("published", public_series()), ("made up", made_up(1, 60))):
        print(f"{title}: {len(bank)} series\n{'family':24s} error   80 %   95 %  declined  CPU s")
        for family, document in FAMILIES.items():
            if asked and family not in asked:
                continue
            since = time.process_time()
            found = measure(document, bank, print if told else lambda _line: None)
            seconds = time.process_time() - since
            held = found["held"]
            print(
                f"{family:24s} {found['error']:.3f}   {held[0]:.1%}  {held[1]:.1%}  {found['declined']:4d}"
                f"  {seconds:8.1f}", flush=True,
            )  # fmt: skip


if __name__ == "__main__":
    main()
