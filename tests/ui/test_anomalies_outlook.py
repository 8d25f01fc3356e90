"""Anomalies and Outlook in the browser: budgets, thresholds, verdicts, ranges; and ways about by keyboard."""

import re

import numpy as np
import pytest
from playwright.sync_api import Page, Request, Route, expect
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
    """A project whose experiment keeps ranges of 60 and 90 %, with a scan by the mean that is done."""
    project, dataset = stack.project("planted", planted_csv(), unit="m³/h")
    body = {"dataset_id": dataset, "name": "two", "seed": 1, "folds": {"count": 3, "horizon": 6}, "contenders": ENTRIES,
            "levels": [0.6, 0.9], "metrics": ["mase"], "baseline": "naive"}  # fmt: skip
    made = stack.ok("POST", f"/projects/{project}/experiments", body)
    stack.wait(f"/experiments/{made['id']}", lambda each: each["state"] == "done")
    scan = stack.ok("POST", f"/projects/{project}/scans", {"experiment_id": made["id"], "contender": "naive"})
    stack.wait(f"/experiments/{scan['id']}", lambda each: each["state"] == "done")
    return project, made


def fact(page: Page, name: str):  # type: ignore[no-untyped-def]
    return page.locator("tr", has=page.get_by_role("cell", name=name, exact=True)).locator("td").last


def scores(page: Page) -> list[float]:
    cells = page.get_by_label("Flags", exact=True).locator("tbody tr td:nth-child(4)").all_inner_texts()
    return [float(cell) for cell in cells]


def test_a_budget_decides_how_many_flags_there_are(quiet: Page, stack: Stack, judged) -> None:  # type: ignore[no-untyped-def] # noqa: F811
    page = quiet
    room(page, stack, judged[0], "anomalies")
    flags = fact(page, "flags in this series")
    expect(flags).to_have_text(re.compile(r"^\d+$"))
    few = int(flags.inner_text())
    found = scores(page)
    assert found == sorted(found, reverse=True), "the highest stands first"
    assert len(found) == few
    budget = page.get_by_label("Alert budget, flags a week")
    budget.fill("3")
    budget.press("Tab")
    expect(flags).not_to_have_text(str(few))
    many = int(flags.inner_text())
    assert few < many <= 3 * 30 / 7 + 1
    threshold = float(fact(page, "threshold").inner_text().split()[0])
    assert threshold >= 3
    assert all(score >= threshold for score in scores(page))
    budget.fill("0")
    budget.press("Tab")
    expect(flags).to_have_text("1")  # one is always allowed


def test_what_was_judged_stays_judged(quiet: Page, stack: Stack, judged) -> None:  # type: ignore[no-untyped-def] # noqa: F811
    page = quiet
    room(page, stack, judged[0], "anomalies")
    first = page.get_by_label("Flags", exact=True).locator("tbody tr").first
    first.get_by_role("button", name="confirm").click()
    expect(first.get_by_role("button", name="◆ confirmed")).to_have_attribute("aria-pressed", "true")
    page.reload()
    first = page.get_by_label("Flags", exact=True).locator("tbody tr").first
    expect(first.get_by_role("button", name="◆ confirmed")).to_be_visible()
    first.get_by_role("button", name="dismiss").click()
    expect(first.get_by_role("button", name="⟍ dismissed")).to_be_visible()
    expect(first.get_by_role("button", name="confirm")).to_have_attribute("aria-pressed", "false")
    first.get_by_role("button", name="⟍ dismissed").click()
    expect(first.get_by_role("button", name="dismiss")).to_have_attribute("aria-pressed", "false")


def test_flags_of_one_series_never_stand_under_another(quiet: Page, stack: Stack, judged) -> None:  # type: ignore[no-untyped-def] # noqa: F811
    """The answer for a series that was left is late: what is shown is still the one that was chosen."""
    page = quiet
    room(page, stack, judged[0], "anomalies")
    highest = page.get_by_label("Flags", exact=True).locator("tbody tr[aria-selected] td:first-child").first
    north = highest.inner_text()
    page.keyboard.press(".")
    expect(page.locator(".picker b")).to_have_text("east")
    expect(highest).not_to_have_text(north)
    east = highest.inner_text()
    held: list[Route] = []

    def of_the_first(request: Request) -> bool:
        return request.method == "PUT" and '"series":0' in (request.post_data or "")

    page.route("**/flags", lambda route: held.append(route) if of_the_first(route.request) else route.continue_())
    with page.expect_request(of_the_first):
        page.keyboard.press(",")
    expect(page.locator(".picker b")).to_have_text("north")
    page.keyboard.press(".")
    expect(highest).to_have_text(east)
    assert held, "the question about the first was asked"
    with page.expect_response(lambda answer: answer.request.method == "PUT"):
        for route in held:
            route.continue_()
    page.unroute("**/flags")
    expect(page.locator(".picker b")).to_have_text("east")
    expect(highest).to_have_text(east)


def test_the_cutoff_decides_what_has_been_raised(quiet: Page, stack: Stack, judged) -> None:  # type: ignore[no-untyped-def] # noqa: F811
    page = quiet
    room(page, stack, judged[0], "anomalies", "?cutoff=720")
    known = fact(page, "raised by the cutoff")
    expect(known).to_have_text(fact(page, "flags in this series").inner_text())
    page.locator(".cutoff .as-text").click()
    page.get_by_label("Cutoff", exact=True).fill("2024-01-10 00:00")
    page.keyboard.press("Enter")
    expect(known).to_have_text("0")
    expect(fact(page, "highest score")).not_to_have_text(re.compile(r"^[2-9]\d"))


def test_an_outlook_tells_its_own_ranges(quiet: Page, stack: Stack, judged) -> None:  # type: ignore[no-untyped-def] # noqa: F811
    """The level that is named is the level that was kept, not the usual one."""
    page = quiet
    project, made = judged
    page.goto(f"{stack.address}/p/{project}/outlook")
    expect(page.get_by_text("No outlook yet: refit a contender on everything that is known.")).to_be_visible()
    choose(page, "Contender", "naive")
    page.get_by_role("button", name="Refit and forecast (r)").click()
    sentence = page.locator("p.sentence").first
    expect(sentence).to_contain_text("with 90 % confidence between", timeout=30_000)
    table = page.get_by_label("Outlook table")
    assert table.locator("th").all_inner_texts() == ["time", "mean", "60 % from", "60 % to", "90 % from", "90 % to"]
    expect(table.locator("tbody tr")).to_have_count(6)
    before = sentence.inner_text()
    table.locator("tbody tr").nth(3).click()
    expect(sentence).not_to_have_text(before)
    cells = table.locator("tbody tr").nth(3).locator("td").all_inner_texts()
    lows, highs = [float(c) for c in cells[2::2]], [float(c) for c in cells[3::2]]
    assert lows[1] <= lows[0] <= highs[0] <= highs[1]
    assert f"will be {cells[1]} m³/h" in sentence.inner_text()
    assert f"between {cells[4]} and {cells[5]} m³/h" in sentence.inner_text()
    expect(fact(page, "steps ahead")).to_have_text("6")
    expect(fact(page, "ranges from")).to_have_text("3 origins, widened")
    expect(fact(page, "known up to")).to_contain_text("2024-01-30 23:00")
    shown = stack.ok("GET", f"/projects/{project}")["outlooks"][0]
    stored = stack.ok("GET", f"/outlooks/{shown['id']}")
    assert stored["levels"] == [0.6, 0.9]
    assert stored["experiment_id"] == made["id"]
    expect(page.get_by_role("link", name="CSV")).to_have_attribute("href", f"/api/v1/outlooks/{shown['id']}/table.csv")


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
