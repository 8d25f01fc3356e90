"""Anomalies: what was not to be expected, as it would have been flagged by a moment."""

import sys
from pathlib import Path

import proteron as pt

folder = Path(sys.argv[1] if len(sys.argv) > 1 else "demo-files")  # made by: proteron demo --out demo-files

panel = pt.read_panel(
    folder / "port-ellery-hourly.csv", time="time", value="inflow_m3h", key="district", zone="Europe/Lisbon"
)
one = panel.select([0])
for mode in ("looking_back", "as_of"):
    found = pt.find_anomalies(one, mode, per_week=0.5, until="2024-06-01")
    print(f"{mode}: {found}")
    for flag in found:
        print(f"  {flag.sentence}")

drill = pt.drill(one, kinds=["level shift"], sizes=[3, 6], repeats=10, per_week=0.5, until="2024-06-01")
for sentence in drill.sentences:
    print(sentence)
