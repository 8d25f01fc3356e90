"""Windows: the supervised table a learner sees, and the proof that no row knows its future."""

import sys
from pathlib import Path

import pyarrow.parquet

import proteron as pt

folder = Path(sys.argv[1] if len(sys.argv) > 1 else "demo-files")  # made by: proteron demo --out demo-files

panel = pt.read_panel(
    folder / "port-ellery-hourly.csv", time="time", value="inflow_m3h", key="district", zone="Europe/Lisbon"
)
plan = pt.WindowPlan(
    lags=[1, 2, 24, 168],
    rolling=[pt.windows.Rolling("mean", 24), pt.windows.Rolling("std", 24)],
    calendar=["hour_of_day", "weekday"],
    horizon=[1, 24],
)
table = plan.cut(panel)
print(table.features.shape, table.names)
print(pt.leak_check(panel, plan, origins=5).evidence)
pyarrow.parquet.write_table(table.to_arrow(), folder / "windows.parquet")  # or pandas.DataFrame.from_arrow(table)
