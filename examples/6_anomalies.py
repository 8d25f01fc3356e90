"""Anomalies: what was not to be expected, as it would have been flagged by a moment."""

import sys
from pathlib import Path

import proteron as pt

folder = Path(sys.argv[1] if len(sys.argv) > 1 else "demo-files")  # made by: proteron demo --out demo-files

panel = pt.read_panel(
    folder / "port-ellery-hourly.csv", time="time", value="inflow_m3h", key="district", zone="Europe/Lisbon"
)
one = panel.select([0])
found = pt.find_anomalies(one, "ridge", budget_per_week=0.1, until="2024-06-01")
print(found)
for flag in found:
    print(f"  {flag.key}, {flag.time}, {flag.stop - flag.start} h: {flag.kind}, score {flag.score:.1f}")
