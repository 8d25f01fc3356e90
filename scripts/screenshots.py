"""Retake every screenshot in docs/screenshots from the demo project of a running Proteron.

./run &                                    # or any running instance
.venv/bin/python scripts/screenshots.py [ADDRESS] [FOLDER]
"""

import json
import sys
import time
import urllib.request
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

CHROMIUM = "/usr/bin/chromium"
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]
ROOMS = ("intake", "profile", "flatten", "windows", "walkforward", "anomalies", "outlook")
NIGHT = ("flatten",)
PROJECT = "Port Ellery inflow"


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
        for room in ROOMS:
            scheme = "dark" if room in NIGHT else "light"
            page = browser.new_page(viewport={"width": 1280, "height": 800}, color_scheme=scheme)
            page.on("console", lambda message: message.type == "error" and print(message.text))
            page.on("pageerror", print)
            page.goto(f"{address}/p/{project}/{room}?series=0&cutoff={cutoff}")
            page.wait_for_selector("canvas")
            settle(page)
            page.mouse.move(620, 300)
            page.wait_for_timeout(300)
            page.screenshot(path=folder / f"{room}.png")
            page.close()
        browser.close()


if __name__ == "__main__":
    take(
        sys.argv[1] if len(sys.argv) > 1 else "http://127.0.0.1:8765",
        Path(sys.argv[2] if len(sys.argv) > 2 else "docs/screenshots"),
    )
