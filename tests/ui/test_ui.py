"""The interface as its user drives it, in headless Chromium against the whole stack."""

import re
import time
from collections.abc import Iterator

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from conftest import Stack, hourly_csv


@pytest.fixture(scope="session")
def browser_type_launch_args() -> dict:
    flags = [
        "--no-sandbox",
        "--disable-gpu",
        "--disable-background-networking",
        "--disable-component-update",
        "--disable-sync",
    ]
    return {"executable_path": "/usr/bin/chromium", "args": flags}


@pytest.fixture(scope="session")
def browser_context_args() -> dict:
    return {"viewport": {"width": 1280, "height": 800}}


@pytest.fixture
def quiet(page: Page) -> Iterator[Page]:
    """A page that must not log errors, except refusals the test provokes."""
    errors: list[str] = []
    page.on("pageerror", lambda error: errors.append(str(error)))
    page.on("console", lambda m: m.type == "error" and "status of 4" not in m.text and errors.append(m.text))
    yield page
    assert errors == []


@pytest.fixture(scope="session")
def demo(stack: Stack) -> int:
    (found,) = [p["id"] for p in stack.ok("GET", "/projects")["projects"] if p["name"] == "Port Ellery inflow"]
    finished = lambda p: all(each["state"] == "done" for each in p["experiments"] + p["outlooks"])  # noqa: E731
    stack.wait(f"/projects/{found}", finished, 240)
    return found


def room(page: Page, stack: Stack, project: int, name: str, query: str = "") -> None:
    page.goto(f"{stack.address}/p/{project}/{name}{query}")
    page.wait_for_selector("canvas")


def choose(page: Page, label: str, option: str) -> None:
    """Choose one of the values of a field by its text."""
    page.get_by_role("combobox", name=label).click()
    page.get_by_role("option", name=option).first.click()


def known_up_to(page: Page) -> str:
    return page.locator(".cutoff .as-text").inner_text()


def test_from_a_file_to_a_verdict(quiet: Page, stack: Stack) -> None:
    """A newcomer's first minutes: project, paste, flatten, windows, leak check, experiment, board, outlook."""
    page = quiet
    page.goto(stack.address + "/?projects=1")
    page.get_by_label("Name of a new project").fill("first light")
    page.get_by_role("button", name="Create").click()
    expect(page.get_by_role("heading", name="Bring data in")).to_be_visible()
    csv = hourly_csv(np.random.default_rng(3), 900)
    page.get_by_label("File", exact=True).set_input_files(
        {"name": "inflow.csv", "mimeType": "text/csv", "buffer": csv.encode()}
    )
    expect(page.get_by_text("reads as a time in every row sampled")).to_be_visible(timeout=15_000)
    page.get_by_placeholder("such as m³/h").fill("m³/h")
    page.get_by_role("button", name="Make dataset").click()
    expect(page.get_by_text("rows read")).to_be_visible()

    page.keyboard.press("3")
    page.get_by_role("button", name="+ stage").click()
    page.get_by_role("button", name="period means").click()
    expect(page.get_by_text("of variance").first).to_be_visible()

    page.keyboard.press("4")
    expect(page.get_by_role("grid")).to_be_visible()
    page.get_by_role("button", name="Run (r)").click()
    expect(page.get_by_text("Leak check passed")).to_be_visible(timeout=30_000)

    page.keyboard.press("5")
    page.get_by_role("button", name="Set up an experiment").click()
    page.get_by_role("button", name="Run", exact=True).click()
    expect(page.get_by_text("is best, skill")).to_be_visible(timeout=60_000)
    expect(page.get_by_role("button", name="Stop (Esc)")).to_have_count(0, timeout=90_000)
    board = page.locator("section, div").filter(has=page.get_by_role("columnheader", name="MASE")).last
    assert all(name in board.inner_text() for name in ("Ridge on windows", "Dense on windows", "last value"))

    page.get_by_role("button", name="Take to Outlook").click()
    expect(page.get_by_text("in 95 of 100 such cases")).to_be_visible(timeout=30_000)
    page.keyboard.press("6")
    page.get_by_role("button", name="Look through the data (r)").click()
    expect(page.get_by_text("what would have been caught")).to_be_visible(timeout=60_000)


def test_the_cutoff_moves_by_key_drag_and_text_and_lives_in_the_url(quiet: Page, stack: Stack, demo: int) -> None:
    page = quiet
    room(page, stack, demo, "walkforward")
    expect(page.get_by_role("button", name="Fold 1")).to_be_visible()
    folds = stack.ok("GET", f"/experiments/{stack.ok('GET', f'/projects/{demo}')['choices']['experiment_id']}")["folds"]
    page.get_by_role("button", name="Fold 2", exact=True).click()
    at_second = known_up_to(page)
    page.keyboard.press("]")
    assert known_up_to(page) != at_second
    page.keyboard.press("[")
    assert known_up_to(page) == at_second
    page.keyboard.press("Shift+]")
    slider = page.get_by_role("slider", name="Cutoff")
    expect(slider).to_have_attribute("aria-valuenow", str(folds[1]["cutoff"] + 1))
    box = slider.bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + 6, box["y"] + 4)
    page.mouse.down()
    page.mouse.move(box["x"] - 200, box["y"] + 4, steps=5)
    page.mouse.up()
    assert int(slider.get_attribute("aria-valuenow") or 0) < folds[0]["cutoff"]
    expect(page.get_by_text("No fold had learned by then")).to_have_count(2)  # in the lane and in the inspector
    page.locator(".cutoff .as-text").click()
    page.get_by_label("Cutoff", exact=True).fill("2024-11-01 12:00")
    page.keyboard.press("Enter")
    assert known_up_to(page) == "Fri 01 Nov 2024 12:00"
    page.wait_for_url("**cutoff=*")
    page.wait_for_timeout(400)
    page.reload()
    page.wait_for_selector("canvas")
    assert known_up_to(page) == "Fri 01 Nov 2024 12:00"


def test_every_room_opens_by_key_with_its_content(quiet: Page, stack: Stack, demo: int) -> None:
    page = quiet
    room(page, stack, demo, "intake")
    marks = {
        "1": "rows read", "2": "unit root", "3": "stage 1 of 3", "4": "One row, drawn to scale",
        "5": "is best, skill", "6": "what would have been caught", "7": "ranges from",
    }  # fmt: skip
    for key, text in marks.items():
        page.keyboard.press(key)
        expect(page.get_by_text(text, exact=False).first).to_be_visible(timeout=10_000)
    before = page.locator(".picker b").inner_text()
    page.keyboard.press(".")
    expect(page.locator(".picker b")).not_to_have_text(before)
    page.keyboard.press("Control+k")
    page.get_by_label("Command", exact=True).fill("go profile")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("/profile"))
    page.keyboard.press("?")
    expect(page.get_by_role("dialog", name="Keys")).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.get_by_role("dialog", name="Keys")).to_have_count(0)


@pytest.mark.parametrize(
    ("content", "sentence"),
    [
        (b"", "The file is empty"),
        (b"time,y\n", "no row below it"),
        (bytes(range(256)) * 10, "This is not text"),
        (b"a,b\n1,2\n3,4\n", "No column reads as a time"),
        (b"time,y\n2020-01-01,1\n", "One row is not a series"),
    ],
)
def test_a_bad_file_is_explained_and_changes_nothing(
    page: Page, stack: Stack, demo: int, content: bytes, sentence: str
) -> None:
    before = stack.ok("GET", f"/projects/{demo}")["datasets"]
    room(page, stack, demo, "intake")
    page.get_by_label("File", exact=True).set_input_files(
        {"name": "bad.csv", "mimeType": "text/csv", "buffer": content}
    )
    expect(page.get_by_role("alert")).to_contain_text(sentence)
    make = page.get_by_role("button", name="Make dataset")
    assert make.count() == 0 or make.is_disabled()
    assert stack.ok("GET", f"/projects/{demo}")["datasets"] == before


def test_a_finding_is_seen_chosen_and_kept(quiet: Page, stack: Stack) -> None:
    """Conflicting times: the effect of a remedy is drawn before it is taken, and nothing is made without a choice."""
    page = quiet
    project = stack.ok("POST", "/projects", {"name": "lies"})["id"]
    page.goto(f"{stack.address}/p/{project}/intake")
    csv = hourly_csv(np.random.default_rng(4), 300, ("one",)) + "2024-01-03T05:00:00Z,one,400\nTotal,,15000\n"
    page.get_by_label("File", exact=True).set_input_files(
        {"name": "lies.csv", "mimeType": "text/csv", "buffer": csv.encode()}
    )
    finding = page.locator("article", has_text="occur twice")
    expect(finding).to_contain_text("choose one", timeout=15_000)
    expect(page.locator("article", has_text="totals row")).to_contain_text("line 303")
    make = page.get_by_role("button", name="Make dataset")
    expect(make).to_be_disabled()
    finding.get_by_label("Show what “take their mean” would do").click()
    expect(page.get_by_text("dashed: take their mean")).to_be_visible()
    finding.get_by_role("radio", name="keep the first row").check()
    expect(make).to_be_enabled()
    make.click()
    expect(page.get_by_text("rows read")).to_be_visible(timeout=15_000)
    (dataset,) = stack.ok("GET", f"/projects/{project}")["datasets"]
    view = stack.ok("GET", f"/datasets/{dataset['id']}")
    assert view["series"][0]["highest"] < 100
    assert view["account"]["recipe"]["remedies"]["duplicate times"] == "first"


def test_a_span_is_masked_filled_compared_and_taken_back(quiet: Page, stack: Stack) -> None:
    page = quiet
    lines = hourly_csv(np.random.default_rng(6), 400, ("one", "two")).splitlines()
    project, first = stack.project("spans", "\n".join(lines[:60] + lines[70:]))
    room(page, stack, project, "intake")
    strip = page.get_by_label("The whole series").bounding_box()
    assert strip is not None
    page.keyboard.down("Alt")
    page.mouse.move(strip["x"] + 300, strip["y"] + 30)
    page.mouse.down()
    page.mouse.move(strip["x"] + 400, strip["y"] + 30, steps=4)
    page.mouse.up()
    page.keyboard.up("Alt")
    page.keyboard.press("m")
    page.get_by_placeholder("why it is left out").fill("meter test")
    page.get_by_role("button", name="Mask", exact=True).click()
    expect(page.get_by_role("button", name="Take off meter test")).to_be_visible()
    page.get_by_text("Fill gaps").click()
    choose(page, "Method", "straight line")
    page.get_by_role("button", name="Fill", exact=True).click()
    page.get_by_role("tab", name="Versions").click()
    versions = page.locator(".versions").get_by_role("row")
    expect(versions).to_have_count(4)
    versions.nth(2).get_by_role("button", name="Compare").click()
    expect(page.get_by_text("10 values changed")).to_be_visible()
    versions.nth(1).get_by_role("button", name="Stand on it").click()
    expect(page.get_by_role("button", name="Take off meter test")).to_have_count(0)
    assert stack.ok("GET", f"/projects/{project}")["choices"]["dataset_id"] == first
    page.get_by_role("tab", name="Series").click()
    page.get_by_label("Search series").fill("tw")
    expect(page.get_by_label("Series in the dataset").locator("tbody tr")).to_have_count(1)


def test_a_table_of_a_hundred_thousand_rows_scrolls_to_its_end(quiet: Page, stack: Stack) -> None:
    page = quiet
    rng = np.random.default_rng(8)
    project, _ = stack.project("long", hourly_csv(rng, 100_200, ("one",)))
    stack.ok("PATCH", f"/projects/{project}/choices", {"plan": {"lags": [1, 2, 3], "horizon": [1]}})
    room(page, stack, project, "windows")
    grid = page.get_by_role("grid")
    expect(grid).to_have_attribute("aria-rowcount", str(100_200 - 3))
    grid.focus()
    page.keyboard.press("End")
    last = page.locator(f"[aria-rowindex='{100_200 - 3}']")
    expect(last).to_be_visible()
    expect(last).not_to_contain_text("…")
    assert page.get_by_role("row").count() < 80  # only what is in view is in the page
    values = np.array([float(v) for v in hourly_csv(np.random.default_rng(8), 100_200, ("one",)).split(",")[-1:]])
    expect(last).to_contain_text(f"{values[0]:.3f}")


def test_a_million_points_paint_and_pan_smoothly(quiet: Page, stack: Stack) -> None:
    page = quiet
    times = np.datetime_as_string(
        np.datetime64("1990-01-01T00:00", "m") + np.arange(1_000_000) * np.timedelta64(15, "m")
    )
    values = np.sin(np.arange(1_000_000) / 3000) + np.random.default_rng(1).normal(size=1_000_000) / 10
    values[654_321] = 25.0
    csv = "time,y\n" + "\n".join(f"{t}Z,{v:.3f}" for t, v in zip(times, values, strict=True))
    project, dataset = stack.project("million", csv)
    for _ in range(4):  # both web processes have it in memory
        line = stack.ok("GET", f"/datasets/{dataset}/series/0/line?width=1200")
    assert max(v for v in line["values"] if v is not None) == 25.0
    room(page, stack, project, "intake", "?cutoff=900000")
    page.wait_for_selector("[aria-busy=true]", state="detached")
    begun = time.monotonic()
    room(page, stack, project, "profile", "?cutoff=900000")
    first_paint = time.monotonic() - begun
    page.keyboard.press("0")
    page.wait_for_timeout(800)
    frames = page.evaluate(
        """async () => {
          const over = document.querySelector('.u-over')
          const box = over.getBoundingClientRect()
          const gaps = []
          let last = performance.now()
          for (let i = 0; i < 60; i++) {
            const at = { clientX: box.left + box.width / 2 + i, clientY: box.top + 20 }
            over.dispatchEvent(new WheelEvent('wheel', { deltaY: i < 30 ? -60 : 60, cancelable: true, ...at }))
            await new Promise(requestAnimationFrame)
            const now = performance.now()
            gaps.push(now - last)
            last = now
          }
          return gaps
        }"""
    )
    print(f"first paint {first_paint:.2f} s, slowest frame {max(frames):.0f} ms, median {np.median(frames):.0f} ms")
    assert np.median(frames) < 50


def test_day_and_night_and_a_wider_window_fit(quiet: Page, stack: Stack, demo: int) -> None:
    page = quiet
    page.set_viewport_size({"width": 1680, "height": 1050})
    room(page, stack, demo, "walkforward")
    page.get_by_role("button", name="Night theme").click()
    assert page.evaluate("document.documentElement.dataset.theme") == "night"
    assert page.evaluate("getComputedStyle(document.body).backgroundColor") == "rgb(19, 22, 24)"
    overflow = page.evaluate(
        "document.documentElement.scrollWidth > innerWidth || document.documentElement.scrollHeight > innerHeight"
    )
    assert not overflow
