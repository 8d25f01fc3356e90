"""Every room by the keyboard alone: from nothing to an outlook without a pointer."""

import re

import numpy as np
from playwright.sync_api import Page, expect
from test_ui import browser_context_args, browser_type_launch_args, quiet  # noqa: F401

from conftest import Stack, hourly_csv

NAME = "(e => e.getAttribute('aria-label') ?? e.labels?.[0]?.innerText ?? e.innerText ?? '')(document.activeElement)"


def reach(page: Page, name: str, back: bool = False) -> None:
    """Tab until what has the focus is called `name`."""
    for _ in range(120):
        if re.search(name, page.evaluate(NAME).strip()):
            return
        page.keyboard.press("Shift+Tab" if back else "Tab")
    raise AssertionError(f"{name} cannot be reached")


def press(page: Page, name: str) -> None:
    reach(page, name)
    page.keyboard.press("Enter")


def test_from_a_file_to_an_outlook_without_a_pointer(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    page.goto(stack.address + "/?projects=1")
    reach(page, "^Name of a new project")
    page.keyboard.type("by keys")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Bring data in")).to_be_visible()
    with page.expect_file_chooser() as chooser:
        press(page, "^(Choose|Pick).*file|^File")
    csv = hourly_csv(np.random.default_rng(3), 700)
    chooser.value.set_files({"name": "inflow.csv", "mimeType": "text/csv", "buffer": csv.encode()})
    expect(page.get_by_text("reads as a time in every row sampled")).to_be_visible(timeout=15_000)
    reach(page, "^Role of value")
    press(page, "^Make dataset$")
    expect(page.get_by_text("rows read")).to_be_visible()
    reach(page, "^Series in the dataset")
    page.keyboard.press("ArrowDown")

    page.keyboard.press("2")
    reach(page, "^Level$")
    page.keyboard.press("ArrowRight")
    expect(page.get_by_role("tab", name="Cycles")).to_have_attribute("aria-selected", "true")
    reach(page, "arrow keys read them")
    page.keyboard.press("ArrowRight")
    expect(page.get_by_role("status").last).not_to_contain_text("Point at a chart")

    page.keyboard.press("3")
    press(page, r"^\+ stage")
    press(page, "^period means$")
    expect(page.get_by_text("of variance").first).to_be_visible()
    expect(page.get_by_text("keeping…")).to_have_count(0)

    page.keyboard.press("4")
    reach(page, "^Window table$")
    page.keyboard.press("ArrowDown")
    expect(page.locator(".row.here")).to_have_count(1)
    page.keyboard.press("r")
    expect(page.get_by_text("Leak check passed")).to_be_visible(timeout=30_000)

    page.keyboard.press("5")
    press(page, "^Set up an experiment$")
    press(page, "^Run$")
    expect(page.get_by_text("is best, skill")).to_be_visible(timeout=60_000)
    expect(page.get_by_role("button", name="Stop (Esc)")).to_have_count(0, timeout=90_000)
    reach(page, "^Board$")
    first = page.locator("tr.here td.name").inner_text()
    page.keyboard.press("ArrowDown")
    expect(page.locator("tr.here td.name")).not_to_have_text(first)
    page.keyboard.press("ArrowUp")
    press(page, "^Take to Outlook$")
    expect(page.get_by_text("in 95 of 100 such cases")).to_be_visible(timeout=30_000)
    reach(page, "^Outlook table$")
    page.keyboard.press("ArrowDown")
    expect(page.locator("tr.here")).to_have_count(1)

    page.keyboard.press("6")
    expect(page.get_by_role("button", name="Look through the data (r)")).to_be_enabled()
    page.keyboard.press("r")
    expect(page.get_by_text("what would have been caught")).to_be_visible(timeout=60_000)
    reach(page, "^Flags$")
