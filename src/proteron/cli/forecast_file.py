"""`proteron forecast`: the outlook of an experiment file to a folder, without web or database."""

import json
import os
from collections.abc import Sequence
from pathlib import Path

from rich.console import Console

from proteron.core.errors import SettingsError
from proteron.core.experiment import Experiment, forecast_experiment
from proteron.core.outlook import Outlook, load_learned, save_learned
from proteron.core.table_files import FORMATS

_SAID = 3  # series, in words


def forecast_file(path: Path, out: Path, using: Path | None, workers: int | None, also: Sequence[str] = ()) -> Outlook:
    """Write to `out`: forecast.csv, the same in other formats, outlook.json, and learned.proteron, which `using` takes
    at another time."""
    unknown = [each for each in also if each not in FORMATS]
    if unknown:
        raise SettingsError(f"“{unknown[0]}” is no format to write; there are: {', '.join(FORMATS)}.", field="also")
    learned = None if using is None else load_learned(using)
    view, by = forecast_experiment(Experiment.load(path), path.parent, workers or os.cpu_count() or 1, learned)
    out.mkdir(parents=True, exist_ok=True)
    for ending in dict.fromkeys(("csv", *also)):
        view.write(out / f"forecast.{ending}")
    facts = json.dumps({"by": by, **view.about}, indent=1, ensure_ascii=False)
    (out / "outlook.json").write_text(f"{facts}\n", "utf-8")
    save_learned(view, out / "learned.proteron")
    console = Console(stderr=True)
    for note in view.notes:
        console.print(note, style="yellow", markup=False)
    for key in view.keys[:_SAID]:
        console.print(view.paragraph(key, unit=view.known.unit or ""), markup=False)
    return view
