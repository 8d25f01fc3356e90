"""`proteron run`: an experiment file to a folder of results, without web or database."""

import json
import os
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq
from rich.console import Console
from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeElapsedColumn
from rich.table import Table as RichTable

from proteron.core.csv_tables import csv_bytes
from proteron.core.experiment import Experiment, Outcome, run_experiment
from proteron.core.judge import Cell
from proteron.core.judge.deceptions import caution_of
from proteron.core.search import Tidings
from proteron.services.report import Provenance, report_content, report_page


def run_file(path: Path, out: Path, workers: int | None = None) -> Outcome:
    """Run the file and write its results to `out`: board.json, board.csv, forecasts.parquet, report.html, run.json,
    search.csv, search.json, forecast.csv, flags.csv and windows.csv."""
    experiment = Experiment.load(path)
    out.mkdir(parents=True, exist_ok=True)
    columns = (TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), TimeElapsedColumn())
    console = Console(stderr=True)
    with Progress(*columns, console=console) as progress:
        task = progress.add_task("reading", total=None)

        def tick(done: int, total: int, cell: Cell, reason: str | None) -> None:
            progress.update(task, completed=done, total=total, description=f"{cell.name}, fold {cell.fold + 1}")
            if reason:
                progress.console.print(f"{cell.name}, fold {cell.fold + 1}: {reason}", style="yellow")

        def heard(told: Tidings) -> None:
            best = "" if told.best is None else f", best {told.best} {told.best_error:.3f}"
            shown = f"search, {told.tried} tried, {told.fits} fits{best}"
            progress.update(task, completed=told.seconds, total=_seconds(experiment), description=shown)
            if best and not console.is_terminal:
                console.print(shown, markup=False)
            if told.reason:
                progress.console.print(f"{told.name}: {told.reason}", style="yellow", markup=False)

        outcome = run_experiment(experiment, path.parent, workers or os.cpu_count() or 1, tick, heard)
        progress.update(task, description="done")
    write_outcome(experiment, outcome, out)
    write_report(experiment, outcome, path, out)
    for finding in outcome.reading.unsettled:
        console.print(f"{finding.id}: {finding.message}", style="yellow", markup=False)
    if outcome.search is not None:
        console.print(outcome.search.summary, markup=False)
    console.print(_summary(outcome))
    return outcome


def write_outcome(experiment: Experiment, outcome: Outcome, out: Path) -> None:
    """Every result as a file in `out`."""
    report = outcome.report
    _json(out / "board.json", report.board.documents)
    _csv(out / "board.csv", report.board.to_arrow())
    facts = {
        "dataset": outcome.reading.panel.hash,
        "account": outcome.reading.account,
        "findings": [f.document() for f in outcome.reading.findings],
        "failures": report.failures,
        "seed": experiment.seed,
        "outlook_by": outcome.forecast_by,
    }
    _json(out / "run.json", facts)
    if outcome.search is not None:
        _csv(out / "search.csv", outcome.search.to_arrow())
        _json(out / "search.json", outcome.search.document)
    if outcome.forecast is not None:
        _csv(out / "forecast.csv", outcome.forecast.to_arrow())
    if outcome.anomalies is not None:
        _csv(out / "flags.csv", outcome.anomalies.to_arrow())
    if experiment.windows is not None:
        _csv(out / "windows.csv", experiment.windows.cut(outcome.reading.panel).to_arrow())


def _seconds(experiment: Experiment) -> float | None:
    return None if experiment.search is None else experiment.search.seconds


def write_report(experiment: Experiment, outcome: Outcome, source: Path, out: Path) -> None:
    """All forecasts as one table, and the report."""
    report = outcome.report
    pq.write_table(report.table(), out / "forecasts.parquet")
    if not report.results:
        return
    made = Provenance(
        experiment.name, experiment.data.file, report.panel.hash, source.read_text("utf-8"), experiment.seed
    )  # fmt: skip
    skills = {row.contender: row.skill for row in report.board}
    content = report_content(
        report.panel, report.folds, report.board, report.deceptions, caution_of(skills, report.deceptions),
        report.skill_losses, report.results, made,
    )  # fmt: skip
    (out / "report.html").write_text(report_page(content), "utf-8")


def _json(path: Path, content: Any) -> None:
    path.write_text(json.dumps(content, indent=1, ensure_ascii=False) + "\n", "utf-8")


def _csv(path: Path, table: pa.Table) -> None:
    path.write_bytes(csv_bytes(table))


def _summary(outcome: Outcome) -> RichTable:
    table = RichTable("contender", "skill", "95 % interval", *outcome.report.metrics, "CPU s")
    for row in outcome.report.board:
        interval = "–" if row["skill_low"] is None else f"{row['skill_low']:+.3f} … {row['skill_high']:+.3f}"
        errors = ["–" if row[metric] is None else f"{row[metric]:.4g}" for metric in outcome.report.metrics]
        skill = "–" if row["skill"] is None else f"{row['skill']:+.3f}"
        table.add_row(row["contender"], skill, interval, *errors, f"{row['cpu_seconds']:.1f}")
    table.caption = "\n".join(outcome.report.board.notes)
    return table
