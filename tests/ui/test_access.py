"""Every room in both themes, examined by axe-core; a slow server and a failing one, seen from the page."""

import json
import re
from pathlib import Path

import pytest
from playwright.sync_api import Page, Route, expect
from test_ui import browser_context_args, browser_type_launch_args, demo, quiet, room  # noqa: F401

from conftest import Stack

AXE = Path(__file__).parents[2] / "ui" / "node_modules" / "axe-core" / "axe.min.js"
ROOMS = ["intake", "profile", "flatten", "windows", "walkforward", "anomalies", "outlook"]
MARKS = {
    "intake": "rows read", "profile": "unit root", "flatten": "stage 1 of", "windows": "rows of",
    "walkforward": "is best, skill", "outlook": "ranges from", "anomalies": "what would have been caught",
}  # fmt: skip


def found(page: Page) -> list[str]:
    """Serious and critical findings, each with the places it was found at."""
    result = page.evaluate("axe.run(document, { resultTypes: ['violations'] })")
    return [
        f"{each['id']}: {json.dumps([node['target'] for node in each['nodes']][:4])}"
        for each in result["violations"]
        if each["impact"] in ("serious", "critical")
    ]


@pytest.mark.parametrize("theme", ["day", "night"])
def test_no_room_keeps_anybody_out(quiet: Page, stack: Stack, demo: int, theme: str) -> None:  # noqa: F811
    page = quiet
    page.add_init_script(f"localStorage.setItem('proteron-theme', '{'dark' if theme == 'night' else 'light'}')")
    faults = {}
    for name in ROOMS:
        room(page, stack, demo, name)
        expect(page.get_by_text(MARKS[name]).first).to_be_visible(timeout=15_000)
        page.wait_for_load_state("networkidle")
        page.evaluate(AXE.read_text())
        assert page.evaluate("document.documentElement.dataset.theme") == theme
        faults[name] = found(page)
    assert faults == {name: [] for name in ROOMS}


UNTRUE = re.compile(
    "no data|no verdict|no (experiment|scan|outlook) yet|nothing|no flag|no numeric|no period|0 flags|0 of 0|none|NaN",
    re.IGNORECASE,
)
LATE = """
const own = window.fetch;
window.fetch = async (...all) => (await new Promise((done) => setTimeout(done, 2000)), own(...all));
window.said = new Set(); window.bare = 0;
const look = () => {
  const main = document.querySelector('main');
  if (main) {
    main.innerText.split('\\n').forEach((line) => window.said.add(line));
    if (!main.querySelector('canvas, .p-skeleton, table, [aria-busy=true]') && !main.innerText.trim()) window.bare++;
  }
  requestAnimationFrame(look);
};
requestAnimationFrame(look);
"""


@pytest.mark.parametrize("name", ROOMS)
def test_on_a_slow_server_nothing_untrue_is_said(quiet: Page, stack: Stack, demo: int, name: str) -> None:  # noqa: F811
    page = quiet
    page.goto(f"{stack.address}/p/{demo}/{name}")
    page.get_by_text(MARKS[name]).first.wait_for()
    page.wait_for_load_state("networkidle")
    settled = set(page.locator("main").inner_text().splitlines())
    page.add_init_script(LATE)
    page.goto(f"{stack.address}/p/{demo}/{name}")
    expect(page.get_by_text(MARKS[name]).first).to_be_visible(timeout=25_000)
    said = set(page.evaluate("[...window.said]"))
    assert [line for line in said - settled if UNTRUE.search(line)] == []
    assert page.evaluate("window.bare") == 0


def test_a_question_that_fails_says_why_and_is_asked_again(page: Page, stack: Stack, demo: int) -> None:  # noqa: F811
    refused = {"on": True}

    def broken(route: Route) -> None:
        if refused["on"]:
            route.fulfill(status=500, content_type="application/problem+json", body='{"detail": "The disk is full."}')
        else:
            route.continue_()

    dataset = stack.ok("GET", f"/projects/{demo}")["choices"]["dataset_id"]
    first = stack.ok("GET", f"/datasets/{dataset}")["grid"]["start"] + 100 * 86400
    page.route("**/line?start**", broken)
    # What is seen is chosen, so that no room asks for something else meanwhile.
    page.goto(f"{stack.address}/p/{demo}/walkforward?cutoff=3000&from={first}&to={first + 20 * 86400}")
    lane = page.get_by_label("forecasts from the cutoff").first
    expect(lane.get_by_role("alert")).to_contain_text("The disk is full.")
    refused["on"] = False
    lane.get_by_role("button", name="Try again").click()
    expect(lane.get_by_role("alert")).to_have_count(0)


@pytest.mark.parametrize("part", ["level", "cycles", "memory", "shape", "columns"])
def test_every_chart_says_what_is_pointed_at(quiet: Page, stack: Stack, demo: int, part: str) -> None:  # noqa: F811
    page = quiet
    room(page, stack, demo, "profile", f"?part={part}")
    charts = page.locator("figure .host")
    expect(charts.first.locator("canvas")).to_be_visible(timeout=15_000)
    for at in range(charts.count()):
        chart = charts.nth(at)
        expect(chart.locator("canvas")).to_be_visible()
        chart.hover()
        chart.press("ArrowRight")
        expect(chart).not_to_have_attribute("aria-label", re.compile("arrow keys read them"))
        expect(page.get_by_role("status").last).not_to_contain_text("Point at a chart")
