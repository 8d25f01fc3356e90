"""Anomalies and Outlook in the browser: budgets, thresholds, verdicts, ranges; and ways about by keyboard."""

import re

import numpy as np
import pytest
from playwright.sync_api import Page, expect
from test_ui import browser_context_args, browser_type_launch_args, choose, demo, quiet, room  # noqa: F401

from conftest import Stack

ENTRIES = [
    {"name": "naive", "forecaster": {"kind": "seasonal_last_value", "period": 24}},
    {"name": "mean", "forecaster": {"kind": "mean"}},
]


def planted_csv() -> str:
    """Two hourly series of 30 days: spikes of falling size in one, hardly any in the other."""
    rng = np.random.default_rng(12)
    rows = ["time,key,value"]
    times = np.datetime_as_string(np.datetime64("2024-01-01T00", "s") + np.arange(720) * np.timedelta64(3600, "s"))
    for key in ("north", "east"):
        values = 50 + 9 * np.sin(np.arange(720) * 2 * np.pi / 24) + rng.normal(size=720)
        if key == "north":
            values[300:700:40] += 30 - 2.0 * np.arange(10)
        rows += [f"{time}Z,{key},{value:.3f}" for time, value in zip(times, values, strict=True)]
    return "\n".join(rows) + "\n"


@pytest.fixture(scope="module")
def judged(stack: Stack, demo: int) -> tuple[int, dict]:  # noqa: F811
    """A project whose experiment keeps ranges of 60 and 90 %, with a scan as of every moment that is done."""
    project, dataset = stack.project("planted", planted_csv(), unit="m³/h")
    body = {"dataset_id": dataset, "name": "two", "seed": 1, "folds": {"count": 3, "horizon": 6}, "contenders": ENTRIES,
            "levels": [0.6, 0.9], "metrics": ["mase"], "baseline": "naive"}  # fmt: skip
    made = stack.ok("POST", f"/projects/{project}/experiments", body)
    stack.wait(f"/experiments/{made['id']}", lambda each: each["state"] == "done")
    scan = stack.ok("POST", f"/projects/{project}/scans", {"dataset_id": dataset})
    stack.wait(f"/scans/{scan['id']}", lambda each: each["state"] == "done")
    return project, made


def fact(page: Page, name: str):  # type: ignore[no-untyped-def]
    return page.locator("tr", has=page.get_by_role("cell", name=name, exact=True)).locator("td").last


def rows(page: Page):  # type: ignore[no-untyped-def]
    return page.get_by_label("Flags", exact=True).locator("tbody tr[aria-selected]")


def tally(page: Page, word: str):  # type: ignore[no-untyped-def]
    return page.get_by_role("group", name="Which flags").get_by_role("button", name=re.compile(f"^{word} "))


def test_a_budget_decides_how_many_flags_there_are(quiet: Page, stack: Stack, judged) -> None:  # type: ignore[no-untyped-def] # noqa: F811
    page = quiet
    room(page, stack, judged[0], "anomalies", "?cutoff=720")
    expect(tally(page, "all")).to_have_text(re.compile(r"^all [5-9]|1\d$"))
    usual = rows(page).count()
    choose(page, "Budget", "flags a week")
    expect(tally(page, "all")).not_to_have_text(f"all {usual}")
    few = rows(page).count()
    assert 0 < few < usual
    amount = page.get_by_label("How much")
    amount.fill("50")
    amount.press("Tab")
    expect(tally(page, "all")).not_to_have_text(f"all {few}")
    assert rows(page).count() >= usual
    choose(page, "Budget", "evidence above")
    amount = page.get_by_label("How much")
    amount.fill("15")
    amount.press("Tab")
    expect(rows(page)).not_to_have_count(usual)
    evidence = [float(each) for each in page.locator("td.evidence").all_inner_texts()]
    assert evidence and min(evidence) > 15
    choose(page, "Budget", "as usual")
    expect(rows(page)).to_have_count(usual)


def test_what_was_judged_stays_judged_and_is_taken_back(quiet: Page, stack: Stack, judged) -> None:  # type: ignore[no-untyped-def] # noqa: F811
    page = quiet
    room(page, stack, judged[0], "anomalies", "?cutoff=720")
    first = rows(page).first
    expect(first).to_be_visible()
    page.keyboard.press("n")
    expect(first).to_have_attribute("aria-selected", "true")
    page.keyboard.press("c")
    expect(first.get_by_role("img", name="right")).to_be_visible()
    expect(rows(page).nth(1)).to_have_attribute("aria-selected", "true"), "it goes on to the next one"
    page.keyboard.press("d")
    expect(tally(page, "wrong")).to_have_text("wrong 1")
    page.reload()
    expect(rows(page).first.get_by_role("img", name="right")).to_be_visible()
    expect(fact(page, "verdicts so far")).to_have_text("1 right, 1 wrong")
    page.keyboard.press("Control+z")
    expect(tally(page, "wrong")).to_have_text("wrong 0")
    page.keyboard.press("Control+z")
    expect(tally(page, "right")).to_have_text("right 0")


def test_a_flag_is_named_and_all_like_it_are_judged_together(quiet: Page, stack: Stack, judged) -> None:  # type: ignore[no-untyped-def] # noqa: F811
    page = quiet
    room(page, stack, judged[0], "anomalies", "?cutoff=720")
    expect(rows(page).first).to_be_visible()
    page.keyboard.press("n")
    page.keyboard.press("l")
    dialog = page.get_by_role("dialog")
    page.get_by_label("What it is").fill("pump trip")
    page.get_by_label("Note").fill("seen on site")
    page.get_by_label("Said by").fill("Ana")
    page.keyboard.press("Enter")
    expect(dialog).to_have_count(0)
    expect(rows(page).first).to_contain_text("pump trip")
    expect(rows(page).first).to_contain_text("seen on site")
    scan = stack.ok("GET", f"/projects/{judged[0]}")["choices"]["scan_id"]
    said = stack.ok("GET", f"/scans/{scan}/verdicts")["verdicts"][0]
    assert (said["kind"], said["note"], said["by"], said["verdict"]) == ("pump trip", "seen on site", "Ana", "right")
    page.keyboard.press("s")
    expect(page.get_by_text(re.compile(r"\d+ like this"))).to_be_visible()
    alike = page.locator("tr.alike").count()
    page.keyboard.press("d")
    expect(tally(page, "wrong")).to_have_text(f"wrong {alike}")
    page.keyboard.press("Control+z")
    page.keyboard.press("Control+z")
    expect(tally(page, "wrong")).to_have_text("wrong 0")


def test_a_span_is_adjusted_by_its_ends(quiet: Page, stack: Stack, judged) -> None:  # type: ignore[no-untyped-def] # noqa: F811
    page = quiet
    room(page, stack, judged[0], "anomalies", "?cutoff=720")
    scan = stack.ok("GET", f"/projects/{judged[0]}")["choices"]["scan_id"]

    def spans() -> list[tuple[int, int]]:
        return [(flag["start"], flag["stop"]) for flag in stack.ok("GET", f"/scans/{scan}/flags")["flags"]]

    expect(rows(page).first).to_be_visible()
    before = spans()
    page.keyboard.press("n")
    for key in ("h", "h", "o", "a"):
        page.keyboard.press(key)
    expect(tally(page, "right")).to_have_text("right 1")
    start, stop = max(before)
    assert max(spans()) == (start - 2, stop + 1)
    expect(rows(page).first).to_have_attribute("aria-selected", "true"), "it is still looked at"
    lane = page.get_by_role("region", name="expected against observed").locator(".u-over")
    box = lane.bounding_box()
    assert box is not None
    low, high = page.evaluate("() => ['from', 'to'].map((n) => Number(new URLSearchParams(location.search).get(n)))")
    end = max(flag["last"] for flag in stack.ok("GET", f"/scans/{scan}/flags")["flags"]) + 1800
    x = box["x"] + box["width"] * (end - low) / (high - low)
    page.mouse.move(x, box["y"] + box["height"] / 2)
    page.mouse.down()
    page.mouse.move(x + box["width"] * 4 * 3600 / (high - low), box["y"] + box["height"] / 2, steps=5)
    page.mouse.up()
    stack.wait(f"/scans/{scan}/flags", lambda each: each["flags"][-1]["stop"] == stop + 5)
    assert max(spans()) == (start - 2, stop + 5)
    page.keyboard.press("Control+z")
    page.keyboard.press("Control+z")
    expect(tally(page, "right")).to_have_text("right 0")
    assert spans() == before


def test_a_shape_is_drawn_and_drilled(quiet: Page, stack: Stack, judged) -> None:  # type: ignore[no-untyped-def] # noqa: F811
    page = quiet
    room(page, stack, judged[0], "anomalies", "?cutoff=720")
    page.get_by_role("button", name="Draw one").click()
    plant = page.get_by_role("button", name="Plant it, too")
    page.get_by_label("What it is called").fill("leak")
    expect(plant).to_be_disabled()
    pad = page.get_by_role("slider", name="Its shape")
    pad.focus()
    for _ in range(5):
        page.keyboard.press("ArrowUp")
    page.keyboard.press("Shift+ArrowRight")
    expect(pad).to_have_attribute("aria-valuetext", "point 2 of 24, 0.50")
    box = pad.bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + box["width"] * 0.5, box["y"] + box["height"] * 0.5)
    page.mouse.down()
    page.mouse.move(box["x"] + box["width"] - 3, box["y"] + 1, steps=4)
    page.mouse.up()
    expect(pad).to_have_attribute("aria-valuetext", "point 24 of 24, 1.00")
    plant.click()
    expect(page.get_by_text("Planting faults")).to_be_visible(timeout=60_000)
    scan = stack.ok("GET", f"/projects/{judged[0]}")["choices"]["scan_id"]
    drawn = stack.ok("GET", f"/scans/{scan}/drill")["shapes"]["leak"]
    page.get_by_role("button", name="Stop", exact=True).click()
    expect(page.get_by_role("button", name="Draw one")).to_be_visible(timeout=60_000)
    assert len(drawn) == 24 and drawn[:2] == [0.5, 0.5] and drawn[23] == 1 and sorted(drawn[12:]) == drawn[12:]


def test_the_cutoff_decides_what_has_been_raised(quiet: Page, stack: Stack, judged) -> None:  # type: ignore[no-untyped-def] # noqa: F811
    page = quiet
    room(page, stack, judged[0], "anomalies", "?cutoff=720")
    expect(rows(page).first).to_be_visible()
    page.locator(".cutoff .as-text").click()
    page.get_by_label("Cutoff", exact=True).fill("2024-01-10 00:00")
    page.keyboard.press("Enter")
    expect(tally(page, "all")).to_have_text("all 0")
    page.get_by_role("button", name="looking back").click()
    expect(page.get_by_role("heading", name="Looking back")).to_be_visible(timeout=30_000)
    expect(page.get_by_text("It knows what lies after the cutoff")).to_have_count(0)
    page.locator(".cutoff .as-text").click()
    page.get_by_label("Cutoff", exact=True).fill("2024-01-05 00:00")
    page.keyboard.press("Enter")
    expect(page.get_by_text("It knows what lies after the cutoff")).to_be_visible()
    page.get_by_role("button", name="as-of").click()
    expect(page.get_by_role("heading", name="As-of, 2 h late")).to_be_visible()


def test_what_is_right_becomes_a_version_of_the_data(quiet: Page, stack: Stack, judged) -> None:  # type: ignore[no-untyped-def] # noqa: F811
    page = quiet
    project = judged[0]
    before = stack.ok("GET", f"/projects/{project}")["choices"]
    room(page, stack, project, "anomalies", "?cutoff=720")
    expect(rows(page).first).to_be_visible()
    use = page.get_by_role("button", name="Repair a copy")
    expect(use).to_be_disabled()
    page.keyboard.press("n")
    page.keyboard.press("c")
    expect(use).to_be_enabled()
    use.click()
    expect(page.get_by_text("Out of date: made from another version of the data")).to_be_visible()
    made = stack.ok("GET", f"/projects/{project}")
    assert [each["done"] for each in made["datasets"]][-1] == "flagged values repaired"
    stack.ok("DELETE", f"/scans/{before['scan_id']}/verdicts/last")
    stack.ok("PATCH", f"/projects/{project}/choices", {"dataset_id": before["dataset_id"]})


def many_csv() -> str:
    """Eight hourly series with 25 spikes each."""
    rng, hours = np.random.default_rng(4), 1600
    times = np.datetime_as_string(np.datetime64("2024-01-01T00", "s") + np.arange(hours) * np.timedelta64(3600, "s"))
    lines = ["time,key,value"]
    for key in range(8):
        values = 50 + 9 * np.sin(np.arange(hours) * np.pi / 12) + rng.normal(size=hours)
        values[300 + 7 * key : 1575 : 51] += 30
        lines += [f"{time}Z,s{key},{value:.3f}" for time, value in zip(times, values, strict=True)]
    return "\n".join(lines) + "\n"


def test_two_hundred_flags_are_judged_by_keyboard_alone(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    project, dataset = stack.project("many flags", many_csv())
    scan = stack.ok("POST", f"/projects/{project}/scans", {"dataset_id": dataset})
    stack.wait(f"/scans/{scan['id']}", lambda each: each["state"] == "done")
    room(page, stack, project, "anomalies", "?cutoff=1600")
    flags = stack.ok("GET", f"/scans/{scan['id']}/flags")["flags"]
    assert len(flags) >= 200
    expect(tally(page, "open")).to_have_text(f"open {len(flags)}")
    page.keyboard.press("n")
    for number in range(len(flags)):
        page.keyboard.press("d" if number % 4 == 3 else "c")
    wrong = len(flags) // 4
    expect(tally(page, "open")).to_have_text("open 0")
    expect(tally(page, "wrong")).to_have_text(f"wrong {wrong}")
    expect(fact(page, "verdicts so far")).to_have_text(f"{len(flags) - wrong} right, {wrong} wrong", timeout=120_000)
    kept = stack.ok("GET", f"/scans/{scan['id']}/flags")["flags"]
    order = sorted(kept, key=lambda flag: (-flag["time"], flag["series"]))
    assert [flag["verdict"] for flag in order] == ["wrong" if at % 4 == 3 else "right" for at in range(len(flags))]


def test_an_outlook_tells_its_own_ranges(quiet: Page, stack: Stack, judged) -> None:  # type: ignore[no-untyped-def] # noqa: F811
    """The level that is named is the level that was kept, not the usual one."""
    page = quiet
    project, made = judged
    page.goto(f"{stack.address}/p/{project}/outlook")
    expect(page.get_by_text("No outlook yet: refit a contender on everything that is known.")).to_be_visible()
    choose(page, "Contender", "naive")
    page.get_by_role("button", name="Refit and forecast (r)").click()
    sentence = page.locator("p.sentence").first
    expect(sentence).to_contain_text("in 90 of 100 such cases it lies between", timeout=30_000)
    table = page.get_by_label("Outlook table")
    heads = table.locator("th").all_inner_texts()
    assert heads[:-1] == ["time", "mean", "60 % from", "60 % to", "90 % from", "90 % to"]
    assert heads[-1].startswith("above ")
    expect(table.locator("tbody tr")).to_have_count(6)
    before = sentence.inner_text()
    table.locator("tbody tr").nth(3).click()
    expect(sentence).not_to_have_text(before)
    cells = table.locator("tbody tr").nth(3).locator("td").all_inner_texts()
    lows, highs = [float(c) for c in cells[2:6:2]], [float(c) for c in cells[3:6:2]]
    assert lows[1] <= lows[0] <= highs[0] <= highs[1]
    said = re.search(r"expected at ([\d.]+) m³/h; in .* between ([\d.]+) and ([\d.]+) m³/h", sentence.inner_text())
    assert said is not None
    assert [float(each) for each in said.groups()] == pytest.approx([float(cells[1]), lows[1], highs[1]], abs=0.1)
    expect(fact(page, "steps ahead")).to_have_text("6")
    expect(fact(page, "ranges from")).to_have_text("3 origins, widened")
    expect(fact(page, "90 % held")).to_have_text(re.compile(r"^[\d.]+ % of 24$"))  # of two folds, by those before
    expect(fact(page, "known up to")).to_contain_text("2024-01-30 23:00")
    shown = stack.ok("GET", f"/projects/{project}")["outlooks"][0]
    stored = stack.ok("GET", f"/outlooks/{shown['id']}")
    assert stored["levels"] == [0.6, 0.9]
    assert stored["experiment_id"] == made["id"]
    page.get_by_role("button", name="Hand over").click()
    table = f"/api/v1/outlooks/{shown['id']}/table?format=csv&form=long"
    expect(page.get_by_role("link", name="CSV")).to_have_attribute("href", table)


def test_chances_and_totals_of_an_outlook_by_the_cutoff(quiet: Page, stack: Stack, judged) -> None:  # type: ignore[no-untyped-def] # noqa: F811
    """As of the cutoff, further than was judged, never below zero; a level; sums of a day; what came is shown."""
    page = quiet
    project, _ = judged
    page.goto(f"{stack.address}/p/{project}/outlook?cutoff=600")
    choose(page, "Contender", "naive")
    choose(page, "Known up to", "the cutoff")
    steps = page.get_by_label("Steps", exact=True)
    steps.fill("30")
    steps.press("Tab")
    page.get_by_label("Never below").fill("0")
    page.get_by_label("Never below").press("Tab")
    page.get_by_role("heading", name="Outlook").or_(page.get_by_role("heading", name="naive")).first.click()
    page.keyboard.press("r")
    expect(fact(page, "steps ahead")).to_have_text("30", timeout=30_000)
    expect(page.get_by_text("origins of rehearsals")).to_be_visible()
    expect(fact(page, "90 % held")).to_contain_text("% of")
    table = page.get_by_label("Outlook table")
    expect(table.locator("th").last).to_have_text("came")
    level = page.get_by_role("spinbutton", name="Chance of more than")
    level.fill("0")
    level.press("Tab")
    expect(table.locator("th").nth(6)).to_have_text(re.compile(r"^above 0\.?0*$"))
    expect(table.locator("tbody tr").first.locator("td").nth(6)).to_have_text("100 %")
    expect(page.get_by_text("ever: 100 %")).to_be_visible()
    level.fill("99999")
    level.press("Tab")
    expect(page.get_by_text("ever: 0 %")).to_be_visible()
    choose(page, "Told by", "day")
    totals = page.get_by_label("Totals")
    expect(totals.locator("tbody tr")).to_have_count(2)
    first = totals.locator("tbody tr").first.locator("td").all_inner_texts()
    low, mean, high = (float(first[at].replace(",", "")) for at in (4, 1, 5))
    assert low <= mean <= high
    choose(page, "Told by", "all steps")
    expect(totals.locator("tbody tr")).to_have_count(1)
    expect(totals).to_contain_text("30 steps ahead")
    choose(page, "Told by", "each step")
    before = page.locator("p.sentence").first.inner_text()
    page.get_by_role("heading", name="naive").click()
    page.keyboard.press("n")
    expect(page.locator("p.sentence").first).not_to_have_text(before)


def test_the_palette_finds_by_words_and_runs_by_key(quiet: Page, stack: Stack, judged) -> None:  # type: ignore[no-untyped-def] # noqa: F811
    page = quiet
    room(page, stack, judged[0], "walkforward")
    page.keyboard.press("Control+k")
    dialog = page.get_by_role("dialog", name="Command palette")
    page.get_by_label("Command", exact=True).fill("series")
    names = dialog.get_by_role("option").all_inner_texts()
    assert [name for name in names if name.startswith("Series ")] == ["Series north", "Series east"]
    page.get_by_label("Command", exact=True).fill("east ser")
    page.keyboard.press("Enter")
    expect(dialog).to_have_count(0)
    expect(page.locator(".picker b")).to_have_text("east")
    page.keyboard.press("Control+k")
    page.get_by_label("Command", exact=True).fill("go to")
    page.keyboard.press("ArrowDown")
    page.keyboard.press("ArrowDown")
    expect(dialog.locator(".here")).to_contain_text("Go to Flatten")
    page.keyboard.press("ArrowUp")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("/profile"))
    page.keyboard.press("Control+k")
    page.get_by_label("Command", exact=True).fill("wobble")
    expect(page.get_by_text("Nothing is called that.")).to_be_visible()
    page.keyboard.press("Enter")
    expect(dialog).to_have_count(0)
    expect(page).to_have_url(re.compile("/profile"))


def test_a_series_is_picked_by_a_part_of_its_name(quiet: Page, stack: Stack, judged) -> None:  # type: ignore[no-untyped-def] # noqa: F811
    page = quiet
    room(page, stack, judged[0], "walkforward")
    page.locator(".picker .name").click()
    page.get_by_label("Search series").fill("EAS")
    expect(page.get_by_role("option")).to_have_count(1)
    page.keyboard.press("Enter")
    expect(page.locator(".picker b")).to_have_text("east")
    expect(page.get_by_label("Search series")).to_have_count(0)
    page.locator(".picker .name").click()
    page.get_by_label("Search series").fill("west")
    expect(page.get_by_role("option", name="No series has this in its name.")).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.get_by_label("Search series")).to_have_count(0)
    page.get_by_role("button", name="Next series").click()
    expect(page.locator(".picker b")).to_have_text("north")  # round from the last to the first
    page.get_by_role("button", name="Previous series").click()
    expect(page.locator(".picker b")).to_have_text("east")


def test_the_board_is_ordered_by_skill_and_hides_what_is_not_drawn(quiet: Page, stack: Stack, judged) -> None:  # type: ignore[no-untyped-def] # noqa: F811
    page = quiet
    project, made = judged
    room(page, stack, project, "walkforward", "?cutoff=705")
    board = page.get_by_label("Board", exact=True)
    rows = stack.ok("GET", f"/experiments/{made['id']}/board")["rows"]
    ordered = [row["contender"] for row in sorted(rows, key=lambda row: -row["skill"])]
    expect(board.locator("tbody tr td.name").first).to_contain_text(ordered[0])
    assert [name.strip() for name in board.locator("tbody td.name").all_inner_texts()] == ordered
    naive = board.locator("tbody tr", has_text="naive")
    expect(naive.locator("td.skill")).to_have_text("0")
    mark = page.get_by_role("button", name="Draw naive")
    expect(mark).to_have_attribute("aria-pressed", "true")
    mark.click()
    expect(mark).to_have_attribute("aria-pressed", "false")
    assert "here" in (board.locator("tbody tr").first.get_attribute("class") or ""), "drawing is not choosing"
    board.locator("tbody tr", has_text="mean").click()
    expect(board.locator("tbody tr.here td.name")).to_have_text("mean")
    expect(page.get_by_text("Nothing beats naive.").first).to_be_visible()
