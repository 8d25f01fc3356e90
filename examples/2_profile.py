"""Profile: what a series is, by the tests that say so and what is worth taking out."""

import sys
from pathlib import Path

import proteron as pt

folder = Path(
    sys.argv[1] if len(sys.argv) > 1 else "demo-files"
)  # made by: proteron demo --out demo-files, and 1_intake.py

panel = pt.read_panel(folder / "production.parquet")
values = panel[panel.keys[0]]
print("autocorrelation at 1 and 12:", pt.profile.acf(values, 12)[[1, 12]].round(3))
for test in (pt.profile.unit_root(values), pt.profile.stationarity(values), pt.profile.ljung_box(values, 12)):
    print(f"  {test.statistic:.2f}, p = {test.p_value:.3f}: {test.verdict}")
print("as of the 100th month:", pt.profile.series_features(panel.cut_at(100), 0))
