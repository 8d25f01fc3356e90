"""An experiment laid out in the room: by keyboard alone, by pointer alone, and what cannot be, said at once."""

import re

import numpy as np
from playwright.sync_api import Locator, Page, Route, expect
from test_ui import browser_context_args, browser_type_launch_args, quiet  # noqa: F401

from conftest import Stack, hourly_csv

SIX = ("last value", "same season last cycle", "drift", "mean", "trend curve", "ridge on windows")


def opened(page: Page, stack: Stack, name: str) -> int:
    """The room of a new project, an experiment being set up in it with nobody entered yet."""
    project, _ = stack.project(name, hourly_csv(np.random.default_rng(3), 600))
    page.goto(f"{stack.address}/p/{project}/walkforward?cutoff=400")
    return project


def newest(stack: Stack, project: int) -> dict:
    brief = max(stack.ok("GET", f"/projects/{project}")["experiments"], key=lambda each: each["id"])
    return stack.ok("GET", f"/experiments/{brief['id']}")


def tab_to(page: Page, wanted: Locator, most: int = 160) -> None:
    """Tab until it has the focus."""
    for _ in range(most):
        if wanted.evaluate("each => each === document.activeElement"):
            return
        page.keyboard.press("Tab")
    raise AssertionError(f"{wanted} is not reached by Tab")


def line_is(page: Page, words: str | re.Pattern[str]) -> None:
    expect(page.get_by_label("Folds in words")).to_have_value(words)


def handle(page: Page, fold: int, of: int, part: str) -> Locator:
    return page.get_by_role("slider", name=f"Fold {fold} of {of}, {part}", exact=True)


def test_by_keyboard_alone(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    project = opened(page, stack, "laid out by keyboard")
    tab_to(page, page.get_by_role("button", name="Set up an experiment"))
    page.keyboard.press("Enter")
    line_is(page, "8 folds, all before, 30 h ahead")
    tab_to(page, handle(page, 1, 8, "cutoff"))
    page.keyboard.press("ArrowDown")
    expect(handle(page, 2, 8, "cutoff")).to_be_focused()
    page.keyboard.press("-")
    line_is(page, "7 folds, all before, 30 h ahead")
    page.keyboard.press("-")
    line_is(page, "6 folds, all before, 30 h ahead")
    page.keyboard.press("ArrowLeft")  # fold 2 moves, and all before the last keep their distance
    line_is(page, "6 folds, all before, every 31 h, 30 h ahead")
    page.keyboard.press("Shift+ArrowLeft")
    line_is(page, "6 folds, all before, every 55 h, 30 h ahead")
    tab_to(page, handle(page, 2, 6, "end of the gap"))
    page.keyboard.press("ArrowRight")
    line_is(page, "6 folds, all before, every 55 h, gap 1 h, 30 h ahead")
    tab_to(page, handle(page, 2, 6, "end of what is scored"))
    page.keyboard.press("Shift+ArrowLeft")
    line_is(page, "6 folds, all before, every 55 h, gap 1 h, 6 h ahead")
    for _ in range(3):
        page.keyboard.press("ArrowDown")
    page.keyboard.press("s")
    line_is(page, "6 folds, all before, every 55 h, gap 1 h, 6 h ahead, last 2 sealed")

    shelf, draft = page.get_by_label("Shelf"), page.get_by_label("To the board")
    tab_to(page, shelf.get_by_label("Enter last value"))
    for _ in range(30):
        focused = page.evaluate("document.activeElement.getAttribute('aria-label').slice(6)")
        box = shelf.get_by_label(f"Enter {focused}", exact=True)
        if (focused in SIX) != box.is_checked():
            page.keyboard.press("Space")
        page.keyboard.press("ArrowDown")
    expect(draft.get_by_text("6 entrants")).to_be_visible()
    vary = page.get_by_role("button", name="Vary trend curve")
    tab_to(page, vary)
    page.keyboard.press("Enter")
    shape = page.get_by_label("Vary", exact=True).get_by_role("combobox", name="Shape")
    tab_to(page, shape)
    page.keyboard.press("ArrowDown")
    for _ in range(2):
        page.keyboard.press("ArrowDown")
        page.keyboard.press("Space")
    page.keyboard.press("Escape")
    tab_to(page, page.get_by_role("button", name="Enter 2 variants"))
    page.keyboard.press("Enter")
    expect(draft.get_by_text("7 entrants")).to_be_visible()
    expect(draft.get_by_role("status")).to_contain_text("28 cells")
    tab_to(page, draft.get_by_role("button", name="Run", exact=True))
    page.keyboard.press("Enter")
    expect(page.get_by_text("is best, skill")).to_be_visible(timeout=90_000)

    made = newest(stack, project)
    assert (len(made["folds"]), len(made["sealed"]), made["gap"], made["horizon"]) == (4, 2, 1, 6)
    assert {b["cutoff"] - a["cutoff"] for a, b in zip(made["folds"], made["folds"][1:], strict=False)} == {55}
    names = [each["name"] for each in made["contenders"]]
    assert len(names) == 7 and sum(name.startswith("trend curve, shape ") for name in names) == 2
    assert made["baseline"] in names


def test_by_pointer_alone(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    project = opened(page, stack, "laid out by pointer")
    page.get_by_role("button", name="Set up an experiment").click()
    line_is(page, "8 folds, all before, 30 h ahead")
    plot = page.get_by_label("Folds", exact=True).locator(".plot")
    box = plot.bounding_box()
    assert box is not None

    def drag(fold: int, of: int, part: str, to: float) -> None:
        """To a share of the whole extent."""
        plot.locator(".fold").nth(fold - 1).hover()
        held = handle(page, fold, of, part).bounding_box()
        assert held is not None
        page.mouse.move(held["x"] + held["width"] / 2, held["y"] + held["height"] / 2)
        page.mouse.down()
        page.mouse.move(box["x"] + box["width"] * to, held["y"] + 3, steps=6)
        page.mouse.up()

    for _ in range(3):
        page.get_by_role("button", name="One fold fewer").click()
    line_is(page, "5 folds, all before, 30 h ahead")
    drag(1, 5, "cutoff", 0.5)
    line_is(page, re.compile(r"5 folds, all before, every 6\d h, 30 h ahead"))
    drag(2, 5, "where it begins to learn", 0.3)
    line_is(page, re.compile(r"5 folds, the last \d+ h, every 6\d h, 30 h ahead"))
    drag(4, 5, "end of the gap", 0.87)
    line_is(page, re.compile(r", gap \d+ h, 30 h ahead"))
    drag(5, 5, "end of what is scored", 0.97)
    line_is(page, re.compile(r", gap \d+ h, (1|2)\d h ahead"))
    plot.locator(".fold").nth(4).hover()
    page.get_by_role("button", name="seal from here").click()
    line_is(page, re.compile(r", last 1 sealed$"))
    draft = page.get_by_label("To the board")
    for name in ("Dense on windows", "Ridge on windows"):
        draft.get_by_role("button", name=f"Remove {name}").click()
    for kind in ("trend curve", "moving average"):
        page.get_by_label(f"Enter {kind}", exact=True).click()
    expect(draft.get_by_text("6 entrants")).to_be_visible()
    expect(draft.get_by_role("status")).to_contain_text("24 cells")
    draft.get_by_role("button", name="Run", exact=True).click()
    expect(page.get_by_text("is best, skill")).to_be_visible(timeout=90_000)
    made = newest(stack, project)
    assert made["design"]["kind"] == "sliding" and len(made["folds"]) == 4 and len(made["sealed"]) == 1
    assert abs(made["folds"][0]["cutoff"] - 300) < 30 and len(made["contenders"]) == 6
    # The same once more: everything is there, or comes in.
    page.get_by_role("button", name="Copy, then vary").click()
    expect(draft.get_by_role("status")).to_contain_text("24 there already, 0 to compute", timeout=60_000)


def test_a_line_that_cannot_be_is_said_and_kept(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    opened(page, stack, "lines of folds")
    page.get_by_role("button", name="Set up an experiment").click()
    line, run = page.get_by_label("Folds in words"), page.get_by_role("button", name="Run", exact=True)
    line_is(page, "8 folds, all before, 30 h ahead")
    line.fill("4 folds, all before, every blue moon")
    line.press("Tab")
    expect(page.get_by_role("alert")).to_contain_text("“every blue moon” is not understood")
    line_is(page, "4 folds, all before, every blue moon")
    expect(page.locator(".fold")).to_have_count(8)  # what was laid out stands
    line.fill("400 folds, all before, 24 h ahead")
    line.press("Tab")
    expect(page.get_by_role("alert").first).to_contain_text("nothing to learn from")
    line.fill("folds after 2024-01-15; 2024-01-20 05:00, 24 h ahead, last 1 sealed")
    line.press("Tab")
    expect(page.get_by_role("alert")).to_have_count(0)
    expect(page.locator(".fold")).to_have_count(2)
    expect(run).to_be_enabled()
    page.locator(".fold").nth(1).hover()
    handle(page, 2, 2, "cutoff").focus()
    page.keyboard.press("ArrowRight")
    line_is(page, "folds after 2024-01-15 00:00; 2024-01-20 06:00, 24 h ahead, last 1 sealed")


def test_on_a_slow_server_nothing_untrue_is_said(page: Page, stack: Stack) -> None:
    """Before the answer is there nothing is counted, and where it fails nothing can run."""
    opened(page, stack, "slow laying out")
    held: list[Route] = []
    failing = False
    page.route("**/prospect", lambda route: route.abort() if failing else held.append(route))
    page.get_by_role("button", name="Set up an experiment").click()
    draft = page.get_by_label("To the board")
    expect(draft.get_by_role("button", name="last value", exact=True)).to_be_visible()
    expect(draft.get_by_role("status")).to_be_empty()
    expect(page.locator(".fold")).to_have_count(0)
    failing = True
    for route in held:
        route.abort()
    expect(draft.get_by_role("alert")).to_be_visible(timeout=30_000)
    expect(draft.get_by_role("button", name="Run", exact=True)).to_be_disabled()


def test_forecasts_made_elsewhere_enter_from_a_file(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    project = opened(page, stack, "brought forecasts")
    page.get_by_role("button", name="Set up an experiment").click()
    rows = [f"2024-01-{day:02d}T{hour:02d}:00,north,{hour + 20}" for day in range(20, 26) for hour in range(24)]
    text = "time,series,forecast\n" + "\n".join([*rows, "2024-01-20T00:30,north,1", "2024-01-20T00:00,south,1"])
    file = {"name": "neighbours.csv", "mimeType": "text/csv", "buffer": text.encode()}
    page.get_by_label("Forecasts made elsewhere").set_input_files(file)
    draft = page.get_by_label("To the board")
    expect(draft.get_by_role("status")).to_contain_text("neighbours: 144 of 146 rows are used.", timeout=60_000)
    expect(draft.get_by_role("status")).to_contain_text("no series south")
    expect(draft.get_by_text("made elsewhere, cutoff not proven")).to_be_visible()
    draft.get_by_role("button", name="Run", exact=True).click()
    expect(page.get_by_text("is best, skill")).to_be_visible(timeout=90_000)
    made = newest(stack, project)
    stack.wait(f"/experiments/{made['id']}", lambda each: each["state"] == "done")
    found = stack.ok("GET", f"/experiments/{made['id']}/deceptions")["deceptions"]
    assert [each["kind"] for each in found if each["contender"] == "neighbours"][:1] == ["unproven"]
    page.get_by_role("cell", name="neighbours", exact=True).click()
    expect(page.get_by_label("Inspector").get_by_text("nothing proves that it knew nothing")).to_be_visible()
