"""The command line: experiment files, the supervisor's manners, the demo."""

import hashlib
import html
import io
import json
import os
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import psutil
import pyarrow.csv as pa_csv
import pyarrow.parquet as pa_parquet
import pyarrow.parquet as pq
import pytest

import proteron as pt
from conftest import Stack, hourly_csv

ROOT = Path(__file__).resolve().parents[2]


def proteron(*arguments: str, **environment: str) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-m", "proteron.cli.main", *arguments]
    return subprocess.run(
        command, env={**os.environ, **environment}, capture_output=True, text=True, check=False, timeout=600
    )


def test_an_exported_experiment_gives_the_same_numbers_to_the_last_digit(stack: Stack, tmp_path: Path) -> None:
    project, dataset = stack.project(
        "export", hourly_csv(np.random.default_rng(5), 900), zone="Europe/Lisbon", unit="m³/h"
    )
    chain = [{"kind": "log"}, {"kind": "period_means", "period": "hour_of_day"}]
    entries = [
        {"name": "naive", "forecaster": {"kind": "seasonal_last_value"}},
        {
            "name": "ridge",
            "forecaster": {"kind": "ridge", "plan": {"lags": [1, 2, 24], "horizon": [1, 2, 3]}},
            "chain": chain,
        },
        {"name": "net", "forecaster": {"kind": "dense_network", "epochs": 3, "hidden": [8]}, "chain": chain},
    ]
    body = {"dataset_id": dataset, "seed": 7, "folds": {"count": 3, "horizon": 6, "gap": 1}, "contenders": entries}
    experiment = stack.ok("POST", f"/projects/{project}/experiments", body)["id"]
    stack.wait(f"/experiments/{experiment}", lambda e: e["state"] == "done")
    (tmp_path / "experiment.toml").write_bytes(stack.ok("GET", f"/experiments/{experiment}/experiment.toml"))
    (tmp_path / "data.csv").write_bytes(stack.ok("GET", f"/datasets/{dataset}/data.csv"))
    outcome = proteron("run", str(tmp_path / "experiment.toml"), "--out", str(tmp_path / "out"), "--workers", "2")
    assert outcome.returncode == 0, outcome.stderr
    asked = ("--contender", "ridge", "--fold", "2")
    stored = proteron("cell", str(experiment), *asked, PROTERON_HOME=str(stack.home), PROTERON_DATABASE_URL="")
    filed = proteron("cell", str(tmp_path / "experiment.toml"), *asked)
    lines = [[line for line in run.stdout.splitlines() if "took" not in line] for run in (stored, filed)]
    assert lines[0] == lines[1] and "fold 2" in filed.stdout and "mase 0." in filed.stdout, stored.stderr + filed.stderr
    for wrong, says in (
        (("--contender", "nobody"), "there are: naive, ridge, net"),
        ((*asked[:2], "--fold", "9"), "3"),
    ):
        refused = proteron("cell", str(tmp_path / "experiment.toml"), *wrong)
        assert refused.returncode == 2 and says in refused.stderr
    board = json.loads((tmp_path / "out" / "board.json").read_text())
    shown = stack.ok("GET", f"/experiments/{experiment}/board")["rows"]
    shown = [row | row.pop("errors") for row in shown]
    for row in [*board, *shown]:
        assert row.pop("seconds") > 0 and row.pop("cpu_seconds") > 0
    assert board == shown
    page = (tmp_path / "out" / "report.html").read_text()
    assert stack.ok("GET", f"/experiments/{experiment}/board")["verdict"] in html.unescape(page)
    by_web = pq.read_table(io.BytesIO(stack.ok("GET", f"/experiments/{experiment}/forecasts.parquet")))
    rows = [{tuple(row.values()) for row in each.to_pylist()}
            for each in (by_web, pq.read_table(tmp_path / "out" / "forecasts.parquet"))]  # fmt: skip
    assert rows[0] == rows[1] and rows[0]
    outlook = stack.ok(
        "POST",
        f"/experiments/{experiment}/outlooks",
        {"contender": json.loads((tmp_path / "out/run.json").read_text())["outlook_by"]},
    )["id"]
    stack.wait(f"/outlooks/{outlook}", lambda o: o["state"] == "done")
    by_web = [
        line.split(",") for line in stack.ok("GET", f"/outlooks/{outlook}/table?format=csv").decode().splitlines()[1:]
    ]
    by_file = [line.split(",") for line in (tmp_path / "out" / "forecast.csv").read_text().splitlines()[1:]]
    assert by_web == by_file
    _forecast_alike(tmp_path)
    (tmp_path / "data.csv").write_text((tmp_path / "data.csv").read_text().replace("50.", "51.", 1))
    refused = proteron("run", str(tmp_path / "experiment.toml"), "--out", str(tmp_path / "out"))
    assert refused.returncode == 2
    assert "not the data this experiment was made with" in refused.stderr


def _forecast_alike(folder: Path) -> None:
    """Forecasting alone gives the numbers of the whole run, and so does what it learned, to the last digit."""
    again, using = folder / "again", folder / "using"
    made = proteron("forecast", str(folder / "experiment.toml"), "--out", str(again))
    assert made.returncode == 0 and "is expected at" in made.stderr, made.stderr
    learned = str(again / "learned.proteron")
    made = proteron("forecast", str(folder / "experiment.toml"), "--out", str(using), "--using", learned,
                    "--also", "parquet", "--also", "xlsx")  # fmt: skip
    assert made.returncode == 0, made.stderr
    whole = (folder / "out" / "forecast.csv").read_bytes()
    assert (again / "forecast.csv").read_bytes() == whole == (using / "forecast.csv").read_bytes()
    told = pq.read_table(using / "forecast.parquet")
    assert json.loads(told.schema.metadata[b"about"])["horizon"] * len(set(told["key"].to_pylist())) == len(told)
    assert (using / "forecast.xlsx").read_bytes()[:2] == b"PK" and not (again / "forecast.parquet").exists()
    refused = proteron("forecast", str(folder / "experiment.toml"), "--out", str(using), "--also", "paper")
    assert refused.returncode == 2 and "“paper” is no format to write" in refused.stderr
    facts = json.loads((again / "outlook.json").read_text())
    assert (
        facts["errors"] == "walk-forward"
        and facts["by"] == json.loads((folder / "out/run.json").read_text())["outlook_by"]
    )
    refused = proteron(
        "forecast", str(folder / "experiment.toml"), "--out", str(using), "--using", str(folder / "data.csv")
    )
    assert refused.returncode == 2 and "learned outlook" in refused.stderr


@pytest.mark.parametrize(
    ("text", "sentence"),
    [
        ("not = [toml", "is not TOML"),
        ('[data]\nfile = "x.csv"\n', "contenders"),
        (
            '[data]\nfile = "x.csv"\n[[contenders]]\nname = "a"\nforecaster = { kind = "oracle" }\n',
            "contenders.0.forecaster",
        ),
        (
            '[data]\nfile = "x.csv"\n[[contenders]]\nname = "a"\nforecaster = { kind = "mean" }\n',
            "x.csv cannot be read",
        ),
    ],
)
def test_a_bad_experiment_file_is_one_clear_line(text: str, sentence: str, tmp_path: Path) -> None:
    (tmp_path / "e.toml").write_text(text)
    outcome = proteron("run", str(tmp_path / "e.toml"), "--out", str(tmp_path / "out"))
    assert outcome.returncode == 2
    assert sentence in outcome.stderr
    assert "Traceback" not in outcome.stderr


def test_the_stored_schema_is_that_of_the_experiment_file() -> None:
    assert json.loads((ROOT / "docs" / "experiment.schema.json").read_text()) == json.loads(proteron("schema").stdout)


def test_the_demo_is_the_same_to_the_byte_and_tells_its_truth(tmp_path: Path) -> None:
    digests = []
    for name in ("a", "b"):
        paths = proteron("demo", "--out", str(tmp_path / name)).stdout.split()
        digests.append({Path(path).name: hashlib.sha256(Path(path).read_bytes()).hexdigest() for path in paths})
    assert digests[0] == digests[1]
    truth = json.loads((tmp_path / "a" / "port-ellery-truth.json").read_text())["faults"]
    assert {"burst", "stuck meter", "telemetry gap", "re-zoned", "discontinued", "spike"} == {
        fault["kind"] for fault in truth
    }
    other = proteron("demo", "--out", str(tmp_path / "c"), "--seed", "2").stdout.split()
    assert hashlib.sha256(Path(other[0]).read_bytes()).hexdigest() not in digests[0].values()


def test_the_demo_project_has_every_room_filled(stack: Stack) -> None:
    (demo,) = [p for p in stack.ok("GET", "/projects")["projects"] if p["name"] == "Port Ellery inflow"]
    view = stack.wait(
        f"/projects/{demo['id']}",
        lambda p: all(each["state"] == "done" for each in p["experiments"] + p["outlooks"]),
        240,
    )
    assert {room["state"] for room in view["rooms"].values()} == {"current"}
    dataset = stack.ok("GET", f"/datasets/{view['choices']['dataset_id']}")
    assert (len(dataset["series"]), dataset["grid"]["end"]) == (8, 17_520)
    experiment = stack.ok("GET", f"/experiments/{view['choices']['experiment_id']}")
    assert len(experiment["contenders"]) >= 6
    assert len(experiment["folds"]) >= 8
    assert experiment["failed"] == 0


def test_a_taken_port_and_an_open_host_are_refused(tmp_path: Path) -> None:
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        outcome = proteron("serve", PROTERON_HOME=str(tmp_path), PROTERON_PORT=str(port))
    assert outcome.returncode == 2
    assert f"Port {port} on 127.0.0.1 is taken" in outcome.stderr
    outcome = proteron("serve", PROTERON_HOME=str(tmp_path), PROTERON_HOST="0.0.0.0")
    assert outcome.returncode == 2
    assert "needs sign-in" in outcome.stderr


@pytest.mark.parametrize("signum", [signal.SIGTERM, signal.SIGINT, signal.SIGHUP])
def test_a_signal_stops_everything_and_the_database_cleanly(
    signum: int, tmp_path_factory: pytest.TempPathFactory
) -> None:
    running = Stack(tmp_path_factory.mktemp("signals"), "--no-demo")
    family = [
        running.process.pid,
        *(child.pid for child in psutil.Process(running.process.pid).children(recursive=True)),
    ]
    assert set(running.children()) == {"worker", "web", "database"}
    second = proteron("serve", PROTERON_HOME=str(running.home), PROTERON_PORT="1")
    assert second.returncode == 2
    os.kill(running.process.pid, signum)
    assert running.process.wait(30) == 0
    deadline = time.monotonic() + 5
    while any(psutil.pid_exists(pid) for pid in family) and time.monotonic() < deadline:
        time.sleep(0.05)
    assert not [pid for pid in family if psutil.pid_exists(pid)]
    assert "database system is shut down" in (running.home / "postgres.log").read_text()


def test_a_killed_supervisor_takes_everything_with_it(tmp_path_factory: pytest.TempPathFactory) -> None:
    running = Stack(tmp_path_factory.mktemp("orphans"), "--no-demo")
    children = list(running.children().values())
    running.process.kill()
    running.process.wait(10)
    gone, alive = psutil.wait_procs(children, timeout=20)
    assert not alive
    assert len(gone) == 3


def test_windows_are_cut_from_a_file_or_refused_in_one_line(tmp_path: Path) -> None:
    data, out, card = tmp_path / "series.csv", tmp_path / "rows.parquet", tmp_path / "card.json"
    data.write_text(hourly_csv(np.random.default_rng(5), 300), encoding="utf-8")
    plan = "lags 1-3; mean 24; ahead 1-2"
    done = proteron(
        "windows", str(data), "--plan", plan, "--out", str(out), "--card", str(card), "--check",
        "--shares", "0.7", "0.2", "0.1",
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    panel = pt.read_table(data).panel
    table = pt.windows.read_plan(plan).cut(panel)
    read = pa_parquet.read_table(out)
    assert read["mean 24"].to_numpy().tobytes() == np.ascontiguousarray(table.features[:, 3]).tobytes()
    assert read.column_names == ["origin", "key", *table.names, "+1", "+2", "part"]
    assert done.stdout.startswith(f"{len(table):,} rows, 4 features, 2 targets. Leak check passed")
    assert json.loads(card.read_text(encoding="utf-8"))["panel"] == panel.hash
    before = out.read_bytes()
    for text, sentence in (("lags 0", "lag 0 would be the target"), ("lags 1, 999", "looks back 999 points")):
        refused = proteron("windows", str(data), "--plan", text, "--out", str(out))
        assert refused.returncode == 2 and sentence in refused.stderr and refused.stderr.count("\n") == 1
    assert out.read_bytes() == before and sorted(tmp_path.iterdir()) == sorted([data, out, card])


def test_a_search_in_a_file_is_stopped_cleanly_and_found_again_by_what_it_wrote(tmp_path: Path) -> None:
    month, rng = np.arange(96), np.random.default_rng(4)
    values = 80 + 9 * np.sin(month * np.pi / 6) + rng.normal(size=96)
    pt.write_panel(pt.Panel.from_arrays({"a": values}, "2016-01-01", "1 month"), tmp_path / "p.csv")
    head = """name = "searched"
    data = {file = "p.csv"}
    folds = {kind = "expanding", count = 5, horizon = 6}
    metrics = ["mase"]
    contenders = [
      {name = "naive", forecaster = {kind = "seasonal_last_value"}},
      {name = "theta", forecaster = {kind = "theta"}},
      {name = "both", forecaster = {kind = "blend", members = ["naive", "theta"], rule = "mean"}},
    ]
    """
    (tmp_path / "long.toml").write_text(head + "search = {seconds = 600, limit = 20}\n")
    command = [
        sys.executable,
        "-m",
        "proteron.cli.main",
        "run",
        str(tmp_path / "long.toml"),
        "--out",
        str(tmp_path / "a"),
    ]
    heard = lambda: signal.signal(signal.SIGINT, signal.SIG_DFL)  # noqa: E731  # whoever runs this may ignore it
    running = subprocess.Popen(command, stderr=subprocess.PIPE, text=True, preexec_fn=heard)
    assert running.stderr is not None
    lines = [next(line for line in running.stderr if "best" in line) for _ in range(6)]
    assert "tried" in lines[-1] and "fits" in lines[-1]
    running.send_signal(signal.SIGINT)
    _, said = running.communicate(timeout=180)
    assert running.returncode == 0, said
    found = json.loads((tmp_path / "a" / "search.json").read_text())
    board = json.loads((tmp_path / "a" / "board.json").read_text())
    assert found["stopped"] and found["fits"] > 0 and found["summary"] in " ".join(said.split())
    assert {"naive", "theta", "both"} <= {row["contender"] for row in board}
    assert not [each for each in process_names(tmp_path) if each]
    (tmp_path / "again.toml").write_text(head + f"[search]\n{toml_of(found['settings'])}\n")
    again = proteron("run", str(tmp_path / "again.toml"), "--out", str(tmp_path / "b"))
    assert again.returncode == 0, again.stderr
    same = json.loads((tmp_path / "b" / "search.json").read_text())
    assert not same["stopped"] and all(
        same[name] == found[name] for name in ("best", "blend", "fits", "luck", "weights")
    )
    columns = ["name", "error", "folds", "fits", "weight"]
    tables = [pa_csv.read_csv(tmp_path / each / "search.csv").select(columns) for each in ("a", "b")]
    assert tables[0].equals(tables[1])


def process_names(folder: Path) -> list[str]:
    """Commands that still run on files of a folder."""
    return [
        " ".join(each.info["cmdline"]) for each in psutil.process_iter(["cmdline"])
        if each.info["cmdline"] and str(folder) in " ".join(each.info["cmdline"])
    ]  # fmt: skip


def toml_of(settings: dict) -> str:
    """The budget of a search as TOML; its space is proposed again from the same data."""
    return "\n".join(f"{name} = {settings[name]}" for name in ("fits", "limit", "blended"))
