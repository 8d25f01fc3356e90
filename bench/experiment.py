"""The experiment engine beside the work it does, and the board of a large experiment.

.venv/bin/python bench/experiment.py [--page] [--series 300] [--contenders 8] [--home FOLDER]

Starts a Proteron of its own, runs 300 daily series of 730 points × 8 contenders (at most 20) × 8 folds (with --page
while a browser shows the board), and prints: wall time over the cells' own times per core; time of the board, of
another metric, and by how much the web processes grow; with --page how soon the room shows it, and another way; how
long after a stop the processes still compute.
"""

import argparse
import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
from contextlib import ExitStack
from pathlib import Path
from typing import Any

import numpy as np
import psutil

CONTENDERS = {
    "last value": {"kind": "last_value"}, "last week": {"kind": "seasonal_last_value", "period": 7},
    "drift": {"kind": "drift"}, "mean": {"kind": "mean"}, "theta": {"kind": "theta", "period": 7},
    "smoothing": {"kind": "smoothing", "error": "additive", "trend": None, "season": "additive", "period": 7},
    "average": {"kind": "smoothing_average"}, "ridge": {"kind": "ridge", "plan": {"lags": list(range(1, 15))}},
    **{f"ridge, {lags} lags": {"kind": "ridge", "plan": {"lags": list(range(1, lags + 1))}} for lags in range(2, 14)},
}  # fmt: skip
SHOWN = """
new Promise((done) => {
  const look = () => (CONDITION ? done(performance.now()) : requestAnimationFrame(look));
  look();
})
"""


def daily_csv(count: int) -> str:
    rng, days = np.random.default_rng(3), np.arange(730)
    stamps = (np.datetime64("2023-01-01") + days).astype(str).tolist()
    lines = ["time,key,value"]
    for index in range(count):
        week = rng.normal(size=7)[days % 7] * 8
        values = 100 + np.cumsum(rng.normal(size=730)) + week + rng.normal(size=730) * 3
        lines += [f"{stamp},s{index:03d},{value:.3f}" for stamp, value in zip(stamps, values, strict=True)]
    return "\n".join(lines) + "\n"


class Client:
    def __init__(self, address: str) -> None:
        self.address = address + "/api/v1"

    def ask(self, method: str, path: str, body: Any = None, raw: bytes | None = None) -> Any:
        data = raw if raw is not None else None if body is None else json.dumps(body).encode()
        kind = "application/octet-stream" if raw is not None else "application/json"
        request = urllib.request.Request(self.address + path, data, {"Content-Type": kind}, method=method)
        try:
            with urllib.request.urlopen(request, timeout=120) as answer:
                return json.load(answer)
        except urllib.error.HTTPError as error:
            raise SystemExit(error.read().decode()) from error


def start(stack: ExitStack, home: Path) -> tuple[str, subprocess.Popen[str]]:
    from proteron.cli.cluster import free_port

    port = free_port()
    environment = {**os.environ, "PROTERON_HOME": str(home), "PROTERON_PORT": str(port)}
    command = [sys.executable, "-m", "proteron.cli.main", "serve", "--no-demo"]
    process = subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, text=True)
    stack.callback(process.wait)
    stack.callback(process.terminate)
    assert process.stdout is not None
    print(process.stdout.readline().strip())
    return f"http://127.0.0.1:{port}", process


def web_memory(process: subprocess.Popen[str]) -> int:
    """Resident memory of the web processes together."""
    children = psutil.Process(process.pid).children(recursive=True)
    return sum(each.memory_info().rss for each in children if "gunicorn" in " ".join(each.cmdline()))


def show_page(stack: ExitStack, address: str, project: int) -> Any:
    from playwright.sync_api import sync_playwright

    flags = ["--no-sandbox", "--disable-gpu", "--disable-background-networking"]
    driver = stack.enter_context(sync_playwright())
    browser = driver.chromium.launch(executable_path="/usr/bin/chromium", args=flags)
    stack.callback(browser.close)
    page = browser.new_page(viewport={"width": 1280, "height": 800})
    page.goto(f"{address}/p/{project}/walkforward")
    page.wait_for_selector("canvas")
    return page


def shown(page: Any, condition: str) -> float:
    """Milliseconds on the page's clock at which something is there."""
    return float(page.evaluate(SHOWN.replace("CONDITION", condition)))


def page_times(page: Any, contenders: int) -> None:
    """How soon the room shows a board of that many, and another metric or way of it after it was chosen."""
    rows = f"document.querySelectorAll('[role=group] tr').length > {min(contenders, 7)}"
    opened = []
    for _ in range(3):
        page.reload(wait_until="commit")
        opened.append(shown(page, rows))
    print(f"room shows the board: {statistics.median(opened):.0f} ms")
    text = "[...document.querySelectorAll('main table')].map((each) => each.textContent).join()"
    for name, option in (("skill by", "RMSE"), ("skill by", "MAE"), ("shown", "by series"), ("shown", "by fold")):
        page.wait_for_load_state("networkidle")
        page.get_by_role("combobox", name=name).click()
        page.evaluate(f"window.before = {text}")
        choice = page.get_by_role("option", name=option, exact=True)
        begun = page.evaluate("performance.now()")
        choice.click()
        print(f"{name} {option}: {shown(page, f'{text} !== window.before') - begun:.0f} ms")


def stopped_after(client: Client, process: subprocess.Popen[str], project: int, body: dict[str, Any]) -> None:
    """How long the processes that compute go on after a stop was asked for, and how soon that is answered."""
    slow = {"kind": "dense_network", "epochs": 500, "patience": 500}
    body = {**body, "contenders": [body["contenders"][0], {"name": "slow", "forecaster": slow}]}
    experiment = client.ask("POST", f"/projects/{project}/experiments", body)["id"]
    time.sleep(15)
    begun = time.perf_counter()
    client.ask("POST", f"/experiments/{experiment}/stop")
    answered = time.perf_counter() - begun
    own = [
        each
        for each in psutil.Process(process.pid).children(recursive=True)
        if "spawn_main" in " ".join(each.cmdline())
    ]
    busy = True
    while busy:
        for each in own:
            each.cpu_percent()
        time.sleep(0.2)
        busy = any(each.is_running() and each.cpu_percent() > 50 for each in own)
    print(f"stop: answered after {answered:.2f} s, nothing computes after {time.perf_counter() - begun:.2f} s")


def timed(client: Client, path: str, repeats: int = 7) -> list[float]:
    times = []
    for _ in range(repeats):
        begun = time.perf_counter()
        client.ask("GET", path)
        times.append((time.perf_counter() - begun) * 1000)
    return times


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--page", action="store_true")
    parser.add_argument("--series", type=int, default=300)
    parser.add_argument("--contenders", type=int, default=8)
    parser.add_argument("--home", type=Path, default=None)
    given = parser.parse_args()
    with ExitStack() as stack:
        home = given.home or Path(stack.enter_context(tempfile.TemporaryDirectory()))
        address, process = start(stack, home)
        client = Client(address)
        project = client.ask("POST", "/projects", {"name": f"bench {time.time()}"})["id"]
        upload = client.ask("POST", "/uploads?name=daily.csv", raw=daily_csv(given.series).encode())["upload_id"]
        dataset = client.ask("POST", f"/uploads/{upload}/dataset", {"project_id": project, "name": "daily"})["id"]
        entries = [{"name": name, "forecaster": each} for name, each in list(CONTENDERS.items())[: given.contenders]]
        body = {
            "dataset_id": dataset, "folds": {"count": 8, "horizon": 14}, "contenders": entries, "seed": int(time.time())
        }  # fmt: skip
        begun = time.perf_counter()
        experiment = client.ask("POST", f"/projects/{project}/experiments", body)["id"]
        print(f"stored and queued after {time.perf_counter() - begun:.2f} s")
        page = None
        if given.page:
            page = show_page(stack, address, project)
        while (view := client.ask("GET", f"/experiments/{experiment}"))["state"] in ("queued", "running"):
            time.sleep(0.5)
        wall = time.perf_counter() - begun
        rows = client.ask("GET", f"/experiments/{experiment}/board")["rows"]
        fits, cores = sum(row["seconds"] for row in rows), os.cpu_count() or 1
        counts = f"{view['cells']} cells, {view['failed']} failed"
        print(f"{counts}: {wall:.1f} s for {fits:.1f} s of cells on {cores} cores:")
        print(f"overhead {wall / (fits / cores):.3f} × the ideal")
        before = web_memory(process)
        for name, path in (("board", ""), ("board by another metric", "?metric=rmse")):
            times = timed(client, f"/experiments/{experiment}/board{path}")
            print(f"{name}: {statistics.median(times):.0f} ms  ({min(times):.0f} … {max(times):.0f})")
        print(f"web processes grew by {(web_memory(process) - before) / 2**20:.0f} MB over these requests")
        if page is not None:
            page_times(page, given.contenders)
        stopped_after(client, process, project, body)


if __name__ == "__main__":
    main()
