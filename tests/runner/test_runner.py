"""The runner on the whole stack: streaming, stop and continue, crashes, shared cells."""

import json
import os
import signal
import threading
import time
import urllib.request
from typing import Any

import numpy as np
import pytest

from conftest import Stack, hourly_csv

SLOW = {"kind": "dense_network", "hidden": [64, 64], "epochs": 200, "patience": 200, "windows_per_epoch": 20000}
NAIVE = {"name": "naive", "forecaster": {"kind": "seasonal_last_value", "period": 24}}


def start(stack: Stack, name: str, seed: int, count: int = 8, hours: int = 3000, entries: list | None = None) -> dict:
    """An experiment of a few slow cells on a dataset of its own."""
    project, dataset = stack.project(name, hourly_csv(np.random.default_rng(seed), hours))
    body = {
        "dataset_id": dataset,
        "seed": seed,
        "folds": {"count": count, "horizon": 12},
        "contenders": entries or [NAIVE, {"name": "net", "forecaster": SLOW}],
    }
    return stack.ok("POST", f"/projects/{project}/experiments", body) | {"project": project, "body": body}


def done(experiment: dict) -> bool:
    return experiment["state"] == "done"


def test_results_stream_in_and_the_board_fills(stack: Stack) -> None:
    seen: list[dict] = []
    experiment = start(stack, "streaming", seed=11, count=3)
    address = f"{stack.address}/api/v1/projects/{experiment['project']}/events"

    def listen() -> None:
        with urllib.request.urlopen(address, timeout=60) as stream:
            for line in stream:
                if line.startswith(b"data:"):
                    seen.append(json.loads(line[5:]))
                    if seen[-1].get("state") == "done":
                        return

    listener = threading.Thread(target=listen, daemon=True)
    listener.start()
    finished = stack.wait(f"/experiments/{experiment['id']}", done)
    listener.join(10)
    assert finished["done"] == finished["cells"] == 6
    assert any(event.get("cell") for event in seen)
    assert seen[-1]["state"] == "done"
    rows = stack.ok("GET", f"/experiments/{experiment['id']}/board")["rows"]
    assert [row["contender"] for row in rows] == ["naive", "net"]
    assert rows[1]["cells"] == 3


def told(stack: Stack, cell: str) -> dict[str, Any]:
    """What a cell learned, once it is there; which of an experiment's comes first is the queue's matter."""
    until = time.monotonic() + 120
    while (answer := stack.ask("GET", cell))[0] == 404 and time.monotonic() < until:
        time.sleep(0.1)
    assert answer[0] == 200, answer[1]
    return answer[1]


def test_stop_keeps_what_is_done_and_run_computes_only_the_rest(stack: Stack) -> None:
    experiment = start(stack, "stopping", seed=12, count=10)
    path = f"/experiments/{experiment['id']}"
    cells = [f"{path}/facts?contender={name}" for name in ("naive&fold=0", "net&fold=9")]  # the heaviest goes first
    first = [told(stack, cell)["seconds"] for cell in cells]
    begun = time.monotonic()
    assert stack.ok("POST", path + "/stop")["state"] == "stopped"
    time.sleep(1.5)  # a cell that was being stored may still finish
    kept = stack.ok("GET", path)
    time.sleep(1.5)
    assert stack.ok("GET", path)["done"] == kept["done"] < kept["cells"]
    assert time.monotonic() - begun < 5
    stack.ok("POST", path + "/run")
    finished = stack.wait(path, done)
    assert finished["done"] == finished["cells"]
    assert [stack.ok("GET", cell)["seconds"] for cell in cells] == first  # not computed again


def test_a_killed_worker_loses_nothing_and_work_resumes_by_itself(stack: Stack) -> None:
    experiment = start(stack, "killing", seed=13, count=10)
    path = f"/experiments/{experiment['id']}"
    own = told(stack, f"{path}/facts?contender=net&fold=9")["seconds"]
    before = stack.wait(path, lambda e: e["done"] >= 3)["done"]
    worker = stack.children()["worker"]
    os.kill(worker.pid, signal.SIGKILL)
    assert stack.ok("GET", path)["done"] >= before
    within = 20 + 2 * own  # what the cells that were begun anew take themselves is not the runner's
    resumed = stack.wait(path, lambda e: e["done"] > before + 1 or e["state"] == "done", seconds=within)
    assert resumed["failed"] == 0
    finished = stack.wait(path, done)
    assert finished["done"] == finished["cells"]
    assert stack.children()["worker"].pid != worker.pid


def test_the_same_cell_is_never_computed_twice(stack: Stack) -> None:
    experiment = start(stack, "sharing", seed=14, count=2, hours=900)
    stack.wait(f"/experiments/{experiment['id']}", done)
    again = stack.ok("POST", f"/projects/{experiment['project']}/experiments", experiment["body"])
    assert again["state"] == "done"  # at once: every cell was there
    boards = [stack.ok("GET", f"/experiments/{e['id']}/board")["rows"] for e in (experiment, again)]
    assert boards[0] == boards[1]


def test_a_failing_contender_is_a_row_with_its_reason(stack: Stack) -> None:
    entries = [NAIVE, {"name": "log", "forecaster": {"kind": "ridge"}, "chain": [{"kind": "log", "offset": -1000.0}]}]
    experiment = start(stack, "failing", seed=15, count=2, hours=700, entries=entries)
    finished = stack.wait(f"/experiments/{experiment['id']}", done)
    assert finished["failed"] == 2
    assert "log needs positive values" in finished["failures"][0]["reason"]


@pytest.mark.parametrize("where", ["stored", "between"])
def test_forecasts_from_any_cutoff_match_the_core(stack: Stack, where: str) -> None:
    import proteron as pt

    experiment = start(
        stack,
        f"cutoffs {where}",
        seed=16,
        count=3,
        hours=800,
        entries=[NAIVE, {"name": "ridge", "forecaster": {"kind": "ridge"}}],
    )
    path = f"/experiments/{experiment['id']}"
    folds = stack.wait(path, done)["folds"]
    origin = folds[1]["cutoff"] + (0 if where == "stored" else 5)
    shown = stack.ok("POST", path + "/forecasts", {"series": 1, "origin": origin})["forecasts"][1]
    panel = pt.read_panel(hourly_csv(np.random.default_rng(16), 800).encode())
    state = pt.forecaster("ridge").fit(panel, until=folds[1]["cutoff"], horizon=12)
    expected = state.means(panel, np.array([origin]), 12)[0][1, 0]
    assert shown["stored"] == (where == "stored")
    np.testing.assert_allclose(shown["mean"], expected, rtol=1e-12)
    early = stack.ok("POST", path + "/forecasts", {"series": 0, "origin": folds[0]["cutoff"] - 1})
    assert early["forecasts"] == []
    assert "No fold had learned by then" in early["note"]


def told_of(stack: Stack, address: str, outlook: dict[str, Any]) -> None:
    """Chances, paths, totals and words are all of the same paths."""
    paths = np.array(stack.ok("GET", f"{address}/paths?count=999")["paths"])
    assert paths.shape == (200, 12) and paths.min() >= 0
    level = float(np.median(paths))
    found = stack.ok("GET", f"{address}/chance?above={level}&run=2")
    assert found["each"] == pytest.approx((paths > level).mean(axis=0)) and found["paths"] == 200
    assert found["ever"][-1] == pytest.approx((paths > level).any(axis=1).mean()) and sum(found["peak"]) == 1
    whole = stack.ok("POST", f"{address}/totals", {"series": 0})
    assert whole["mean"][0] == pytest.approx([sum(outlook["mean"])])
    assert whole["lower"][-1][0][0] < whole["mean"][0][0] < whole["upper"][-1][0][0]
    daily = stack.ok("POST", f"{address}/totals", {"by": "1 day", "groups": {"both": ["north", "east"]}})
    assert sum(daily["forecast"]) == 12 and daily["groups"] == ["both"] and len(daily["starts"]) == 1
    words = stack.ok("GET", f"{address}/words?step=1&above={level}&unit=m3/h")
    assert f"is expected at {outlook['mean'][1]:.2f} m3/h" in words["sentence"] and "in 100." in words["sentence"]
    assert "4 origins of walk-forward" in words["paragraph"]
    assert stack.ask("GET", f"{address}/chance")[0] == 422
    assert stack.ask("GET", f"{address}/words?level=0.7")[0] == 422, "there is no such range"


def test_scan_flags_and_outlook_end_to_end(stack: Stack) -> None:
    experiment = start(
        stack,
        "results",
        seed=17,
        count=4,
        hours=900,
        entries=[NAIVE, {"name": "ridge", "forecaster": {"kind": "ridge"}}],
    )
    path = f"/experiments/{experiment['id']}"
    stack.wait(path, done)
    address = f"/projects/{experiment['project']}/scans"
    body = {"dataset_id": experiment["body"]["dataset_id"]}
    by_ridge = {"using": "contender", "experiment_id": experiment["id"], "contender": "ridge", "delay": 0}
    for asked in (by_ridge, {"mode": "looking_back"}, {}):
        scan = stack.ok("POST", address, {**body, **asked})
        finished = stack.wait(f"/scans/{scan['id']}", done)
        assert finished["state"] == "done" and finished["done"] == finished["series"] == 2
    stack.ok("PUT", f"/scans/{scan['id']}/budget", {"threshold": 3.0})
    assert stack.ok("GET", f"/scans/{scan['id']}/flags")["threshold"] == 3
    stack.ok("POST", f"/scans/{scan['id']}/drill", {"repeats": 1})
    stack.wait(f"/scans/{scan['id']}", lambda each: each["drill"] == "done")
    assert stack.ok("GET", f"/scans/{scan['id']}/drill")["planted"] >= 30
    outlook = stack.ok("POST", path + "/outlooks", {"contender": "ridge", "floor": 0, "paths": 200})
    finished = stack.wait(f"/outlooks/{outlook['id']}", lambda o: o["state"] == "done")
    assert len(finished["mean"]) == 12
    assert finished["errors"] == 4 and finished["how"] == "walk-forward"
    told_of(stack, f"/outlooks/{outlook['id']}", finished)
    assert all(low <= high for low, high in zip(finished["lower"][2], finished["upper"][2], strict=True))
    rooms = stack.ok("GET", f"/projects/{experiment['project']}")["rooms"]
    assert rooms["outlook"]["state"] == "current"
    stack.ok("POST", f"/projects/{experiment['project']}/experiments", {**experiment["body"], "seed": 99})
    rooms = stack.ok("GET", f"/projects/{experiment['project']}")["rooms"]
    assert rooms["outlook"]["state"] == "outdated"


def test_features_of_a_panel_stop_and_go_on(stack: Stack) -> None:
    """What is computed when it is stopped stays; going on computes only the rest, and events tell of it."""
    keys = tuple(f"s{number:03d}" for number in range(24))
    _, dataset = stack.project("many features", hourly_csv(np.random.default_rng(21), 2500, keys))
    address = f"/datasets/{dataset}/features"
    begun = stack.ok("POST", address, {"until": 2400})
    assert (begun["state"], begun["of"]) == ("running", 24)
    stack.wait(f"{address}?until=2400", lambda found: found["done"] > 0)
    stopped = stack.ok("POST", f"{address}/stop", {"until": 2400})
    assert stopped["state"] in ("stopped", "done")
    stack.ok("POST", address, {"until": 2400})
    finished = stack.wait(f"{address}?until=2400", lambda found: found["state"] == "done")
    assert [row["key"] for row in finished["rows"]] == sorted(keys)
    assert all(row["seasons"]["24"] > 0.9 for row in finished["rows"])
    assert all(row["known"] == 2400 for row in finished["rows"])
