"""`proteron cell`: one cell computed here and now, for whoever wants to see why it fails or what it learned."""

import json
from pathlib import Path

import numpy as np

from proteron.core.errors import SettingsError
from proteron.core.experiment import Experiment, Judging
from proteron.core.judge import Cell, CellResult, Metric, compute_cells, metric_of
from proteron.core.panel import Floats, Panel


def one_cell(source: str, contender: str, fold: int, series: str | None) -> list[str]:
    """Compute it in this process and say what it found, a line each; what goes wrong is raised as it is.

    `source` is an experiment file, or the number of an experiment in the database that runs here; `fold` counts from 1.
    """
    judging, panel = _stored(int(source)) if source.isdigit() else _from_file(Path(source))
    cells = judging.cells(panel)
    cell = chosen(cells, panel, contender, fold, series)
    needed = [each for each in cells if each.key in cell.needs]
    return list(told(panel, compute_cells(panel, [*needed, cell])[-1]))


def chosen(cells: list[Cell], panel: Panel, contender: str, fold: int, series: str | None) -> Cell:
    """The cell that is meant; raises `SettingsError` with what there is."""
    index = 0 if series is None else panel.index(series)
    mine = [cell for cell in cells if cell.name == contender and index in cell.series]
    if not mine:
        names = ", ".join(dict.fromkeys(cell.name for cell in cells))
        raise SettingsError(f"There is no contender “{contender}”; there are: {names}.", field="contender")
    for cell in mine:
        if cell.fold == fold - 1:
            return cell
    raise SettingsError(f"There is no fold {fold}; there are {len(mine)}.", field="fold")


def told(panel: Panel, result: CellResult) -> list[str]:
    """What a cell found, in lines: where it stands, what was learned, its mean loss by metric, what was declined."""
    cell, place = result.cell, result.cell.place
    known_until = np.datetime_as_string(panel.axis.times(np.array([place.cutoff - 1]))[0])
    lines = [
        f"cell       {cell.key}",
        f"contender  {json.dumps(cell.contender.document())}",
        f"cutoff     {known_until}, fold {cell.fold + 1}, seed {cell.seed}",
        f"took       {result.seconds:.3f} s",
    ]
    summaries = result.fitted(place.inside(panel.select(cell.series)).cut_at(place.fit_until)).summary
    for at, index in enumerate(cell.series):
        key = panel.keys[index]
        lines.append(f"{key}: {result.declined.get(key) or summaries[key]}")
        known = [(metric, values[at]) for name, values in result.losses.items() if (metric := metric_of(name))]
        means = [f"{metric.name} {_reported(metric, metric.point(values)):.6g}" for metric, values in known]
        lines.append("  " + ", ".join(means))
    return lines


def _reported(metric: Metric, losses: Floats) -> float:
    known = losses[np.isfinite(losses)]
    return float(metric.told(known.mean())) if len(known) else float("nan")


def _from_file(path: Path) -> tuple[Judging, Panel]:
    experiment = Experiment.load(path)
    return experiment, experiment.read(path.parent).panel


def _stored(number: int) -> tuple[Judging, Panel]:
    from proteron.cli.cluster import Cluster
    from proteron.records.configuration import configuration
    from proteron.records.database import Database
    from proteron.records.datasets import load_panel
    from proteron.records.experiments import get_experiment
    from proteron.services.experiments import judging_of

    settings = configuration()
    url = settings.database_url or Cluster(settings.home).running_url()
    if not url:
        raise SettingsError("No database runs here; start Proteron, or set PROTERON_DATABASE_URL.")
    with Database(url).session() as session:
        experiment = get_experiment(session, number)
        return judging_of(experiment), load_panel(session, experiment.dataset_id)
