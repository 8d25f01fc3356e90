"""Intake: what is in a file that lies, what is wrong with it, and a panel made of it twice over."""

import sys
from pathlib import Path

import numpy as np

import proteron as pt

folder = Path(sys.argv[1] if len(sys.argv) > 1 else "demo-files")  # made by: proteron demo --out demo-files

reading = pt.read_table(folder / "port-ellery-production.csv")
print(reading.panel)
for finding in reading.findings:
    print(f"  {finding.severity}: {finding.message}")

# Production below nothing is not a measurement: the account's recipe, with another remedy for that finding.
recipe = reading.account["recipe"]
recipe["remedies"]["negative: production"] = "missing"
clean = pt.read_table(folder / "port-ellery-production.csv", recipe=pt.Recipe.model_validate(recipe))
assert np.nanmin(clean.panel.values) > 0
again = pt.read_table(folder / "port-ellery-production.csv", recipe=pt.Recipe.model_validate(clean.account["recipe"]))
assert again.panel.hash == clean.panel.hash  # the same recipe on the same file gives the same data

pt.write_panel(clean.panel, folder / "production.parquet")
