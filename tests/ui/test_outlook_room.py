"""The Outlook room on data that is known ahead: scenarios by hand and by key, parts, held to it, handing over."""

import json
import re

import pytest
from playwright.sync_api import Page, expect
from test_ui import browser_context_args, browser_type_launch_args, choose, demo, quiet  # noqa: F401

from conftest import Stack


@pytest.fixture(scope="module")
def week(stack: Stack, demo: int) -> int:  # noqa: F811
    """The demo's week ahead, once all of it is made."""
    (found,) = [p["id"] for p in stack.ok("GET", "/projects")["projects"] if p["name"] == "Port Ellery week ahead"]
    stack.wait(f"/projects/{found}", lambda p: all(each["state"] == "done" for each in p["outlooks"]), 240)
    chosen = stack.ok("GET", f"/projects/{found}")["choices"]["outlook_id"]
    under = lambda s: s["scenarios"] and stack.ok("GET", f"/outlooks/{s['scenarios'][0]['id']}")["state"] == "done"  # noqa: E731
    stack.wait(f"/outlooks/{chosen}/scenarios", under, 240)
    return int(found)


@pytest.fixture
def mine(stack: Stack, week: int, request: pytest.FixtureRequest) -> int:
    """A copy of it, to be changed."""
    made = stack.ok("POST", f"/projects/{week}/copy", {"name": request.node.name})
    return int(made["id"])


def open_room(page: Page, stack: Stack, project: int) -> int:
    page.goto(f"{stack.address}/p/{project}/outlook")
    expect(page.locator("p.sentence").first).to_contain_text("is expected at", timeout=30_000)
    return int(stack.ok("GET", f"/projects/{project}")["choices"]["outlook_id"])


def scenarios(page: Page):  # type: ignore[no-untyped-def]
    return page.get_by_label("Scenarios", exact=True)


def heads(page: Page, label: str) -> list[str]:
    return [each.strip() for each in page.get_by_label(label).locator("th").all_inner_texts()]


def test_the_demo_shows_one_outlook_that_held_and_one_that_drifted(quiet: Page, stack: Stack, week: int) -> None:  # noqa: F811
    page = quiet
    open_room(page, stack, week)
    held = page.get_by_role("region", name="Held to it")
    expect(held).to_contain_text("2 outlooks, truth has come for 2")
    expect(held).to_contain_text("Has drifted since 2024-08-22 07:00: Mill Lane.")
    listed = held.get_by_label("Earlier outlooks").locator("tr")
    expect(listed).to_have_count(2)
    expect(listed.nth(0)).to_contain_text("as promised")
    expect(listed.nth(1)).to_contain_text("has drifted")
    listed.nth(0).get_by_role("button").click()
    expect(held).to_contain_text("Still as promised: mean error")
    expect(page.locator("tr", has=page.get_by_role("cell", name="steps ahead", exact=True))).to_contain_text("48")
    listed.nth(1).get_by_role("button").click()
    expect(held).to_contain_text("Has drifted since")
    beyond = page.get_by_role("complementary", name="Inspector").evaluate(
        "i => i.scrollHeight - i.scrollTop - i.lastElementChild.getBoundingClientRect().bottom"
        " + i.getBoundingClientRect().top"
    )
    assert beyond < 40, "it scrolls as far as there is something to see"


def test_one_key_refits_on_the_newest_data(quiet: Page, stack: Stack, mine: int) -> None:  # noqa: F811
    page = quiet
    before = open_room(page, stack, mine)
    expect(page.get_by_text("A newer version of its data is there: f refits on it.")).to_be_visible()
    expect(page.get_by_role("button", name="Refit on version 2 (f)")).to_be_visible()
    page.keyboard.press("f")
    known = page.locator("tr", has=page.get_by_role("cell", name="known up to", exact=True))
    expect(known).to_contain_text("2024-08-26 00:00", timeout=60_000)
    choices = stack.ok("GET", f"/projects/{mine}")["choices"]
    assert choices["outlook_id"] > before
    assert stack.ok("GET", f"/datasets/{choices['dataset_id']}")["version"] == 2
    expect(page.get_by_role("region", name="Held to it")).to_contain_text("Nothing of what it forecast has come yet.")
    expect(page.get_by_text("A newer version of its data is there")).to_have_count(0)


def test_what_is_drawn_on_the_lane_is_forecast_and_kept_by_name(quiet: Page, stack: Stack, mine: int) -> None:  # noqa: F811
    page = quiet
    outlook = open_room(page, stack, mine)
    lane = page.get_by_label("ahead", exact=True).or_(page.locator("section[aria-label^='air_temp_c']")).first
    box = lane.bounding_box()
    assert box is not None
    right, low = box["x"] + box["width"] - 60, box["y"] + box["height"] - 40
    page.mouse.move(right - 120, low)
    page.mouse.down()
    page.mouse.move(right - 60, low - 6, steps=6)
    page.mouse.move(right, low - 2, steps=6)
    page.mouse.up()
    expect(page.get_by_text("1 change, not kept yet.")).to_be_visible()
    page.get_by_label("Name of the scenario").fill("cold end")
    page.get_by_role("button", name="Forecast and keep").click()
    kept = scenarios(page).get_by_role("button", name="cold end", exact=True)
    expect(kept).to_have_attribute("aria-pressed", "true")
    expect(page.get_by_label("Outlook table").locator("th", has_text="cold end")).to_be_visible()
    found = {s["scenario"]["name"]: s for s in stack.ok("GET", f"/outlooks/{outlook}/scenarios")["scenarios"]}
    (edit,) = found["cold end"]["scenario"]["edits"]
    assert (edit["column"], edit["how"], edit["key"]) == ("air_temp_c", "set", None) and len(edit["values"]) > 10
    assert max(v for v in edit["values"] if v is not None) < 24
    plain, under = (stack.ok("GET", f"/outlooks/{n}") for n in (outlook, found["cold end"]["id"]))
    first = edit["since"] - plain["origin"]
    assert under["mean"][:first] == plain["mean"][:first] and under["mean"][-20:] != plain["mean"][-20:]
    choose(page, "Told by", "all steps")
    expect(page.get_by_label("Totals").locator("th", has_text="cold end")).to_be_visible()
    page.get_by_role("button", name="Remove cold end").click()
    expect(kept).to_have_count(0)
    expect(page.get_by_label("Totals").locator("th", has_text="cold end")).to_have_count(0)


def test_scenarios_by_key_and_from_a_table(quiet: Page, stack: Stack, mine: int) -> None:  # noqa: F811
    page = quiet
    outlook = open_room(page, stack, mine)
    title = page.get_by_role("heading", name="Ridge with the heat").first
    title.click()
    page.keyboard.press("s")
    expect(page.get_by_label("Outlook table").locator("th", has_text="heat wave from Wednesday")).to_be_visible()
    page.keyboard.press("s")
    expect(page.get_by_label("Outlook table").locator("th", has_text="heat wave")).to_have_count(0)
    tools = page.get_by_role("form", name="Change what is known ahead")
    by = tools.get_by_label("By or to")
    by.fill("4")
    by.press("Enter")
    expect(page.get_by_text("1 change, not kept yet.")).to_be_visible()
    page.get_by_role("button", name="air_temp_c from a table or a file").click()
    page.get_by_label("Values, one a line").fill("time,value\n2024-08-20 06:00,nonsense")
    page.get_by_role("button", name="Take these").click()
    expect(page.get_by_text("Line 2 is no value, and no time and value")).to_be_visible()
    page.get_by_label("Values, one a line").fill("time,value\n2024-08-20 06:00,31\n2024-08-20 07:00,32.5")
    page.get_by_role("button", name="Take these").click()
    expect(page.get_by_text("2 changes, not kept yet.")).to_be_visible()
    page.get_by_role("button", name="Take back the last").click()
    expect(page.get_by_text("1 change, not kept yet.")).to_be_visible()
    page.get_by_label("Another occasion").fill("fair")
    page.get_by_label("Its day").fill("2024-08-21")
    page.get_by_role("button", name="Add", exact=True).click()
    expect(page.get_by_text("1 change, 1 occasion more, not kept yet.")).to_be_visible()
    page.get_by_role("button", name="Forecast and keep").click()
    expect(scenarios(page)).to_contain_text("scenario 2")
    (kept,) = [
        each["scenario"] for each in stack.ok("GET", f"/outlooks/{outlook}/scenarios")["scenarios"]
        if each["scenario"]["name"] == "scenario 2"
    ]  # fmt: skip
    assert kept["edits"][0]["values"] == [4.0] and kept["added"][0]["name"] == "fair"


def test_what_a_step_is_made_of_and_how_its_sum_would_be_without_what_belongs_together(
    quiet: Page, stack: Stack, week: int  # noqa: F811
) -> None:  # fmt: skip
    page = quiet
    open_room(page, stack, week)
    parts = page.get_by_label("Parts", exact=True)
    expect(parts).to_contain_text("air_temp_c")
    values = [float(each.replace("+", "")) for each in parts.locator("td.number").all_inner_texts()]
    said = re.search(r"What ([\d.]+) is made of", parts.inner_text())
    assert said is not None and sum(values) == pytest.approx(float(said[1]), abs=0.04)
    choose(page, "Told by", "all steps")
    page.get_by_label("all series together").check()
    page.get_by_label("beside independent errors").check()
    table = page.get_by_label("Totals")
    expect(table.locator("th", has_text="independent to")).to_be_visible()
    cells = dict(zip(heads(page, "Totals"), table.locator("tbody td").all_inner_texts(), strict=True))
    number = {name: float(text.replace(",", "")) for name, text in cells.items() if name not in ("from", "of")}
    joint = number["95 % to"] - number["95 % from"]
    assert number["independent to"] - number["independent from"] < 0.8 * joint


def test_an_outlook_is_drawn_anew_and_handed_over(quiet: Page, stack: Stack, mine: int) -> None:  # noqa: F811
    page = quiet
    outlook = open_room(page, stack, mine)
    paths = stack.ok("GET", f"/outlooks/{outlook}/paths")
    page.get_by_role("heading", name="Ridge with the heat").first.click()
    page.keyboard.press("d")
    stack.wait(f"/outlooks/{outlook}", lambda each: each["seed"] == 1, 30)
    assert stack.ok("GET", f"/outlooks/{outlook}/paths") != paths
    page.get_by_role("button", name="Hand over").click()
    over = page.get_by_role("region", name="Hand over")
    expect(over).to_contain_text("The server's configuration names no database to write to.")
    choose(page, "Table", "a row per time")
    link = over.get_by_role("link", name="JSON")
    expect(link).to_have_attribute("href", f"/api/v1/outlooks/{outlook}/table?format=json&form=wide")
    with page.expect_download() as found:
        link.click()
    told = json.loads(found.value.path().read_text("utf-8"))
    assert told["about"]["seed"] == 1 and len(told["rows"]) == 168 and "Mill Lane, upper 0.95" in told["rows"][0]


def test_what_lacks_is_said_and_ranges_are_as_asked(quiet: Page, stack: Stack, mine: int) -> None:  # noqa: F811
    page = quiet
    open_room(page, stack, mine)
    steps = page.get_by_label("Steps", exact=True)
    steps.fill("200")
    steps.press("Tab")
    expect(page.get_by_text("air_temp_c is known up to 2024-08-26 00:00: 168 of 200 steps.")).to_be_visible()
    choose(page, "What lies ahead", "hold last")
    expect(page.get_by_text("air_temp_c is known up to")).to_have_count(0)
    levels = page.get_by_label("Ranges, %")
    levels.fill("60, 900")
    expect(page.get_by_text("Levels lie between 0 and 100.")).to_be_visible()
    levels.fill("60, 97.5")
    choose(page, "Made of", "errors, as they held lately")
    page.get_by_role("button", name="Refit and forecast (r)").click()
    fact = page.locator("tr", has=page.get_by_role("cell", name="steps ahead", exact=True))
    expect(fact).to_contain_text("200", timeout=60_000)
    assert heads(page, "Outlook table")[2:4] == ["60 % from", "60 % to"]
    shown = stack.ok("GET", f"/projects/{mine}")["outlooks"][0]
    assert (shown["state"], stack.ok("GET", f"/outlooks/{shown['id']}")["levels"]) == ("done", [0.6, 0.975])
    level = page.get_by_role("spinbutton", name="Chance of more than")
    level.fill("0")
    level.press("Tab")
    running = page.get_by_role("spinbutton", name="Steps running")
    running.fill("3")
    running.press("Tab")
    expect(page.locator("label", has=running)).to_contain_text("100 %")
