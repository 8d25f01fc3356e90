"""Every room in both themes, examined by axe-core; a slow server and a failing one, seen from the page."""

import json
from pathlib import Path

import pytest
from playwright.sync_api import Page, Route, expect
from test_ui import browser_context_args, browser_type_launch_args, demo, quiet, room  # noqa: F401

from conftest import Stack

AXE = Path(__file__).parents[2] / "ui" / "node_modules" / "axe-core" / "axe.min.js"
ROOMS = ["intake", "profile", "flatten", "windows", "walkforward", "anomalies", "outlook"]
MARKS = {"walkforward": "is best, skill", "outlook": "ranges from", "anomalies": "flags in this series"}


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
        expect(page.get_by_text(MARKS.get(name, "Proteron")).first).to_be_visible(timeout=15_000)
        page.wait_for_load_state("networkidle")
        page.evaluate(AXE.read_text())
        assert page.evaluate("document.documentElement.dataset.theme") == theme
        faults[name] = found(page)
    assert faults == {name: [] for name in ROOMS}


def test_on_a_slow_server_nothing_untrue_is_said(quiet: Page, stack: Stack, demo: int) -> None:  # noqa: F811
    page = quiet

    def late(route: Route) -> None:
        page.wait_for_timeout(700)
        route.continue_()

    page.route("**/api/v1/experiments/*/board", late)
    page.route("**/line?**", late)
    page.goto(f"{stack.address}/p/{demo}/walkforward")
    said: set[str] = set()
    sentence = page.locator("p.sentence").last
    for _ in range(30):
        if sentence.count():
            said.add(sentence.inner_text().strip())
        page.wait_for_timeout(50)
    expect(page.get_by_text("is best, skill").first).to_be_visible(timeout=15_000)
    assert not any("No verdict" in text for text in said), said


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
