"""A search in the room: its space first, the race while it runs, what it found on the board; a blend by hand."""

import re

from playwright.sync_api import Page, expect
from test_ui import browser_context_args, browser_type_launch_args, choose, quiet, room  # noqa: F401
from test_walkforward import experiment, finished

from conftest import Stack

FOLDS = {"kind": "expanding", "count": 4, "horizon": 6, "sealed": 1}
NAIVE = [{"name": "naive", "forecaster": {"kind": "seasonal_last_value", "period": 24}},
         {"name": "drift", "forecaster": {"kind": "drift"}}]  # fmt: skip
DEAR = ("ARIMA", "boosted trees on windows", "structural", "several seasons", "additive parts",
        "elastic net on windows", "dense network on windows", "basis network", "recurrent network",
        "vector autoregression", "smoothing", "average of smoothings")  # fmt: skip


def test_a_search_is_begun_watched_gone_on_with_and_taken_to_the_board(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    project, made = experiment(stack, "searched", folds=FOLDS, contenders=NAIVE, metrics=["mase"], baseline="naive")
    finished(stack, made)
    room(page, stack, project, "walkforward")
    page.get_by_role("button", name="Search for better").click()
    space = page.get_by_role("table", name="What is searched")
    cost = space.get_by_role("row", name=re.compile("season-aligned ridge")).get_by_role("cell").last
    expect(cost).to_have_text(re.compile(r"\d s$"), timeout=60_000)
    for each in DEAR:
        box = space.get_by_label(f"Search {each}", exact=True)
        if box.count():
            box.uncheck()
    page.get_by_label("Seconds", exact=True).fill("")
    page.get_by_label("Fits", exact=True).fill("24")
    page.get_by_label("Fits", exact=True).press("Tab")
    page.get_by_role("button", name="Search (r)").click()
    table = page.get_by_role("group", name="Candidates")
    expect(table.get_by_role("row", name=re.compile("ridge on windows")).first).to_be_visible(timeout=60_000)
    expect(page.get_by_role("button", name="Go on with this budget")).to_be_visible(timeout=120_000)
    expect(page.get_by_text(re.compile(r"\d+ candidates tried, \d+ fits in")).first).to_be_visible()
    expect(page.get_by_text("1 sealed fold not looked at yet")).to_be_visible()
    found = stack.ok("GET", f"/experiments/{made['id']}/search")
    assert 18 < found["fits"] <= 24 and found["state"] == "done" and found["luck"]["tries"] == len(found["candidates"])
    kept = [each for each in found["candidates"] if each["state"] == "kept"]
    table.get_by_role("row", name=re.compile(re.escape(kept[0]["name"]))).first.click()
    expect(page.get_by_role("heading", name=re.compile("Best so far"))).to_be_visible()
    page.get_by_label("Fits", exact=True).fill("32")
    page.get_by_label("Fits", exact=True).press("Tab")
    page.get_by_role("button", name="Go on with this budget").click()
    more = stack.wait(f"/experiments/{made['id']}/search", lambda each: each["fits"] > 24 and each["state"] == "done")
    assert [each["name"] for each in more["candidates"]][:8] == [each["name"] for each in found["candidates"]][:8]
    expect(page.get_by_role("button", name="Go on with this budget")).to_be_enabled(timeout=60_000)
    page.get_by_role("button", name="To the board").click()
    best = next(each["name"] for each in more["candidates"] if each["state"] == "kept")
    expect(page.get_by_role("button", name=f"Draw {best}", exact=True)).to_be_visible(timeout=60_000)
    expect(page.get_by_role("button", name="The search")).to_be_visible()


def test_a_blend_is_laid_out_by_name_and_follows_its_members(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    more = [{"name": "theta", "forecaster": {"kind": "theta"}}, {"name": "ridge", "forecaster": {"kind": "ridge"}}]
    project, made = experiment(
        stack, "blended", folds=FOLDS, contenders=NAIVE + more, metrics=["mase"], baseline="naive"
    )
    finished(stack, made)
    room(page, stack, project, "walkforward")
    page.get_by_role("button", name="Copy, then vary").click()
    page.get_by_role("button", name="Blend the learners").click()
    members = page.get_by_role("group", name="Members")
    expect(members.get_by_label("theta")).to_be_checked()
    expect(members.get_by_label("drift")).not_to_be_checked()
    members.get_by_label("ridge").uncheck()
    expect(members.get_by_text("two at least")).to_be_visible()
    members.get_by_label("drift").check()
    choose(page, "Rule", "median")
    page.get_by_label("To the board").get_by_role("button", name="theta", exact=True).click()
    name = page.get_by_label("Name", exact=True).first
    name.fill("the theta")
    name.press("Tab")
    page.get_by_role("button", name="Run", exact=True).click()
    expect(page.get_by_role("button", name="Draw blend of 2", exact=True)).to_be_visible(timeout=60_000)
    newest = max(stack.ok("GET", f"/projects/{project}")["experiments"], key=lambda each: each["id"])
    copy = finished(stack, newest)
    assert copy["failed"] == 0 and [each["name"] for each in copy["contenders"]] == [
        "naive", "drift", "the theta", "ridge", "blend of 2"
    ]  # fmt: skip
    blend = copy["contenders"][-1]["document"]["forecaster"]
    assert blend["rule"] == "median" and [each["name"] for each in blend["members"]] == ["drift", "the theta"]
