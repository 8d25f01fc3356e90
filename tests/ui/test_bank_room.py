"""Files as people have them, brought into the room: it shows what a careful person would read, or the refusal."""

from playwright.sync_api import Page, expect
from test_ui import browser_context_args, browser_type_launch_args  # noqa: F401
from tests.core.intake.bank import CASES

from conftest import Stack

SHOWN = [case for case in CASES if not case.recipe and case.zone == "UTC"][::4] + [c for c in CASES if c.refusal][::3]


def test_files_are_read_or_refused_in_the_room_as_by_the_library(page: Page, stack: Stack) -> None:
    project = stack.ok("POST", "/projects", {"name": "bank in the room"})["id"]
    assert len(SHOWN) > 20
    for case in SHOWN:
        page.goto(f"{stack.address}/p/{project}/intake")
        page.get_by_label("File", exact=True).set_input_files(
            {"name": "file", "mimeType": "application/octet-stream", "buffer": case.content}
        )
        if case.refusal:
            expect(page.get_by_role("alert").or_(page.get_by_role("status"))).to_contain_text(
                [case.refusal.split(".*")[0]]
            )
            continue
        facts = page.locator(".facts").first
        expect(facts).to_contain_text(f"{len(case.keys)} series of {case.step}", timeout=15_000)
