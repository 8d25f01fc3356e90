"""Outlook: the forecast from everything known, with ranges earned out of sample, kept for later without pickle."""

import sys
from pathlib import Path

import proteron as pt

folder = Path(
    sys.argv[1] if len(sys.argv) > 1 else "demo-files"
)  # made by: proteron demo --out demo-files, and 1_intake.py

panel = pt.read_panel(folder / "production.parquet")
contender = pt.forecaster("smoothing")
report = pt.walk_forward(panel, {"smoothing": contender}, pt.Folds.expanding(count=12, horizon=6), baseline="smoothing")
view = pt.outlook(panel, contender, report.results, horizon=6, levels=(0.8, 0.95))
print(view)
for step, mean in enumerate(view.mean[0]):
    low, high = view.lower[0.8][0, step], view.upper[0.8][0, step]
    print(f"  +{step + 1}: {mean:,.0f}, and with 80 % between {low:,.0f} and {high:,.0f}")

year = view.total(by="1 year", over={"all of it": view.keys})
low, high = year.lower[0.8][0, 0], year.upper[0.8][0, 0]
print(f"this year with what is known: {year.mean[0, 0]:,.0f}, between {low:,.0f} and {high:,.0f}")
print(view.sentence(), view.paragraph(), sep="\n")

before = pt.outlook(panel, contender, horizon=6, until=panel.end - 6)
print(before.fared(panel).in_words(before.keys, [str(each)[:7] for each in before.times]))

pt.save_fitted(view.fitted, folder / "smoothing.proteron")
same = pt.load_fitted(folder / "smoothing.proteron")
assert (same.forecast(6).mean == view.fitted.forecast(6).mean).all()
