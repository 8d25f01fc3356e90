"""Shared fixtures: one PostgreSQL cluster per test process, made by Proteron's own command."""

import json
import os
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import psutil
import psycopg
import pytest

sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "demo"))
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

from proteron.core.forecasters.local import LocalForecaster
from proteron.core.panel import Panel


@pytest.fixture
def rng() -> np.random.Generator:
    return np.random.default_rng(20240312)


@pytest.fixture
def by_theory(monkeypatch: pytest.MonkeyPatch) -> None:
    """Ranges as theory has them, whatever rehearsals say of them."""
    monkeypatch.setattr(LocalForecaster, "_rehearse", lambda *_: {})


@pytest.fixture
def hourly(rng: np.random.Generator) -> Panel:
    """Two positive hourly series with day and week, gaps, different starts and covariates."""
    hours = np.arange(1500)
    day = 10 * np.sin(2 * np.pi * hours / 24) + 3 * np.sin(2 * np.pi * hours / 168)
    north = 60 + day + 0.004 * hours + rng.normal(size=1500)
    east = (40 + 0.5 * day + rng.normal(size=1500))[:1300]
    north[[5, 200, 201, 202, 900]] = np.nan
    weather = {"north": rng.normal(size=1500), "east": rng.normal(size=1300)}
    plan = {"north": np.cos(hours / 9), "east": np.cos(hours[:1300] / 9)}
    return Panel.from_arrays(
        {"north": north, "east": east},
        start={"north": "2024-01-01T00:00", "east": "2024-01-03T00:00"},
        step="1h",
        zone="Europe/Lisbon",
        covariates={"weather": weather, "plan": ("known_ahead", plan)},
        unit="m³/h",
    )


@pytest.fixture(scope="session")
def cluster_url(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    from proteron.cli.cluster import Cluster

    cluster = Cluster(tmp_path_factory.mktemp("home"))
    cluster.start()
    yield cluster.url
    cluster.stop()


def fresh_database(cluster_url: str, name: str) -> str:
    """An empty database of the cluster; returns its URL."""
    with psycopg.connect(cluster_url, autocommit=True) as connection:
        connection.execute(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)")
        connection.execute(f"CREATE DATABASE {name}")
    return cluster_url.rsplit("/", 1)[0] + f"/{name}"


@pytest.fixture(scope="session")
def database_url(cluster_url: str) -> str:
    """A migrated database shared by the tests of this process."""
    from proteron.records.schema import upgrade

    url = fresh_database(cluster_url, "shared")
    upgrade(url)
    return url


@pytest.fixture
def session(database_url: str) -> Iterator[Any]:
    """A session of the shared database; nothing of it is kept."""
    from proteron.records.database import Database

    opened = Database(database_url)
    with opened.session() as made:
        yield made
        made.rollback()
    opened.close()


class Stack:
    """A whole running Proteron: database, worker, web server, started by its own command."""

    def __init__(self, home: Path, *options: str, **settings: str) -> None:
        from proteron.cli.cluster import free_port

        self.home = home
        self.port = free_port()
        self.address = f"http://127.0.0.1:{self.port}"
        environment = {**os.environ, "PROTERON_HOME": str(home), "PROTERON_PORT": str(self.port)}
        environment |= settings
        environment.setdefault("NUMBA_CACHE_DIR", str(Path(tempfile.gettempdir()) / "proteron-test-kernels"))
        self.process = subprocess.Popen(
            [sys.executable, "-m", "proteron.cli.main", "serve", *options],
            env=environment, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
        )  # fmt: skip
        assert self.process.stdout is not None
        lines = iter(self.process.stdout.readline, "")
        # A slow first start says that it compiles before it is ready.
        self.greeting = next((line.strip() for line in lines if "still starting" not in line), "")

    def ask(self, method: str, path: str, body: Any = None, raw: bytes | None = None) -> tuple[int, Any]:
        """Status and answer (JSON where it is JSON)."""
        data = raw if raw is not None else None if body is None else json.dumps(body).encode()
        kind = "application/octet-stream" if raw is not None else "application/json"
        request = urllib.request.Request(self.address + "/api/v1" + path, data, {"Content-Type": kind}, method=method)
        try:
            with urllib.request.urlopen(request, timeout=60) as response:
                status, content = response.status, response.read()
        except urllib.error.HTTPError as error:
            status, content = error.code, error.read()
        try:
            return status, json.loads(content)
        except ValueError:
            return status, content

    def ok(self, method: str, path: str, body: Any = None, raw: bytes | None = None) -> Any:
        status, content = self.ask(method, path, body, raw)
        assert status < 300, content
        return content

    def wait(self, path: str, wanted: Callable[[Any], bool], seconds: float = 300) -> Any:
        """Ask again until the answer is as wanted."""
        deadline = time.monotonic() + seconds
        while time.monotonic() < deadline:
            content = self.ok("GET", path)
            if wanted(content):
                return content
            time.sleep(0.1)
        raise AssertionError(f"{path} never became as wanted: {content}")

    def project(self, name: str, csv: str, **reading: Any) -> tuple[int, int]:
        """A new project with one dataset; returns both numbers."""
        project = self.ok("POST", "/projects", {"name": name})["id"]
        upload = self.ok("POST", "/uploads?name=data.csv", raw=csv.encode())["upload_id"]
        body = {"project_id": project, "name": "data", "recipe": reading}
        return project, self.ok("POST", f"/uploads/{upload}/dataset", body)["id"]

    def children(self) -> dict[str, psutil.Process]:
        """The processes it started, by their part."""
        parts = {"worker": "main worker", "web": "gunicorn", "database": "postgres -D"}
        found = {}
        for child in psutil.Process(self.process.pid).children():
            try:
                line = " ".join(child.cmdline())
            except psutil.Error:  # it is just going
                continue
            found |= {part: child for part, mark in parts.items() if mark in line}
        return found

    def stop(self) -> int:
        self.process.terminate()
        return self.process.wait(30)


@pytest.fixture(scope="session")
def stack(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Stack]:
    """One running Proteron with its demo project for all tests that need the whole."""
    running = Stack(tmp_path_factory.mktemp("stack"))
    assert running.greeting == f"Proteron is ready at {running.address}"
    yield running
    running.stop()


def hourly_csv(rng: np.random.Generator, hours: int = 1200, keys: tuple[str, ...] = ("north", "east")) -> str:
    """Long rows of positive hourly series with a daily cycle."""
    lines = ["time,key,value"]
    for key in keys:
        values = 50 + 9 * np.sin(np.arange(hours) * 2 * np.pi / 24) + rng.normal(size=hours)
        times = np.datetime_as_string(
            np.datetime64("2024-01-01T00", "s") + np.arange(hours) * np.timedelta64(3600, "s")
        )
        lines += [f"{time}Z,{key},{value:.3f}" for time, value in zip(times, values, strict=True)]
    return "\n".join(lines) + "\n"
