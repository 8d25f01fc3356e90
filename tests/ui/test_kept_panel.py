"""Everything kept, by name: renamed, copied, deleted and taken back by keyboard; two windows on one project."""

import re

from playwright.sync_api import Page, expect
from test_ui import browser_context_args, browser_type_launch_args, quiet  # noqa: F401

from conftest import Stack

CSV = "time,y\n" + "".join(f"2024-01-{day:02d},{50 + day % 7}\n" for day in range(1, 29))


def names(page: Page, kind: str) -> list[str]:
    section = page.get_by_role("dialog", name="Everything kept").locator("section").filter(has_text=kind).first
    return [text.strip().split(" ")[0] for text in section.locator("button.name").all_inner_texts()]


def test_what_is_kept_is_renamed_copied_deleted_and_taken_back(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    project, _ = stack.project("kept by name", CSV)
    stack.ok("POST", f"/projects/{project}/chains", {"name": "straight", "stages": [{"kind": "linear_trend"}]})
    page.goto(f"{stack.address}/p/{project}/flatten")
    page.wait_for_selector("canvas")
    page.keyboard.press("k")
    panel = page.get_by_role("dialog", name="Everything kept")
    expect(panel.get_by_role("textbox", name="Find by name")).to_be_focused()
    expect(panel.get_by_role("button", name="Rename straight")).to_be_visible()
    panel.get_by_role("button", name="Rename straight").press("Enter")
    page.keyboard.type("bent")
    page.keyboard.press("Enter")
    expect(panel.get_by_role("button", name="Copy bent")).to_be_visible()
    panel.get_by_role("button", name="Copy bent").press("Enter")
    expect(panel.get_by_role("button", name="Rename bent copy")).to_be_visible()
    panel.get_by_role("button", name="Delete bent", exact=True).press("Enter")
    expect(panel.get_by_role("button", name="Restore bent")).to_be_visible()
    assert names(page, "Chains") == ["bent"]  # the copy
    page.keyboard.press("Escape")
    expect(panel).to_be_hidden()
    expect(page.get_by_text("“bent” is deleted.")).to_be_visible()
    page.keyboard.press("Control+z")
    expect(page.get_by_text("“bent” is deleted.")).to_be_hidden()
    saved = stack.ok("GET", f"/projects/{project}/chains")["saved"]
    assert [each["name"] for each in saved] == ["bent", "bent copy"]

    stack.ok("PATCH", f"/chains/{saved[0]['id']}", {"name": "elsewhere"})  # in another window
    page.keyboard.press("k")
    panel.get_by_role("textbox", name="Find by name").fill("bent")
    expect(panel.get_by_role("button", name="Delete bent copy")).to_be_visible()
    expect(panel.get_by_role("button", name="Delete elsewhere")).to_be_hidden()


def test_a_deleted_project_is_left_and_comes_back_from_the_list_of_all(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    project, _ = stack.project("soon gone", CSV)
    page.goto(f"{stack.address}/p/{project}/intake")
    page.get_by_role("button", name="Everything kept").click()
    page.get_by_role("button", name="Delete soon gone").click()
    expect(page).to_have_url(re.compile(r"projects=1"))
    assert stack.ask("GET", f"/projects/{project}")[0] == 404
    page.keyboard.press("Escape")
    page.locator(".home").get_by_role("button", name="Restore soon gone").click()
    expect(page.locator(".home").get_by_role("link", name="soon gone")).to_be_visible()
    assert stack.ok("GET", f"/projects/{project}")["name"] == "soon gone"


def test_two_windows_on_one_project_do_not_overwrite_each_other(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    project, first = stack.project("two windows", CSV)
    edit = {"edit": {"masks": [{"start": "2024-01-03", "end": "2024-01-04", "reason": "repair"}]}}
    second = stack.ok("POST", f"/datasets/{first}/edit", edit)["id"]
    address = f"/projects/{project}"
    page.goto(f"{stack.address}/p/{project}/flatten")
    page.wait_for_selector("canvas")

    stack.ok("PATCH", f"{address}/choices", {"plan": {"lags": [5]}})  # something else, in another window
    page.keyboard.press("k")
    versions = page.get_by_role("dialog", name="Everything kept").locator("section").filter(has_text="Versions")
    with page.expect_response(lambda answer: answer.request.method == "PATCH" and answer.ok):
        versions.get_by_role("button", name="version 1").click()
    choices = stack.ok("GET", address)["choices"]
    assert (choices["dataset_id"], choices["plan"]["lags"]) == (first, [5])
    expect(versions.locator(".here")).to_contain_text("version 1")

    third = stack.ok("POST", f"/datasets/{first}/copy", {})["id"]
    expect(versions.get_by_role("button", name="version 3")).to_be_visible()
    stack.ok("PATCH", f"{address}/choices", {"dataset_id": third})  # the same thing, in another window
    versions.get_by_role("button", name="version 2").click()
    expect(page.get_by_text("Changed in another window meanwhile (dataset_id)")).to_be_visible()
    assert stack.ok("GET", address)["choices"]["dataset_id"] == third
    expect(versions.locator(".here")).to_contain_text("version 3")
    versions.get_by_role("button", name="version 2").click()
    expect(versions.locator(".here")).to_contain_text("version 2")
    assert stack.ok("GET", address)["choices"]["dataset_id"] == second
