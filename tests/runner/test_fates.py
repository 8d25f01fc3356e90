"""Each step its own fate: time, death, stop, a failure; in real processes that do as they are told."""

import ast
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import Any

import pytest
from fake_pool import serve_fake

from proteron.records.configuration import Configuration
from proteron.runner.child import Here
from proteron.runner.slot import DiedError, OverdueError, RefusedError, Slot, UnwantedError
from proteron.runner.work import KINDS, Job, LongWork
from proteron.runner.worker import Worker


class Steps(LongWork):
    """A job is a list of steps, each a word, or several that may be done apart."""

    task = "steps"
    still_wanted = True

    def steps(self, job: Job) -> list[Any]:
        return list(job["steps"])

    def parts(self, step: Any) -> list[Any]:
        return [[word] for word in step] if isinstance(step, list) else [step]

    def run(self, here: Any, step: Any, job: Job) -> str:
        raise AssertionError("runs in a process")

    def give_up(self, here: Any, step: Any, reason: str, job: Job) -> None:
        raise AssertionError("runs in a process")

    def wanted(self, session: Any, job: Job) -> bool:
        return self.still_wanted

    def lost(self, session: Any, queue: Any) -> None: ...

    def running(self, session: Any, project_id: int) -> list[Any]:
        return []


@pytest.fixture
def worker(database_url: str, tmp_path: Path):
    made = Worker(database_url, Configuration(cell_seconds=2.0, workers=1, home=tmp_path))
    yield made
    made.queue.close()
    made.database.close()


@pytest.fixture
def slot(tmp_path: Path):
    made = Slot(str(tmp_path), 0, serve_fake)
    yield made
    made.kill()


def asked(folder: Path) -> list[str]:
    return (folder / "asked").read_text().splitlines()


def test_a_step_that_dies_is_tried_twice_given_up_and_harms_no_other(
    worker: Worker, slot: Slot, tmp_path: Path
) -> None:
    worker.work(slot, Steps(), {"steps": ["one", "die", "two"]})
    reason = "The process that computed this died 2 times, perhaps for lack of memory."
    assert asked(tmp_path) == ["run one", "run die", "run die", f"give_up die | {reason}", "run two", "end "]


def test_a_step_over_its_limit_is_named_and_not_tried_again(worker: Worker, slot: Slot, tmp_path: Path) -> None:
    begun = time.monotonic()
    worker.work(slot, Steps(), {"steps": ["hang", "two"]})
    assert 2 < time.monotonic() - begun < 15
    reason = "This took longer than its limit of 2 s and was stopped."
    assert asked(tmp_path) == ["run hang", f"give_up hang | {reason}", "run two", "end "]


def test_what_a_step_should_have_caught_is_its_reason(worker: Worker, slot: Slot, tmp_path: Path) -> None:
    worker.work(slot, Steps(), {"steps": ["raise", "two"]})
    reason = "ValueError: planted"
    assert asked(tmp_path) == ["run raise", f"give_up raise | {reason}", "run two", "end "]


def test_of_a_group_only_the_guilty_are_given_up(worker: Worker, slot: Slot, tmp_path: Path) -> None:
    worker.work(slot, Steps(), {"steps": [["one", "die", "two"], "three"]})
    notes = asked(tmp_path)
    given_up = [note for note in notes if note.startswith("give_up")]
    assert len(given_up) == 1 and given_up[0].startswith("give_up ['die']")
    assert notes[-4:-1] == [given_up[0], "run ['two']", "run three"]
    assert "run ['one']" in notes


def test_after_a_stop_nothing_more_is_asked_for(worker: Worker, slot: Slot, tmp_path: Path) -> None:
    worker.work(slot, Steps(), {"steps": ["one", "stop", "two"]})
    assert asked(tmp_path) == ["run one", "run stop"]


def test_what_nobody_wants_any_more_is_killed_and_not_failed(worker: Worker, slot: Slot, tmp_path: Path) -> None:
    kind = Steps()
    kind.still_wanted = False
    worker.settings = worker.settings.model_copy(update={"cell_seconds": 60.0})
    begun = time.monotonic()
    worker.work(slot, kind, {"steps": ["hang", "two"]})
    assert time.monotonic() - begun < 10
    assert asked(tmp_path) == ["run hang"]


def test_a_worker_that_leaves_gives_nothing_up(worker: Worker, slot: Slot, tmp_path: Path) -> None:
    worker.settings = worker.settings.model_copy(update={"cell_seconds": 60.0})
    at_work = threading.Thread(target=worker.work, args=(slot, Steps(), {"steps": ["hang", "two"]}))
    at_work.start()
    while not (tmp_path / "asked").exists():
        time.sleep(0.01)
    worker._leaving = True
    slot.stop()
    at_work.join(15)
    assert not at_work.is_alive()
    assert asked(tmp_path) == ["run hang"]


def test_two_slots_never_share_a_fate(tmp_path: Path) -> None:
    """While one process is killed for its time, the other one finishes what it is at."""
    slots = [Slot(str(tmp_path), 0, serve_fake) for _ in range(2)]
    try:
        assert all(slot.call("run", "steps", {}, "fine") == "done" for slot in slots)
        processes = [slot._process for slot in slots]
        with pytest.raises(OverdueError):
            slots[0].call("run", "steps", {}, "hang", seconds=0.5)
        assert slots[1].call("run", "steps", {}, "fine") == "done"
        assert slots[1]._process is processes[1]
        with pytest.raises(DiedError, match="exit code 3"):
            slots[0].call("run", "steps", {}, "die")
        with pytest.raises(RefusedError, match="planted"):
            slots[0].call("run", "steps", {}, "raise")
        with pytest.raises(UnwantedError):
            slots[0].call("run", "steps", {}, "hang", wanted=lambda: False)
        assert slots[0].call("run", "steps", {}, "fine") == "done"
    finally:
        for slot in slots:
            slot.kill()


def test_the_seconds_of_loading_are_not_those_of_a_step(slot: Slot) -> None:
    assert slot.call("run", "steps", {}, "fine") == "done"
    assert slot.call("run", "steps", {}, "load", seconds=0.6) == "done"
    with pytest.raises(OverdueError):
        slot.call("run", "steps", {}, ["load", "hang"], seconds=0.6)
    slot.loads_within = 0.4
    assert slot.call("run", "steps", {}, "fine") == "done"
    with pytest.raises(OverdueError):
        slot.call("run", "steps", {}, "load", seconds=60)
    assert slot.call("run", "steps", {}, "load") == "done"


def test_whatever_a_step_computes_with_is_loaded_before_it() -> None:
    """A process that loads in a step would be killed for it on a slow machine, and again in the next."""
    steps = [Path(sys.modules[type(kind).__module__].__file__ or "") for kind in KINDS.values()]
    inside = [
        node.module
        for step in steps
        for function in ast.walk(ast.parse(step.read_text()))
        if isinstance(function, ast.FunctionDef)
        for node in ast.walk(function)
        if isinstance(node, ast.ImportFrom) and node.module
    ]
    assert len(inside) > 5
    script = f"import sys, proteron.runner.computation; print([n for n in {inside!r} if n not in sys.modules])"
    said = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    assert said.stdout.strip() == "[]"


@pytest.mark.parametrize(
    ("module", "heavy"),
    [("worker", {"numba", "scipy", "pyarrow", "pandas"}), ("computation", {"scipy.stats", "pandas"})],
)
def test_processes_load_no_more_than_they_need(module: str, heavy: set[str]) -> None:
    """A worker that dies is there again in a moment: what computes is loaded in its processes only."""
    script = f"import sys, proteron.runner.{module}; print(*sorted({heavy!r} & set(sys.modules)))"
    said = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    assert said.stdout.strip() == ""


def test_a_step_has_its_whole_time_after_loading(monkeypatch: pytest.MonkeyPatch) -> None:
    said: list[bool] = []
    monkeypatch.setattr(Here, "tell_clock", said.append)
    Here.allow(50)
    Here.deadline = 0
    with pytest.raises(ValueError), Here.loading():
        assert said == [False]
        raise ValueError
    assert said == [False, True] and Here.deadline is not None and 49 < Here.deadline - time.monotonic() <= 50
    Here.allow(None)
    assert Here.deadline is None


def test_every_kind_of_work_is_registered_under_its_own_task() -> None:
    assert {kind.task: type(kind).__name__ for kind in KINDS.values()} == {
        "run_cells": "CellWork", "make_outlook": "OutlookWork", "profile_series": "FeatureWork",
        "scan_series": "ScanWork", "drill": "DrillWork",
    }  # fmt: skip
