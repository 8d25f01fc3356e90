"""The process that reads what users bring: what takes too long or dies costs only itself."""

import os
import signal
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest

from proteron.core.errors import InputError, LimitError
from proteron.core.intake import Limits
from proteron.runner.sidecar import Sidecar

GOOD = "time,y\n" + "\n".join(f"2024-01-{d:02d},{d}.5" for d in range(1, 20))


@pytest.fixture
def sidecar(database_url: str) -> Iterator[Sidecar]:
    made = Sidecar(database_url, 2 * 2**30, "intake")
    yield made
    made.close()


def look(sidecar: Sidecar, path: Path, seconds: float = 60.0, **recipe: object) -> dict:
    return sidecar.call("look", [(str(path), path.name)], recipe, Limits(), None, seconds=seconds)


def test_a_file_is_looked_at_and_kept_for_the_next_look(sidecar: Sidecar, tmp_path: Path) -> None:
    path = tmp_path / "good.csv"
    path.write_text(GOOD)
    found = look(sidecar, path)
    assert (found["rows"], found["problem"], found["reading"].panel.step) == (19, None, "1 day")
    assert found["sample"][0] == ["2024-01-01", "1.5"]
    again = look(sidecar, path, remedies={}, unit="m")
    assert again["reading"].panel.unit == "m"


def test_an_overdue_call_is_stopped_and_the_next_one_works(sidecar: Sidecar, tmp_path: Path) -> None:
    path = tmp_path / "good.csv"
    path.write_text(GOOD)
    look(sidecar, path)
    with pytest.raises(LimitError, match="longer than 0 s"):
        sidecar.call("look", [(str(path), path.name)], {"unit": "x" * 10}, Limits(), None, seconds=0.0)
    assert look(sidecar, path)["rows"] == 19


def kill(sidecar: Sidecar) -> None:
    """Kill its process, and no other, as the kernel does when memory runs out."""
    assert sidecar._executor is not None
    for pid in list(sidecar._executor._processes):
        os.kill(pid, signal.SIGKILL)


def test_a_process_that_died_between_calls_is_replaced(sidecar: Sidecar, tmp_path: Path) -> None:
    path = tmp_path / "good.csv"
    path.write_text(GOOD)
    look(sidecar, path)
    dead = sidecar._executor
    kill(sidecar)
    while not dead._broken:  # type: ignore[union-attr]
        time.sleep(0.01)
    sidecar.warm()
    assert look(sidecar, path)["rows"] == 19
    assert sidecar._executor is not dead


def test_a_process_that_dies_at_work_costs_that_call(sidecar: Sidecar, tmp_path: Path) -> None:
    path = tmp_path / "long.csv"
    stamps = np.arange("2000-01-01", "2012-01-01", dtype="M8[m]")[:900_000]
    path.write_text("time,a\n" + "".join(f"{stamp},1\n" for stamp in stamps))
    begun, seen = threading.Event(), []

    def slow() -> None:
        begun.set()
        seen.append(look(sidecar, path)["rows"])

    thread = threading.Thread(target=slow)
    thread.start()
    begun.wait(10)
    time.sleep(0.2)
    with pytest.raises(LimitError, match="Too much is being done"):
        sidecar.call("ready", seconds=0.01)
    thread.join(120)
    assert seen == [900_000]


def test_a_process_that_cannot_load_is_not_started_for_ever(database_url: str) -> None:
    lost = Sidecar(database_url, 2**20, "intake")  # no room for anything
    with pytest.raises(LimitError, match="cannot be started"):
        lost.call("ready", seconds=60)
    lost.close()


def test_problems_come_back_as_they_are(sidecar: Sidecar, tmp_path: Path) -> None:
    path = tmp_path / "bad.csv"
    path.write_bytes(bytes(range(256)) * 10)
    with pytest.raises(InputError, match="not text") as caught:
        look(sidecar, path)
    assert caught.value.field == "file"
    path.write_text("a,b\n1,2\n3,4\n")
    assert "No column reads as a time" in look(sidecar, path, unit="other")["problem"].message
