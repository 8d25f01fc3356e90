"""Retake every screenshot in docs/screenshots from the demo data.

.venv/bin/python scripts/screenshots.py              # starts a Proteron of its own, with an empty home
.venv/bin/python scripts/screenshots.py ADDRESS      # from one that is running
"""

import json
import os
import socket
import subprocess
import sys
import tempfile
import time
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from playwright.sync_api import Browser, Page, sync_playwright

from port_ellery import write_demo
from port_ellery.files import PRODUCTION

ROOT = Path(__file__).resolve().parents[1]
CHROMIUM = "/usr/bin/chromium"
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]
SHOTS = {
    "intake": "intake", "profile": "profile", "profile-cycles": "profile?part=cycles",
    "profile-memory": "profile?part=memory", "profile-shape": "profile?part=shape",
    "profile-series": "profile?part=panel", "flatten": "flatten", "flatten-night": "flatten", "windows": "windows",
    "walkforward": "walkforward", "outlook": "outlook",
}  # fmt: skip
NIGHT = ("flatten-night", "profile-memory")
PROJECT, MONTHLY = "Port Ellery inflow", "Port Ellery production"
CLASSICAL = {
    "same month last year": {"kind": "seasonal_last_value"}, "smoothing": {"kind": "smoothing"},
    "theta": {"kind": "theta"}, "ARIMA": {"kind": "arima"}, "structural": {"kind": "structural"},
    "additive": {"kind": "additive"}, "several seasons": {"kind": "several_seasons"},
}  # fmt: skip


def ask(address: str, path: str) -> dict:
    with urllib.request.urlopen(address + path, timeout=30) as answer:
        return json.load(answer)


def wait_for_demo(address: str, seconds: float = 300) -> int:
    """The demo project's number, once nothing in it is running any more."""
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        for project in ask(address, "/api/v1/projects")["projects"]:
            if project["name"] == PROJECT:
                view = ask(address, f"/api/v1/projects/{project['id']}")
                busy = [
                    each for each in view["experiments"] + view["outlooks"] if each["state"] in ("queued", "running")
                ]
                if not busy:
                    return int(project["id"])
        time.sleep(1)
    raise SystemExit("The demo project is not finished; is Proteron running?")


def settle(page: Page) -> None:
    """Event streams keep the network busy, so wait for the lanes instead."""
    page.wait_for_selector("[aria-busy=true]", state="detached")
    page.wait_for_timeout(1200)


def take(address: str, folder: Path) -> None:
    project = wait_for_demo(address)
    choices = ask(address, f"/api/v1/projects/{project}")["choices"]
    folds = ask(address, f"/api/v1/experiments/{choices['experiment_id']}")["folds"]
    cutoff = folds[3]["cutoff"]
    folder.mkdir(parents=True, exist_ok=True)
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
        _compute_features(address, choices["dataset_id"], cutoff)
        for name, room in SHOTS.items():
            scheme = "dark" if name in NIGHT else "light"
            page = browser.new_page(viewport={"width": 1280, "height": 800}, color_scheme=scheme)
            page.on("console", lambda message, name=name: message.type == "error" and print(name, message.text))
            page.on("pageerror", lambda error, name=name: print(name, error, error.stack))
            joint = "&" if "?" in room else "?"
            page.goto(f"{address}/p/{project}/{room}{joint}series=0&cutoff={cutoff}")
            page.wait_for_selector("canvas, [role=grid]")
            settle(page)
            if room == "flatten":
                page.get_by_role("button", name="trend and seasons, loess").click()
                settle(page)
            page.mouse.move(620, 300)
            page.wait_for_timeout(300)
            page.screenshot(path=folder / f"{name}.png")
            page.close()
        _take_anomalies(browser, address, folder, project)
        _take_layout(browser, address, folder, project, cutoff)
        _take_kept(browser, address, folder, project)
        _take_findings(browser, address, folder)
        _take_classical(browser, address, folder)
        browser.close()


def send(address: str, path: str, body: dict) -> dict:
    request = urllib.request.Request(
        address + path, json.dumps(body).encode(), {"Content-Type": "application/json"}, method="POST"
    )
    with urllib.request.urlopen(request, timeout=30) as answer:
        return json.load(answer)


def _take_classical(browser: Browser, address: str, folder: Path) -> None:
    """Classical contenders on a monthly series, and what one of them learned."""
    project = next(each["id"] for each in ask(address, "/api/v1/projects")["projects"] if each["name"] == MONTHLY)
    dataset = ask(address, f"/api/v1/projects/{project}")["choices"]["dataset_id"]
    entries = [{"name": name, "forecaster": forecaster} for name, forecaster in CLASSICAL.items()]
    body = {"dataset_id": dataset, "folds": {"count": 6, "horizon": 12}, "contenders": entries,
            "baseline": "same month last year"}  # fmt: skip
    for seed in (1, 2):  # once to compile, once to be shown
        experiment = send(address, f"/api/v1/projects/{project}/experiments", {**body, "seed": seed})
        while (state := ask(address, f"/api/v1/experiments/{experiment['id']}"))["state"] != "done":
            time.sleep(0.5)
    cutoff = state["folds"][-1]["cutoff"]
    page = browser.new_page(viewport={"width": 1280, "height": 800}, color_scheme="light")
    page.goto(f"{address}/p/{project}/walkforward?series=0&cutoff={cutoff}")
    page.wait_for_selector("canvas, [role=grid]")
    settle(page)
    page.get_by_text("smoothing", exact=True).first.click()
    settle(page)
    page.screenshot(path=folder / "walkforward-classical.png")
    page.close()


def _take_anomalies(browser: Browser, address: str, folder: Path, project: int) -> None:
    """Flags as of every moment with a drill that is done, one of them looked at."""
    scan = ask(address, f"/api/v1/projects/{project}")["choices"]["scan_id"]
    if ask(address, f"/api/v1/scans/{scan}/drill")["state"] != "done":
        send(address, f"/api/v1/scans/{scan}/drill", {"repeats": 40, "seed": 0})
    while (state := ask(address, f"/api/v1/scans/{scan}/drill"))["state"] == "running":
        time.sleep(1)
    if state["state"] != "done":
        raise SystemExit(f"The drill did not end well: {state['reason']}")
    end = max(each["stop"] for each in ask(address, f"/api/v1/scans/{scan}/flags")["flags"])
    page = browser.new_page(viewport={"width": 1280, "height": 800}, color_scheme="light")
    page.goto(f"{address}/p/{project}/anomalies?series=0&cutoff={end}")
    page.get_by_label("Flags", exact=True).locator("tbody tr[aria-selected]").first.wait_for()
    for _ in range(4):
        page.keyboard.press("n")
    settle(page)
    page.screenshot(path=folder / "anomalies.png")
    page.close()


def _take_layout(browser: Browser, address: str, folder: Path, project: int, cutoff: int) -> None:
    """An experiment being laid out, the last folds sealed, once every cost of a fit is known."""
    page = browser.new_page(viewport={"width": 1280, "height": 800}, color_scheme="light")
    page.goto(f"{address}/p/{project}/walkforward?series=0&cutoff={cutoff}")
    page.get_by_role("button", name="Copy, then vary").click()
    page.get_by_label("Shelf").get_by_text("…", exact=True).first.wait_for(state="detached", timeout=300_000)
    page.get_by_role("slider", name="Fold 7 of 8, cutoff").or_(page.locator(".fold").nth(6)).first.hover()
    page.get_by_role("button", name="seal from here").click()
    page.locator(".fold").nth(3).hover()
    settle(page)
    page.screenshot(path=folder / "walkforward-layout.png")
    page.close()


def _compute_features(address: str, dataset: int, until: int) -> None:
    """The features of every series, so that they are there to be shown."""
    path = f"/api/v1/datasets/{dataset}/features"
    send(address, path, {"until": until})
    deadline = time.monotonic() + 60
    while ask(address, f"{path}?until={until}")["state"] != "done":
        if time.monotonic() > deadline:
            raise SystemExit("The features of the demo panel were not computed.")
        time.sleep(0.5)


def _take_kept(browser: Browser, address: str, folder: Path, project: int) -> None:
    """Everything kept by name, with something deleted that can be restored."""
    chains, plans = f"/api/v1/projects/{project}/chains", f"/api/v1/projects/{project}/plans"
    send(address, chains, {"name": "day and week", "stages": [{"kind": "loess_seasons", "periods": [24, 168]}]})
    gone = send(address, chains, {"name": "first try", "stages": [{"kind": "log"}]})
    send(address, plans, {"name": "yesterday and last week", "plan": {"lags": [1, 24, 168]}})
    page = browser.new_page(viewport={"width": 1280, "height": 800}, color_scheme="light")
    page.goto(f"{address}/p/{project}/flatten")
    page.wait_for_selector("canvas")
    settle(page)
    page.keyboard.press("k")
    page.get_by_role("button", name=f"Delete {gone['name']}").click()
    page.get_by_role("button", name=f"Restore {gone['name']}").wait_for()
    page.screenshot(path=folder / "everything-kept.png")
    page.close()


def _take_findings(browser: Browser, address: str, folder: Path) -> None:
    """A file that lies, as Intake shows it before anything is stored."""
    page = browser.new_page(viewport={"width": 1280, "height": 800}, color_scheme="light")
    page.goto(f"{address}/?projects=1")
    page.get_by_label("Name of a new project").fill(f"Production, {time.time():.0f}")
    page.get_by_role("button", name="Create").click()
    page.get_by_role("heading", name="Bring data in").wait_for()
    with tempfile.TemporaryDirectory() as files:
        production = next(path for path in write_demo(Path(files)) if path.name == PRODUCTION)
        page.get_by_label("File", exact=True).set_input_files(production)
        page.get_by_label("Show what “take them as missing” would do").click()
        page.get_by_text("dashed:").wait_for()
        settle(page)
        page.screenshot(path=folder / "intake-findings.png")
    page.close()


@contextmanager
def running() -> Iterator[str]:
    """The address of a Proteron started for this, with a home that is gone afterwards."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    with tempfile.TemporaryDirectory() as home:
        environment = {**os.environ, "PROTERON_HOME": home, "PROTERON_PORT": str(port)}
        process = subprocess.Popen([ROOT / "run"], env=environment, stdout=subprocess.PIPE, text=True)
        try:
            assert process.stdout is not None
            if "ready" not in process.stdout.readline():
                raise SystemExit("Proteron did not start.")
            yield f"http://127.0.0.1:{port}"
        finally:
            process.terminate()
            process.wait(30)


if __name__ == "__main__":
    if len(sys.argv) > 1:
        take(sys.argv[1], ROOT / "docs" / "screenshots")
    else:
        with running() as address:
            take(address, ROOT / "docs" / "screenshots")
