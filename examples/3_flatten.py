"""Flatten: a chain fitted on what is known, run on beyond it, and undone again."""

import sys
from pathlib import Path

import numpy as np

import proteron as pt

folder = Path(
    sys.argv[1] if len(sys.argv) > 1 else "demo-files"
)  # made by: proteron demo --out demo-files, and 1_intake.py

panel = pt.read_panel(folder / "production.parquet")
chain = pt.Chain([pt.flatten.Log(), pt.flatten.LinearTrend(), pt.flatten.PeriodMeans(period=12)])
fitted = chain.fit(panel, until="2020-12")
flat = fitted.apply(panel)  # later months too, with what was learned by December 2020
back = fitted.undo(flat)
print("spread before and after:", np.nanstd(panel.values).round(1), np.nanstd(flat.values).round(4))
print("largest difference after undoing:", np.nanmax(np.abs(back.values / panel.values - 1)))
