"""The Windows room as its user drives it: the drawing, the text and the table are one plan."""

import re

import numpy as np
from playwright.sync_api import Page, Route, expect
from test_ui import browser_context_args, browser_type_launch_args, choose, quiet, room  # noqa: F401

from conftest import Stack, hourly_csv


def plan_of(stack: Stack, project: int) -> dict:
    return dict(stack.ok("GET", f"/projects/{project}")["choices"]["plan"])


def text(page: Page) -> str:
    return page.get_by_label("Plan as text").input_value()


def test_the_plan_is_drawn_typed_and_kept_alike(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    project, _ = stack.project("drawn plan", hourly_csv(np.random.default_rng(5), 900))
    room(page, stack, project, "windows", "?cutoff=800")
    area = page.get_by_label("Plan as text")
    area.fill("lags 1-3; mean 24; ahead 1-4")
    area.press("Enter")
    expect(page.get_by_role("columnheader", name="mean 24")).to_be_visible()

    # by keys: lag 5 on, then swept to 7
    lags = page.get_by_role("slider", name=re.compile("^Lags"))
    lags.focus()
    for _ in range(4):
        page.keyboard.press("ArrowLeft")
    page.keyboard.press("Space")
    expect(area).to_have_value("lags 1-3, 5; mean 24; ahead 1-4")
    page.keyboard.press("Shift+ArrowLeft")
    expect(area).to_have_value("lags 1-3, 5, 6; mean 24; ahead 1-4")
    edge = page.get_by_role("slider", name=re.compile("^mean 24"))
    edge.focus()
    page.keyboard.press("ArrowRight")
    expect(area).to_have_value("lags 1-3, 5, 6; mean 23; ahead 1-4")
    page.get_by_role("slider", name=re.compile("^Horizon")).focus()
    page.keyboard.press("ArrowRight")
    expect(area).to_have_value("lags 1-3, 5, 6; mean 23; ahead 1-5")

    # by pointer: sweeping known lags takes them out, dragging an edge widens the span
    box = lags.bounding_box()
    assert box is not None
    cell = page.locator(".lag").first.bounding_box()
    assert cell is not None
    first, y = box["x"] + box["width"] - cell["width"] / 2, cell["y"] + 4
    width = (page.locator(".lag").nth(0).bounding_box() or {})["x"] - (
        page.locator(".lag").nth(1).bounding_box() or {}
    )["x"]
    page.mouse.move(first, y)
    page.mouse.down()
    page.mouse.move(first - width, y, steps=3)
    page.mouse.up()
    expect(area).to_have_value("lags 3, 5, 6; mean 23; ahead 1-5")
    handle = page.get_by_role("slider", name=re.compile("^mean 23")).bounding_box()
    assert handle is not None
    page.mouse.move(handle["x"] + handle["width"] / 2, handle["y"] + 3)
    page.mouse.down()
    page.mouse.move(handle["x"] + handle["width"] / 2 + 5 * width, handle["y"] + 3, steps=4)
    page.mouse.up()
    expect(area).to_have_value(re.compile(r"mean 1[78]; "))
    stack.wait(f"/projects/{project}", lambda found: found["choices"]["plan"]["lags"] == [3, 5, 6])
    expect(page.get_by_role("columnheader", name=re.compile("^mean 1[78]"))).to_be_visible()
    page.reload()
    expect(area).to_have_value(re.compile(r"^lags 3, 5, 6; mean 1[78]; ahead 1-5$"))


def test_words_complete_and_bad_plans_are_refused_where_they_are_typed(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    project, _ = stack.project("bad plan", hourly_csv(np.random.default_rng(5), 300))
    room(page, stack, project, "windows", "?cutoff=200")
    area = page.get_by_label("Plan as text")
    expect(area).not_to_have_value("")
    area.fill("lags 1-3; weig")
    area.press("Control+End")
    expect(page.get_by_role("option", name="weighted mean")).to_be_visible()
    page.keyboard.press("Tab")
    page.keyboard.type("6; ahead 1")
    page.keyboard.press("Enter")
    expect(area).to_have_value("lags 1-3; weighted mean 6; ahead 1")
    stack.wait(f"/projects/{project}", lambda found: "plan" in found["choices"])
    kept = plan_of(stack, project)
    for typed, said in (
        ("lags 0-3; ahead 1", "lag 0 would be the target"),
        ("lags 1, 4000; ahead 1", "“lag 4000” looks back 4,000 points, but the longest series has 300"),
        ("lags 1; ahead 1-4 fed back", "fed back step by step"),
        ("lags 1; ahead", "is not a part of a plan"),
    ):
        area.fill(typed)
        area.press("Enter")
        expect(page.get_by_role("alert")).to_contain_text(said)
        expect(area).to_have_value(typed)  # what was typed stays
    assert plan_of(stack, project) == kept
    area.press("Escape")
    expect(area).to_have_value("lags 1-3; weighted mean 6; ahead 1")
    page.get_by_text("Fields").click()
    for field, typed, said in (
        ("lags", "0", "lag 0 would be the target"),
        ("lags", "1-3, 400", "looks back 400 points"),
        ("steps ahead", "", "at least one step ahead"),
        ("mean of last", "500", "looks back 500 points"),
    ):
        entry = page.get_by_label(field, exact=True)
        before = entry.input_value()
        entry.fill(typed)
        entry.press("Tab")
        expect(page.locator(".folded").get_by_role("alert")).to_contain_text(said)
        back = page.get_by_role("button", name="Back to it")
        if back.is_visible():
            back.click()
        entry.fill(before)
        entry.press("Tab")
    assert plan_of(stack, project) == kept


def test_nothing_is_typed_into_a_plan_that_is_not_there_yet(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    project, _ = stack.project("late plan", hourly_csv(np.random.default_rng(5), 300))
    held: list[Route] = []
    page.route("**/windows", lambda route: held.append(route), times=1)
    room(page, stack, project, "windows", "?cutoff=200")
    area = page.get_by_label("Plan as text")
    expect(area).not_to_be_editable()
    held.pop().continue_()
    expect(area).to_have_value("lags 1-24; ahead 1")
    area.press("Control+a")
    page.keyboard.type("mean 24; ahead 1")
    page.keyboard.press("Enter")
    expect(page.get_by_role("columnheader", name="mean 24")).to_be_visible()


def test_rows_explain_themselves_and_those_left_out_too(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    lines = hourly_csv(np.random.default_rng(5), 400).splitlines()
    project, dataset = stack.project("rows", "\n".join(line for i, line in enumerate(lines) if i != 100) + "\n")
    room(page, stack, project, "windows", "?cutoff=300")
    area = page.get_by_label("Plan as text")
    area.fill("lags 1-3; mean 24; sum 24; ahead 1-2")
    area.press("Enter")
    grid = page.get_by_role("grid", name="Window table")
    expect(page.get_by_role("columnheader", name="sum 24")).to_be_visible()
    expect(page.get_by_text("Nearly the same information")).to_be_visible()
    expect(page.get_by_text(re.compile("mean 24 · sum 24|sum 24 · mean 24"))).to_be_visible()

    grid.focus()
    page.keyboard.press("ArrowRight")
    expect(page.locator(".chip")).to_contain_text(re.compile(r"lag 1 ← .* → [\d.,]+"))
    said = page.locator(".chip").inner_text()
    page.keyboard.press("ArrowDown")
    expect(page.locator(".chip")).not_to_have_text(said)
    expect(page.get_by_role("status")).to_contain_text("information")

    page.keyboard.press("Enter")  # by lag 1, largest first
    cell = grid.get_by_role("row").nth(1).locator(".cell").first
    expect(page.get_by_role("columnheader", name="lag 1 ↓")).to_be_visible()
    page.keyboard.press("Home")
    largest = float(cell.inner_text())
    page.keyboard.press("Enter")
    expect(page.get_by_role("columnheader", name="lag 1 ↑")).to_be_visible()
    page.keyboard.press("Home")
    expect(cell).not_to_have_text(f"{largest:.3f}")
    assert float(cell.inner_text()) < largest
    page.keyboard.press("Enter")
    rows = int(grid.get_attribute("aria-rowcount") or 0)
    page.get_by_label("Only rows where").fill(f"lag 1 >= {largest}")
    page.get_by_label("Only rows where").press("Enter")
    expect(grid).to_have_attribute("aria-rowcount", "1")
    page.get_by_label("Only rows where").fill("colour >= 3")
    page.get_by_label("Only rows where").press("Enter")
    expect(page.get_by_text("begins with no column")).to_be_visible()
    page.get_by_label("Only rows where").fill("")
    page.get_by_label("Only rows where").press("Enter")
    expect(grid).to_have_attribute("aria-rowcount", str(rows))

    page.get_by_role("button", name="left out: missing target").click()
    lost = page.get_by_role("listbox", name="Rows left out")
    expect(lost.get_by_role("option").first).to_contain_text("missing target: +2")
    counted = stack.ok("POST", f"/datasets/{dataset}/windows/left-out", {"plan": plan_of(stack, project), "series": 0})
    assert sum(map(sum, counted["counts"])) + rows == 400
    lost.focus()
    page.keyboard.press("Escape")
    expect(grid).to_be_visible()
    choose(page, "Series in the table", "all series")
    expect(grid).to_have_attribute("aria-rowcount", re.compile(r"^[67]\d\d$"))
    expect(grid.locator(".key").nth(1)).to_be_visible()

    page.get_by_role("button", name="One cycle").click()
    expect(area).to_have_value(re.compile("^lags 1-25; mean 24; std 24; hour_of_day; ahead 1, 2$"))
