"""Shared fixtures: one PostgreSQL cluster per test process, made by Proteron's own command."""

import os
import sys
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import psycopg
import pytest

sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "demo"))
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

from proteron.core.panel import Panel


@pytest.fixture
def rng() -> np.random.Generator:
    return np.random.default_rng(20240312)


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
