"""Walk-forward in the browser: copies that are copies, settings that stay, reasons, and nobody overtaken."""

import re

import numpy as np
import pytest
from playwright.sync_api import Page, Route, expect
from test_ui import browser_context_args, browser_type_launch_args, choose, demo, known_up_to, quiet, room  # noqa: F401

from conftest import Stack, hourly_csv
from proteron.core.judge import Folds

FOLDS = {"kind": "sliding", "count": 3, "horizon": 6, "gap": 2, "span": 18, "every": 3, "spacing": 20, "length": 300,
         "refit": 2}  # fmt: skip
CURVE = {"kind": "trend_curve", "shape": "linear"}


def experiment(stack: Stack, name: str, hours: int = 700, **changes: object) -> tuple[int, dict]:
    project, dataset = stack.project(name, hourly_csv(np.random.default_rng(7), hours))
    entries = [
        {"name": "naive", "forecaster": {"kind": "seasonal_last_value", "period": 24}},
        {"name": "curve", "forecaster": CURVE, "chain": [{"kind": "log", "offset": 3.5}], "bias_adjust": True},
    ]
    body = {"dataset_id": dataset, "name": name, "seed": 5, "folds": FOLDS, "contenders": entries, "levels": [0.6, 0.9],
            "metrics": ["rmsse", "crps", "mae"], "baseline": "curve", **changes}  # fmt: skip
    made = stack.ok("POST", f"/projects/{project}/experiments", body)
    return project, made


def finished(stack: Stack, made: dict) -> dict:
    return stack.wait(f"/experiments/{made['id']}", lambda each: each["state"] not in ("queued", "running"))


def test_a_copy_is_a_copy(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    project, made = experiment(stack, "copied")
    source = finished(stack, made)
    room(page, stack, project, "walkforward")
    expect(page.get_by_role("columnheader", name="CRPS")).to_be_visible()
    expect(page.get_by_role("columnheader", name="sMAPE")).to_have_count(0)
    by_rmsse = page.get_by_role("row", name=re.compile("Draw naive")).text_content()
    choose(page, "skill by", "MAE")
    expect(page.get_by_role("combobox", name="skill by")).to_have_text("MAE")
    expect(page.get_by_role("row", name=re.compile("Draw naive"))).not_to_have_text(by_rmsse or "")
    page.get_by_role("button", name="Copy, then vary").click()
    page.get_by_role("button", name="Run", exact=True).click()
    expect(page.get_by_role("button", name="Copy, then vary")).to_be_visible()
    newest = max(stack.ok("GET", f"/projects/{project}")["experiments"], key=lambda each: each["id"])
    assert newest["id"] != made["id"] and newest["name"] == "copied, varied"
    copy = finished(stack, newest)
    for name in ("design", "metrics", "levels", "baseline", "seed", "contenders", "folds", "horizon", "gap"):
        assert copy[name] == source[name], name
    assert source["design"] == Folds(**FOLDS).model_dump(mode="json")


def test_a_form_keeps_signs_bounds_and_folds_away_what_is_advanced(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    project, made = experiment(stack, "forms")
    finished(stack, made)
    room(page, stack, project, "walkforward")
    page.get_by_role("button", name="Copy, then vary").click()
    draft = page.get_by_label("To the board")
    page.get_by_role("button", name="every setting").click()
    folds = page.get_by_label("Settings of the folds")
    expect(folds.get_by_text("Horizon, steps")).to_be_visible()
    expect(folds.get_by_text("Learn anew every")).to_have_count(0)
    folds.get_by_role("button", name="Advanced").click()
    expect(folds.get_by_text("Learn anew every, folds")).to_be_visible()
    folds.get_by_role("combobox").filter(has_text="sliding").click()
    page.get_by_role("option", name="expanding").click()
    expect(page.get_by_label("Folds in words")).to_have_value(re.compile("3 folds, all before, every 20 h, gap 2 h"))
    page.get_by_role("button", name="Back to the shelf").click()
    for kind, field, typed, kept in (
        ("additive parts", "Floor", "-3.2", "-3.2"),
        ("ridge on windows", "Strength", "-4", "0"),
    ):
        page.get_by_label(f"Enter {kind}", exact=True).click()
        draft.get_by_role("button", name=kind, exact=True).click()
        entered = page.locator("section", has=page.get_by_role("heading", name=kind, exact=True)).last
        number = entered.locator("label", has_text=re.compile(rf"^{field}")).locator("input")
        number.fill(typed)
        number.press("Tab")
        expect(number).to_have_value(kept)  # its bound, where there is one
        page.get_by_role("button", name="Back to the shelf").click()
    measures = draft.get_by_role("combobox", name="Error measures")
    measures.focus()
    measures.press("ArrowDown")
    page.get_by_role("searchbox").fill("WAPE")
    page.get_by_role("option", name="WAPE", exact=True).click()
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Run", exact=True).click()
    expect(page.get_by_role("button", name="Copy, then vary")).to_be_visible()
    newest = max(stack.ok("GET", f"/projects/{project}")["experiments"], key=lambda each: each["id"])
    view = stack.ok("GET", f"/experiments/{newest['id']}")
    entries = view["contenders"]
    assert view["design"]["kind"] == "expanding" != FOLDS["kind"]
    sent = {each["document"]["forecaster"]["kind"]: each["document"]["forecaster"] for each in entries}
    assert view["metrics"] == ["rmsse", "crps", "mae", "wape"]
    assert sent["additive"]["floor"] == -3.2
    assert sent["ridge"]["strength"] == 0


def test_an_experiment_on_its_way_cannot_be_copied_yet(quiet: Page, stack: Stack) -> None:  # noqa: F811
    """The copy of an experiment that is not there yet would be a new one, and that of the one before the wrong one."""
    page = quiet
    project, made = experiment(stack, "slow copy")
    finished(stack, made)
    held: list[Route] = []
    page.route(f"**/api/v1/experiments/{made['id']}", lambda route: held.append(route))
    room(page, stack, project, "walkforward")
    copy = page.get_by_role("button", name="Copy, then vary")
    expect(copy).to_be_disabled()
    page.keyboard.press("r")
    expect(page.get_by_label("To the board")).to_have_count(0)
    for route in held:
        route.continue_()
    page.unroute(f"**/api/v1/experiments/{made['id']}")
    expect(copy).to_be_enabled()
    copy.click()
    expect(page.get_by_label("Folds in words")).to_have_value(re.compile("3 folds, the last 300 h, every 20 h"))


def test_nothing_is_asked_for_before_it_is_there(quiet: Page, stack: Stack) -> None:  # noqa: F811
    """No request of the room is refused: not while cells come in, not left of the first fold."""
    page, refused = quiet, []
    page.on("response", lambda answer: answer.status >= 400 and refused.append(f"{answer.status} {answer.url}"))
    network = {"kind": "dense_network", "hidden": [64, 64], "epochs": 30, "patience": 30}
    entries = [{"name": "naive", "forecaster": {"kind": "last_value"}}, {"name": "net", "forecaster": network}]
    project, made = experiment(
        stack, "not yet", 2500, contenders=entries, baseline="naive", folds={"count": 4, "horizon": 6}
    )  # fmt: skip
    cutoffs = [fold["cutoff"] for fold in made["folds"]]
    room(page, stack, project, "walkforward", f"?cutoff={cutoffs[-1]}")
    for cutoff in (cutoffs[1], cutoffs[0] - 50, cutoffs[2] + 3):
        page.goto(f"{stack.address}/p/{project}/walkforward?cutoff={cutoff}")
        page.wait_for_selector("canvas")
    finished(stack, made)
    page.goto(f"{stack.address}/p/{project}/walkforward?cutoff={cutoffs[0] - 1}")
    expect(page.get_by_role("complementary").get_by_text("No fold had learned by then")).to_be_visible()
    expect(page.get_by_role("complementary").get_by_text("fold 1 of")).to_have_count(0)
    page.goto(f"{stack.address}/p/{project}/walkforward?cutoff={cutoffs[0]}")
    expect(page.get_by_role("complementary").get_by_text("fold 1 of")).to_be_visible()
    assert refused == []


def test_the_reason_stands_where_the_numbers_would(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    entries = [
        {"name": "naive", "forecaster": {"kind": "last_value"}},
        {"name": "impossible", "forecaster": {"kind": "ridge"}, "chain": [{"kind": "log", "offset": -1000.0}]},
    ]
    project, made = experiment(stack, "reasons", contenders=entries, baseline="naive", metrics=["mase"])
    finished(stack, made)
    room(page, stack, project, "walkforward")
    row = page.get_by_role("row", name=re.compile("impossible"))
    expect(row.get_by_text("no forecast")).to_be_visible()
    row.get_by_text("no forecast").hover()
    expect(page.get_by_role("tooltip")).to_contain_text(re.compile(r"log needs positive values[^\n]*fold 1"))
    expect(page.get_by_text("3 cells failed: impossible: ")).to_be_visible()


@pytest.mark.parametrize("where", ["inside", "before the first fold"])
def test_a_cutoff_in_the_url_is_never_moved(quiet: Page, stack: Stack, demo: int, where: str) -> None:  # noqa: F811
    page = quiet
    chosen = stack.ok("GET", f"/projects/{demo}")["choices"]["experiment_id"]
    folds = stack.ok("GET", f"/experiments/{chosen}")["folds"]
    cutoff = folds[2]["cutoff"] + 7 if where == "inside" else folds[0]["cutoff"] - 500
    slider = page.get_by_role("slider", name="Cutoff")
    for _ in range(2):
        page.goto(f"{stack.address}/p/{demo}/walkforward?cutoff={cutoff}")
        expect(page.get_by_text("is best, skill")).to_be_visible()  # the board, and so the folds, are there
        expect(slider).to_have_attribute("aria-valuenow", str(cutoff))
    said = known_up_to(page)
    page.keyboard.press("Shift+]")
    page.reload()  # at once: what the URL does not say yet is not lost
    page.wait_for_selector("canvas")
    expect(slider).to_have_attribute("aria-valuenow", str(cutoff + 1))
    assert known_up_to(page) != said


def test_a_room_suggests_a_cutoff_where_nobody_chose_one(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    project, made = experiment(stack, "suggested", folds={"count": 2, "horizon": 6}, baseline="naive", metrics=["mase"])
    view = finished(stack, made)
    room(page, stack, project, "walkforward")
    slider = page.get_by_role("slider", name="Cutoff")
    expect(slider).to_have_attribute("aria-valuenow", str(view["folds"][1]["cutoff"]))


def test_an_older_answer_never_undoes_a_newer_choice(quiet: Page, stack: Stack) -> None:  # noqa: F811
    """A read that was asked before a write, and answered after it, says nothing any more."""
    page = quiet
    project, dataset = stack.project("overtaken", hourly_csv(np.random.default_rng(9), 400))
    room(page, stack, project, "flatten")
    held: list[Route] = []

    def hold(route: Route) -> None:
        held.append(route)

    address = re.compile(rf"/api/v1/projects/{project}$")
    page.route(address, hold)
    stale = stack.ok("GET", f"/projects/{project}")
    entries = [{"name": "a", "forecaster": {"kind": "mean"}}]
    with page.expect_request(address):  # something happens in the project, and the page reads it anew
        stack.ok("POST", f"/projects/{project}/experiments", {
            "dataset_id": dataset, "folds": {"count": 1, "horizon": 3}, "contenders": entries,
        })  # fmt: skip
    page.get_by_role("button", name="+ stage").click()
    page.get_by_role("button", name="period means").click()
    expect(page.get_by_text("of variance").first).to_be_visible()
    assert held
    with page.expect_response(address):
        for each in held:
            each.fulfill(json=stale)
    expect(page.get_by_text("of variance").first).to_be_visible()
    page.keyboard.press("Shift+]")  # and it stays so in what is asked for next
    expect(page.get_by_text("of variance").first).to_be_visible()


def test_the_board_is_looked_at_from_other_sides(quiet: Page, stack: Stack) -> None:  # noqa: F811
    """Each side leads to the fold or series behind a number; errors are drawn in time of those that are drawn."""
    page = quiet
    project, made = experiment(stack, "sides")
    finished(stack, made)
    room(page, stack, project, "walkforward")
    choose(page, "shown", "by fold")
    grid = page.get_by_role("group", name=re.compile("RMSSE by fold"))
    expect(grid.get_by_role("row")).to_have_count(1 + 3)
    broken = stack.ok("GET", f"/experiments/{made['id']}/breakdown?by=fold&metric=rmsse")
    place = broken["names"].index("naive")
    cell = grid.get_by_role("row").nth(3).get_by_role("cell").nth(1 + place).locator("span")
    expect(cell).to_have_text(f"{broken['errors'][place][2]:.3f}")
    tone = "better" if broken["skill"][place][2] > 0.005 else "worse" if broken["skill"][place][2] < -0.005 else ""
    assert tone in (cell.get_attribute("class") or "")
    grid.get_by_role("row").nth(3).click()
    expect(page).to_have_url(re.compile(f"cutoff={made['folds'][2]['cutoff']}\\b"))
    choose(page, "shown", "by series")
    page.get_by_role("group", name=re.compile("by series")).get_by_text("east").click()
    expect(page).to_have_url(re.compile("series=1"))
    for side, title in (
        ("by hour and weekday", "by hour and weekday"), ("skill against cost", "Skill against cost"),
        ("by what was learned from", "by what was learned from"), ("skill over series", "Skill over series"),
    ):  # fmt: skip
        choose(page, "shown", side)
        expect(page.get_by_role("figure").filter(has_text=title)).to_be_visible()
    choose(page, "shown", "criteria inside, rank after")
    expect(page.get_by_role("group", name="Information criteria")).to_be_visible()
    choose(page, "errors in time", "without sign")
    expect(page.locator(".what", has_text="size of errors")).to_be_visible()
    with page.expect_response(lambda answer: "/errors?" in answer.url and "ahead=2" in answer.url):
        page.get_by_label("Steps ahead of the errors drawn").fill("2")
        page.keyboard.press("Enter")
    expect(page.locator(".what", has_text="size of errors, 2 ahead")).to_be_visible()
    choose(page, "errors in time", "not drawn")
    expect(page.get_by_text("size of errors")).to_have_count(0)
    choose(page, "shown", "the board")
    expect(page.get_by_role("columnheader", name="CRPS")).to_be_visible()
