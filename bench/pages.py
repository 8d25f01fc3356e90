"""How soon rooms show something, how soon a key is followed, how evenly a long series pans, what is transferred.

`python bench/pages.py ADDRESS [ADDRESS …]` measures running servers one after the other, warm, with the demo project,
and prints the first one's times and how many times as long the others take. Nothing here is a bar a test asserts.
"""

import json
import statistics
import sys
import time
import urllib.request
from typing import Any

from playwright.sync_api import Browser, Page, sync_playwright

FLAGS = ["--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-component-update"]
MARKS = {
    "intake": "rows read", "profile": "unit root", "flatten": "stage 1 of", "windows": "One row, drawn to scale",
    "walkforward": "is best, skill", "anomalies": "flags in this series", "outlook": "ranges from",
}  # fmt: skip
DRAWN = """
window.drawn = [];
for (const name of ['clearRect', 'fillRect', 'stroke', 'fill']) {
  const own = CanvasRenderingContext2D.prototype[name];
  CanvasRenderingContext2D.prototype[name] = function (...all) {
    if (this.canvas.closest?.('.uplot')) window.drawn.push(performance.now());
    return own.apply(this, all);
  };
}
"""
SEEN = """
const look = () => {
  if (!document.body?.textContent.includes(MARK)) return requestAnimationFrame(look);
  requestAnimationFrame(() => setTimeout(() => (window.seen = performance.now())));
};
requestAnimationFrame(look);
"""
FRAMES = """
window.frames_seen = []; let last = performance.now();
const look = (now) => {
  window.frames_seen.push(now - last); last = now;
  if (window.looking) requestAnimationFrame(look);
};
window.looking = true; requestAnimationFrame(look);
"""
POINTS = 1_000_000


def asked(address: str, path: str) -> Any:
    """An answer of the API."""
    with urllib.request.urlopen(f"{address}/api/v1{path}") as response:
        return json.load(response)


def million(address: str) -> int:
    """A project with one long series, made where there is none."""
    found = [each["id"] for each in asked(address, "/projects")["projects"] if each["name"] == "a million points"]
    if found:
        return int(found[0])

    def send(path: str, body: bytes, kind: str) -> Any:
        headers = {"Content-Type": kind, "Origin": address}
        request = urllib.request.Request(f"{address}/api/v1{path}", body, headers, method="POST")
        with urllib.request.urlopen(request) as response:
            return json.load(response)

    project = send("/projects", b'{"name": "a million points"}', "application/json")["id"]
    start = 1_600_000_000
    rows = (
        f"{time.strftime('%Y-%m-%dT%H:%M:%SZ', time.gmtime(start + 60 * i))},{50 + (i * 7919) % 997 / 50:.2f}"
        for i in range(POINTS)
    )
    upload = send("/uploads?name=long.csv", ("time,y\n" + "\n".join(rows)).encode(), "text/csv")["upload_id"]
    made = json.dumps({"recipe": {}, "project_id": project, "name": "long"}).encode()
    send(f"/uploads/{upload}/dataset", made, "application/json")
    return int(project)


def opened(browser: Browser, address: str, path: str, mark: str) -> tuple[float, float]:
    """Milliseconds from navigation until what a room is about is painted, with an empty cache; kB of scripts."""
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    page = context.new_page()
    page.add_init_script(SEEN.replace("MARK", json.dumps(mark)))
    page.goto(f"{address}{path}", wait_until="commit")
    while not (passed := page.evaluate("window.seen")):
        page.wait_for_timeout(50)
    page.wait_for_load_state("networkidle")
    sizes = page.evaluate(
        "performance.getEntriesByType('resource').filter(e => e.name.endsWith('.js')).map(e => e.encodedBodySize)"
    )
    context.close()
    return passed, sum(sizes) / 1000


def followed(page: Page, key: str) -> float:
    """Milliseconds from a key until the last lane is drawn."""
    times = []
    for _ in range(7):
        page.wait_for_timeout(900)
        begun = page.evaluate("window.drawn.length = 0, performance.now()")
        page.keyboard.press(key)
        page.wait_for_timeout(900)
        times.append(page.evaluate("window.drawn.at(-1) ?? performance.now()") - begun)
    return statistics.median(times)


def panned(page: Page) -> tuple[float, float]:
    """Median and longest frame while a lane is dragged, milliseconds."""
    page.evaluate(FRAMES)
    page.mouse.move(900, 300)
    page.mouse.down()
    for step in range(120):
        page.mouse.move(900 - 4 * step, 300)
        page.wait_for_timeout(8)
    page.mouse.up()
    frames = page.evaluate("window.looking = false, window.frames_seen.slice(3)")
    return statistics.median(frames), max(frames)


def measured(browser: Browser, address: str) -> dict[str, float]:
    """Everything of one server."""
    demo = next(each["id"] for each in asked(address, "/projects")["projects"] if each["name"] == "Port Ellery inflow")
    out = {}
    for name, mark in MARKS.items():
        each = [opened(browser, address, f"/p/{demo}/{name}", mark) for _ in range(5)]
        out[f"open {name}, ms"] = statistics.median(passed for passed, _ in each)
        out[f"scripts of {name}, kB"] = each[-1][1]
    page = browser.new_page(viewport={"width": 1280, "height": 800})
    page.add_init_script(DRAWN)
    page.goto(f"{address}/p/{demo}/walkforward")
    page.wait_for_load_state("networkidle")
    out["next cutoff until drawn, ms"] = followed(page, "Shift+BracketRight")
    out["next series until drawn, ms"] = followed(page, ".")
    page.goto(f"{address}/p/{million(address)}/intake")
    page.wait_for_selector("canvas")
    page.wait_for_load_state("networkidle")
    out["median frame, ms"], out["longest frame, ms"] = panned(page)
    return out


def main() -> None:
    """Print a table."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        found = [measured(browser, address) for address in sys.argv[1:]]
    for name, first in found[0].items():
        rest = "".join(f"  × {each[name] / max(first, 1e-9):.2f}" for each in found[1:])
        print(f"{name:34s} {first:9.1f}{rest}")


if __name__ == "__main__":
    main()
