"""The command line: serve, worker, read, windows, run, cell, demo, doctor."""

import os
import shutil
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Annotated

import typer

from proteron.core.errors import ProteronError

app = typer.Typer(
    no_args_is_help=True, add_completion=False, help="Proteron: honest forecasting of time series.",
    pretty_exceptions_show_locals=False,  # a traceback goes to a log, and locals hold the database's password
)  # fmt: skip


DEMO_PROJECT = "Port Ellery inflow"


def _has_project(url: str, name: str) -> bool:
    """Asked with the bare driver, so that a second start loads nothing heavy."""
    import psycopg

    with psycopg.connect(url) as connection:
        return connection.execute("SELECT 1 FROM project WHERE name = %s", (name,)).fetchone() is not None


@contextmanager
def _plain_errors() -> Iterator[None]:
    """Errors meant for people are one line on standard error and exit status 2."""
    try:
        yield
    except ProteronError as error:
        typer.echo(f"proteron: {error.message}", err=True)
        raise typer.Exit(2) from error


@app.command()
def serve(
    reset_demo: Annotated[bool, typer.Option("--reset-demo", help="Restore the demo project.")] = False,
    demo: Annotated[bool, typer.Option(help="Load the demo project where there is none.")] = True,
) -> None:
    """Start database, worker and web server; Ctrl-C stops all of them."""
    from proteron.cli.serve import Supervisor
    from proteron.records.configuration import configuration

    with _plain_errors():
        settings = configuration()
        os.environ.setdefault("NUMBA_CACHE_DIR", str(settings.home / "kernels"))
        Supervisor(settings).run(reset_demo, demo)


@app.command()
def worker() -> None:
    """Compute cells from the queue of PROTERON_DATABASE_URL, on this or another machine."""
    from proteron.records.configuration import configuration
    from proteron.runner.worker import run_worker

    with _plain_errors():
        settings = configuration()
        if not settings.database_url:
            raise ProteronError("Set PROTERON_DATABASE_URL to the database whose queue is to be worked on.")
        run_worker(settings.database_url, settings)


@app.command("compile")
def compile_kernels() -> None:
    """Compile every forecaster into the cache, as the first start does beside answering."""
    from proteron.cli.warm import compile_forecasters

    compile_forecasters()


@app.command()
def prepare(
    reset_demo: Annotated[bool, typer.Option("--reset-demo", help="Restore the demo project.")] = False,
    demo: Annotated[bool, typer.Option(help="Load the demo project where there is none.")] = True,
) -> None:
    """Bring the database of PROTERON_DATABASE_URL to the newest schema and load the demo."""
    from proteron.records.configuration import configuration
    from proteron.records.schema import upgrade

    with _plain_errors():
        settings = configuration()
        if not settings.database_url:
            raise ProteronError("Set PROTERON_DATABASE_URL to the database that is to be prepared.")
        upgrade(settings.database_url)
        if reset_demo or (demo and not _has_project(settings.database_url, DEMO_PROJECT)):
            from proteron.services.demo import load_demo

            load_demo(settings.database_url, settings)


@app.command()
def run(
    file: Annotated[Path, typer.Argument(help="The experiment file (TOML).")],
    out: Annotated[Path, typer.Option(help="Folder for the results.")],
    workers: Annotated[int | None, typer.Option(min=1, help="Processes; all cores if not given.")] = None,
) -> None:
    """Run an experiment file without web or database."""
    from proteron.cli.run_file import run_file

    with _plain_errors():
        outcome = run_file(file, out, workers)
    if not outcome.report.results:
        typer.echo("proteron: every cell failed; run.json has the reasons.", err=True)
        raise typer.Exit(1)


@app.command()
def forecast(
    file: Annotated[Path, typer.Argument(help="The experiment file (TOML).")],
    out: Annotated[Path, typer.Option(help="Folder for the results.")],
    using: Annotated[Path | None, typer.Option(help="What was learned before (learned.proteron).")] = None,
    also: Annotated[list[str] | None, typer.Option(help="parquet, xlsx, json or arrow beside the CSV.")] = None,
    workers: Annotated[int | None, typer.Option(min=1, help="Processes; all cores if not given.")] = None,
) -> None:
    """Forecast what comes after the data of an experiment file, by its outlook."""
    from proteron.cli.forecast_file import forecast_file

    with _plain_errors():
        forecast_file(file, out, using, workers, also or [])


@app.command()
def cell(
    source: Annotated[str, typer.Argument(help="An experiment file (TOML), or the number of a stored experiment.")],
    contender: Annotated[str, typer.Option(help="Its name.")],
    fold: Annotated[int, typer.Option(min=1, help="The fold, from 1.")] = 1,
    series: Annotated[str | None, typer.Option(help="A key; the first series if not given.")] = None,
    debug: Annotated[bool, typer.Option(help="Open the debugger where something goes wrong.")] = False,
) -> None:
    """Compute one cell of an experiment here, without queue or pool, and say what it found or where it failed."""
    from proteron.cli.one_cell import one_cell

    try:
        lines = one_cell(source, contender, fold, series)
    except Exception as error:
        if debug:
            import pdb  # what was asked for

            pdb.post_mortem(error.__traceback__)
        elif isinstance(error, ProteronError):
            typer.echo(f"proteron: {error.message}", err=True)
            raise typer.Exit(2) from error
        raise
    typer.echo("\n".join(lines))


FileToRead = Annotated[Path, typer.Argument(help="A table of time series: CSV, JSON lines, Parquet, Arrow, XLSX.")]
RecipeFile = Annotated[Path | None, typer.Option(help="A recipe or account (JSON) of an earlier reading.")]
Roles = Annotated[list[str] | None, typer.Option("--role", help="COLUMN=ROLE; may be given several times.")]
StepText = Annotated[
    str | None, typer.Option("--step", help="Such as “1 hour”, “business day of PT”; inferred if not given.")
]
ZoneText = Annotated[str | None, typer.Option("--zone", help="Such as Europe/Lisbon.")]
UnitText = Annotated[str | None, typer.Option("--unit", help="Such as m³/h.")]
EventsText = Annotated[
    str | None, typer.Option("--events", help="Bucket events: “1 hour” counts, “1 day sum” adds up.")
]
Remedies = Annotated[list[str] | None, typer.Option("--remedy", help="FINDING=REMEDY; may be given several times.")]


@app.command()
def read(
    file: FileToRead,
    out: Annotated[Path | None, typer.Option(help="The dataset: .csv, .jsonl, .parquet, .arrow or .xlsx.")] = None,
    account: Annotated[Path | None, typer.Option(help="The account (JSON), to be replayed by --recipe.")] = None,
    recipe: RecipeFile = None,
    role: Roles = None,
    step: StepText = None,
    zone: ZoneText = None,
    unit: UnitText = None,
    events: EventsText = None,
    remedy: Remedies = None,
) -> None:
    """Read a file as the Intake room does: say what was found and done, and write the dataset where asked."""
    from proteron.cli.read_file import Asked, read_file

    asked = Asked(recipe, tuple(role or ()), step, zone, unit, events, tuple(remedy or ()))
    with _plain_errors():
        typer.echo("\n".join(read_file(file, out, account, asked)))


@app.command()
def windows(
    file: FileToRead,
    plan: Annotated[str, typer.Option(help="The plan as text, such as “lags 1-24; mean 24; ahead 1-6”.")],
    out: Annotated[Path, typer.Option(help="The table: .parquet, .arrows, .csv or .npz.")],
    shares: Annotated[
        tuple[float, float, float] | None, typer.Option(help="Train, validation and test, as a column “part”.")
    ] = None,
    card: Annotated[Path | None, typer.Option(help="Also write what the table is, as JSON.")] = None,
    check: Annotated[bool, typer.Option(help="Look for leaks first; nothing is written where one is found.")] = False,
    recipe: RecipeFile = None,
    role: Roles = None,
    step: StepText = None,
    zone: ZoneText = None,
    events: EventsText = None,
    remedy: Remedies = None,
) -> None:
    """Cut the supervised table of a file of series and write it, without web or database."""
    from proteron.cli.cut_windows import cut_windows
    from proteron.cli.read_file import Asked

    asked = Asked(recipe, tuple(role or ()), step, zone, None, events, tuple(remedy or ()))
    with _plain_errors():
        typer.echo(cut_windows(file, plan, out, shares, card, check, asked))


@app.command()
def watch(
    file: FileToRead,
    state: Annotated[Path, typer.Option(help="Where what is known is kept; made with the first file.")],
    out: Annotated[Path | None, typer.Option(help="Where all flags go: .csv, .json or .parquet.")] = None,
    per_week: Annotated[float | None, typer.Option(help="Flags a week and series.")] = None,
    per_thousand: Annotated[float | None, typer.Option(help="Flags in 1,000 points.")] = None,
    threshold: Annotated[float | None, typer.Option(help="In spreads, in the place of a budget.")] = None,
    delay: Annotated[int, typer.Option(help="Points after a point before it is decided.")] = 2,
    recipe: RecipeFile = None,
    role: Roles = None,
    step: StepText = None,
    zone: ZoneText = None,
    remedy: Remedies = None,
) -> None:  # fmt: skip
    """Watch series for anomalies: take what is new of a file point by point, say what is raised, and keep the state."""
    from proteron.cli.read_file import Asked
    from proteron.cli.watch_file import watch_file

    asked = Asked(recipe, tuple(role or ()), step, zone, None, None, tuple(remedy or ()))
    budget = {"per_week": per_week, "per_thousand": per_thousand, "threshold": threshold, "delay": delay}
    with _plain_errors():
        typer.echo(watch_file(file, state, out, budget, asked))


@app.command()
def demo(out: Annotated[Path, typer.Option(help="Folder for the files.")], seed: int = 1871) -> None:
    """Write the Port Ellery demo files: data, truth and an example experiment."""
    from port_ellery import write_demo

    for path in write_demo(out, seed):
        typer.echo(path)


@app.command()
def schema() -> None:
    """Print the JSON Schema of the experiment file."""
    import json

    from proteron.core.experiment import Experiment

    typer.echo(json.dumps(Experiment.model_json_schema(), indent=1, ensure_ascii=False))


@app.command("openapi")
def openapi_document() -> None:
    """Print the OpenAPI document of the web API."""
    import json

    from proteron.api.application import create_application
    from proteron.records.configuration import configuration

    application = create_application(configuration(), "postgresql://nowhere")
    typer.echo(json.dumps(application.api_doc, indent=1, ensure_ascii=False, sort_keys=True))


@app.command()
def doctor() -> None:
    """Say what this installation has and what it lacks."""
    from proteron.api.application import PAGE
    from proteron.cli.cluster import Cluster
    from proteron.records.configuration import configuration

    settings = configuration()
    with _plain_errors():
        folder = Cluster(settings.home).folder
    lines = {
        "python": sys.version.split()[0],
        "home": str(settings.home),
        "address": f"http://{settings.host}:{settings.port}",
        "database": (settings.database_url and "as configured") or f"own cluster in {folder}",
        "front end": "built" if (PAGE / "index.html").exists() else "not built: ./run builds it",
        "node": shutil.which("node") or "missing (only needed to build the front end)",
    }
    for name, value in lines.items():
        typer.echo(f"{name:10} {value}")


if __name__ == "__main__":
    app()
