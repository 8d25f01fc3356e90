"""A duel in the browser: the two compared in words, numbers and a lane; and what is to be minded."""

import re

import numpy as np
from playwright.sync_api import Page, expect
from test_ui import browser_context_args, browser_type_launch_args, choose, quiet, room  # noqa: F401
from test_walkforward import finished

from conftest import Stack


def trending(hours: int = 500) -> str:
    """Two keys that rise by more than their noise, so that the mean so far never holds."""
    rng, time = np.random.default_rng(3), np.arange(hours)
    stamps = np.datetime64("2024-01-01T00") + time.astype("timedelta64[h]")
    rows = [f"{stamp},{key},{value:.3f}" for key, slope in (("north", 0.05), ("south", 0.02))
            for stamp, value in zip(stamps, 20 + slope * time + rng.standard_normal(hours), strict=True)]  # fmt: skip
    return "\n".join(["when,district,inflow", *rows]) + "\n"


def test_two_entrants_are_compared_and_what_deceives_is_named(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    project, dataset = stack.project("duel", trending())
    entries = [{"name": name, "forecaster": {"kind": kind}} for name, kind in
               (("last", "last_value"), ("far off", "mean"), ("line", "trend_curve"))]  # fmt: skip
    body = {"dataset_id": dataset, "name": "duel", "contenders": entries, "metrics": ["mae"], "baseline": "last",
            "folds": {"count": 8, "horizon": 6, "span": 24, "every": 6}}  # fmt: skip
    made = stack.ok("POST", f"/projects/{project}/experiments", body)
    finished(stack, made)
    address = f"/experiments/{made['id']}"
    board = stack.ok("GET", f"{address}/board")
    marked = {row["contender"] for row in board["rows"] if row["among_best"]}
    room(page, stack, project, "walkforward")
    expect(page.get_by_text(board["verdict"]).first).to_be_visible()
    for row in board["rows"]:
        mark = page.get_by_role("row", name=re.compile(f"Draw {row['contender']}")).get_by_label("May be the best")
        expect(mark).to_have_count(1 if row["contender"] in marked else 0)
    assert "line" in marked and "far off" not in marked

    named = [each for each in stack.ok("GET", f"{address}/deceptions")["deceptions"] if each["contender"] == "far off"]
    assert "too_narrow" in {each["kind"] for each in named}
    row = page.get_by_role("row", name=re.compile("Draw far off"))
    expect(row.get_by_label("Mind far off")).to_be_visible()
    row.get_by_text("far off").click()
    expect(page.get_by_text(next(each["text"] for each in named if each["kind"] == "too_narrow"))).to_be_visible()

    choose(page, "in a duel with", "line")
    told = stack.ok("GET", f"{address}/duel?one=far%20off&other=line")
    assert told["sentence"].startswith("line is better than far off") and told["test"]["p_value"] < 0.05
    expect(page.get_by_role("status").filter(has_text=told["sentence"])).to_be_visible()
    expect(page.get_by_text("0 of 2")).to_be_visible()  # on neither series
    lane = page.get_by_role("figure", name=re.compile("error of line that far off has saved")).or_(
        page.get_by_text("error of line that far off has saved")
    )
    expect(lane.first).to_be_visible()
    page.get_by_role("row", name=re.compile("Draw line")).get_by_text("line", exact=True).click()
    expect(page.get_by_text("error of line that")).to_have_count(0)  # nobody duels with oneself
    choose(page, "in a duel with", "nobody")
    expect(page.get_by_role("status").filter(has_text="is better than")).to_have_count(0)


def test_a_seal_is_broken_by_a_deliberate_act_and_stays_broken(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    project, dataset = stack.project("sealed", trending())
    entries = [
        {"name": name, "forecaster": {"kind": kind}} for name, kind in (("last", "last_value"), ("line", "trend_curve"))
    ]
    body = {"dataset_id": dataset, "name": "sealed", "contenders": entries, "metrics": ["mae"], "baseline": "last",
            "folds": {"count": 6, "horizon": 6, "sealed": 2}}  # fmt: skip
    made = stack.ok("POST", f"/projects/{project}/experiments", body)
    finished(stack, made)
    room(page, stack, project, "walkforward")
    expect(page.get_by_role("button", name="Fold 6, sealed")).to_be_disabled()
    page.get_by_role("row", name=re.compile("Draw last")).get_by_text("last", exact=True).click()
    expect(page.get_by_text("the seal is unbroken on this data")).to_be_visible()
    expect(page.get_by_role("button", name="Break the seal")).to_have_count(
        0
    )  # there is nothing to learn of a baseline
    page.get_by_role("row", name=re.compile("Draw line")).get_by_text("line", exact=True).click()
    page.get_by_role("button", name="Break the seal for line").click()
    page.keyboard.press("Enter")  # in a hurry: what has the focus leaves it as it is
    expect(page.get_by_role("dialog")).to_have_count(0)
    assert stack.ok("GET", f"/experiments/{made['id']}/seal")["breakings"] == []
    page.get_by_role("button", name="Break the seal for line").click()
    page.get_by_role("button", name="Break it").click()
    expect(page.get_by_text("the seal was broken 1 time, last by line")).to_be_visible()
    finished(stack, made)
    (row,) = stack.ok("GET", f"/experiments/{made['id']}/seal")["rows"]
    expect(page.get_by_role("table", name="Skill there")).to_contain_text(f"{abs(row['skill']):.2f}")
    expect(page.get_by_role("button", name="Break the seal")).to_have_count(0)
