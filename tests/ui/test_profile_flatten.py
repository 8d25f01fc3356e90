"""Profile and Flatten as their user drives them."""

import json
import re

import numpy as np
from playwright.sync_api import Page, Route, expect
from test_ui import browser_context_args, browser_type_launch_args, choose, known_up_to, quiet, room  # noqa: F401

from conftest import Stack, hourly_csv


def months_csv(rng: np.random.Generator, series: int, months: int = 96) -> str:
    times = np.datetime_as_string(np.arange(months).astype("datetime64[M]").astype("datetime64[D]"))
    rows = ["time,key,value"]
    for k in range(series):
        swing = 20 if k % 3 == 0 else 0.1
        values = 200 + swing * np.sin(2 * np.pi * np.arange(months) / 12) + rng.normal(size=months)
        values += 0.8 * np.arange(months) * (k % 2)
        rows += [f"{t},s{k:02d},{v:.3f}" for t, v in zip(times, values, strict=True)]
    return "\n".join(rows) + "\n"


def test_a_profile_is_read_by_keyboard_and_suggests_a_chain(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    project, _ = stack.project("profile by keys", hourly_csv(np.random.default_rng(5), 900))
    room(page, stack, project, "profile", "?cutoff=800")
    expect(page.get_by_text("strength of day")).to_be_visible(timeout=15_000)
    page.get_by_role("tab", name="Level").focus()
    for part, shows in (
        ("Cycles", "cycles of a day"),
        ("Memory", "Periods found"),
        ("Shape", "quantiles against the normal"),
        ("Columns", "no numeric columns beside the series"),
    ):
        page.keyboard.press("ArrowRight")
        expect(page.get_by_role("tab", name=part)).to_have_attribute("aria-selected", "true")
        expect(page.get_by_text(shows).first).to_be_visible()
        page.get_by_role("tab", name=part).focus()
    page.wait_for_url("**part=columns*")
    page.reload()
    expect(page.get_by_role("tab", name="Columns")).to_have_attribute("aria-selected", "true")

    page.get_by_role("button", name="Add trend and seasons, loess to the chain").click()
    expect(page.get_by_role("button", name="trend and seasons, loess: in the chain")).to_be_disabled()
    assert [stage["kind"] for stage in stack.ok("GET", f"/projects/{project}")["choices"]["chain"]] == ["loess_seasons"]
    strength = page.locator("tr", has_text="strength of day").locator("td.number")
    before = float(strength.inner_text())
    page.keyboard.press("u")
    expect(page.get_by_text("flattened by the chain")).to_be_visible()
    expect(strength).not_to_have_text(f"{before:.2f}")
    assert float(strength.inner_text()) < 0.2 < before


def test_every_series_is_a_row_computed_in_the_background(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    project, dataset = stack.project("features", months_csv(np.random.default_rng(6), 30))
    page.goto(f"{stack.address}/p/{project}/profile?part=panel&cutoff=90")
    grid = page.get_by_label("Features of every series")  # begun by opening it
    expect(grid.locator("tbody tr")).to_have_count(30, timeout=60_000)
    stack.wait(f"/datasets/{dataset}/features?until=90", lambda found: found["state"] == "done")
    grid.get_by_role("columnheader", name="s. 12").click()
    expect(grid.locator("tbody tr td").first).to_have_text(re.compile(r"s(00|03|06|09|12|15|18|21|24|27)$"))
    page.get_by_label("Conditions").fill("season 12 > 0.9, trend > 0.6")
    expect(page.get_by_text("5 of 30")).to_be_visible()  # every third swings, every second climbs
    page.get_by_label("Conditions").fill("colour > 3")
    expect(page.get_by_text("cannot read “colour > 3”")).to_be_visible()
    page.get_by_label("Conditions").fill("")
    choose(page, "Group by", "transform")
    expect(grid.locator("b").first).to_be_visible()
    grid.locator("tbody tr").nth(3).dblclick()
    expect(page.get_by_role("tab", name="Level")).to_have_attribute("aria-selected", "true")
    page.get_by_role("tab", name="All series").click()
    page.keyboard.press("Shift+[")
    expect(page.get_by_text("Out of date: computed as of")).to_be_visible()


def test_a_chain_is_built_compared_saved_kept_and_brought_back(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    project, dataset = stack.project("chains", hourly_csv(np.random.default_rng(7), 900))
    room(page, stack, project, "flatten", "?cutoff=700")

    def stages() -> list[dict]:
        return stack.ok("GET", f"/projects/{project}")["choices"].get("chain") or []

    page.get_by_role("button", name="Chains").click()
    page.get_by_role("button", name="line and figure").click()
    expect(page.get_by_text("of variance").first).to_be_visible()
    expect(page.get_by_text("keeping…")).to_have_count(0)
    assert [stage["kind"] for stage in stages()] == ["linear_trend", "period_means"]

    trend = page.get_by_role("button", name="linear trend, tukey")
    trend.focus()
    page.keyboard.press("o")
    expect(page.get_by_text("switched off")).to_be_visible()
    page.keyboard.press("o")
    expect(page.get_by_text("learned up to the cutoff")).to_be_visible()
    page.get_by_label("compare plain and robust").check()
    expect(page.get_by_text("dotted: least squares")).to_be_visible()
    page.get_by_label("compare plain and robust").uncheck()
    trend.focus()
    page.keyboard.press("Alt+ArrowRight")
    expect(page.get_by_role("listitem").nth(1)).to_contain_text("linear trend")
    page.get_by_role("button", name="linear trend, tukey").focus()
    page.keyboard.press("d")
    expect(page.get_by_role("listitem")).to_have_count(3)
    page.keyboard.press("Delete")
    expect(page.get_by_role("listitem")).to_have_count(2)

    page.get_by_role("button", name="Chains").click()
    page.get_by_label("Name of this chain").fill("steady")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_role("button", name="steady", exact=True)).to_be_visible()
    page.keyboard.press("Escape")

    page.get_by_role("button", name="Keep as fitted").click()
    with page.expect_download() as download:
        page.get_by_role("button", name="JSON", exact=True).click()
    document = json.loads(download.value.path().read_text())
    assert document["fitted"]["until"] == 700
    assert [each["until"] for each in stack.ok("GET", f"/datasets/{dataset}/fitted-chains")["fitted"]] == [700]
    page.get_by_label("Fitted chain").set_input_files(
        {"name": "broken.json", "mimeType": "application/json", "buffer": b"{ not json"}
    )
    expect(page.get_by_text("broken.json is not JSON; nothing was changed")).to_be_visible()
    page.get_by_label("Fitted chain").set_input_files(
        {"name": "fitted.json", "mimeType": "application/json", "buffer": json.dumps(document).encode()}
    )
    expect(page.get_by_text("broken.json is not JSON")).to_have_count(0)


def test_a_chain_changed_faster_than_it_is_kept_loses_nothing(quiet: Page, stack: Stack) -> None:  # noqa: F811
    """What the server says of an earlier change never stands over a later one, neither here nor there."""
    page = quiet
    project, _ = stack.project("fast hands", hourly_csv(np.random.default_rng(7), 400))
    two = [{"kind": "linear_trend"}, {"kind": "z_score"}]
    stack.ok("PATCH", f"/projects/{project}/choices", {"chain": two})
    room(page, stack, project, "flatten")
    items = page.get_by_role("listitem")
    expect(items).to_have_count(2)
    held: list[Route] = []
    kept: list[str] = []
    page.on("response", lambda answer: kept.append(answer.url) if answer.request.method == "PATCH" else None)
    page.route("**/choices", lambda route: route.continue_() if held else held.append(route))
    page.get_by_role("button", name="linear trend").first.focus()
    page.keyboard.press("Alt+ArrowRight")
    expect(items.nth(1)).to_contain_text("linear trend")
    page.get_by_role("button", name="linear trend").first.focus()
    page.keyboard.press("d")
    expect(items).to_have_count(3)
    assert kept == [], "the second change waits for the first"
    expect(page.get_by_text("keeping…")).to_be_visible()
    with page.expect_response("**/choices"):
        held[0].continue_()
    expect(items).to_have_count(3)
    page.keyboard.press("Delete")
    expect(items).to_have_count(2)
    stack.wait(f"/projects/{project}", lambda _: page.wait_for_timeout(20) or len(kept) == 3)
    expect(items).to_have_count(2)
    expect(page.get_by_text("keeping…")).to_have_count(0)
    stored = stack.ok("GET", f"/projects/{project}")["choices"]["chain"]
    assert [each["kind"] for each in stored] == ["z_score", "linear_trend"]


def test_a_transform_that_does_not_fit_says_so_and_offers_one_that_does(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    rng = np.random.default_rng(8)
    times = np.datetime_as_string(np.datetime64("2024-01-01T00", "s") + np.arange(300) * np.timedelta64(3600, "s"))
    rows = [f"{t}Z,{v:.3f}" for t, v in zip(times, rng.normal(size=300), strict=True)]
    project, _ = stack.project("negatives", "time,value\n" + "\n".join(rows))
    room(page, stack, project, "flatten", "?cutoff=250")
    page.get_by_role("button", name="+ stage").click()
    page.get_by_role("button", name="log", exact=True).click()
    alert = page.get_by_role("alert")
    expect(alert).to_contain_text("log needs positive values")
    alert.get_by_role("button", name="Use Yeo–Johnson instead").click()
    expect(alert).to_have_count(0)
    expect(page.get_by_role("img", name="log-likelihood by λ")).to_be_visible()


def test_dragging_the_cutoff_fits_the_chain_again_on_the_past(quiet: Page, stack: Stack) -> None:  # noqa: F811
    """Four stages over 20,000 points; prints how long a step takes until every lane is redrawn."""
    page = quiet
    project, _ = stack.project("twenty thousand", hourly_csv(np.random.default_rng(9), 20_000, ("only",)))
    chain = [
        {"kind": "log"}, {"kind": "linear_trend", "method": "tukey"}, {"kind": "loess_seasons", "periods": [24, 168]},
        {"kind": "z_score"},
    ]  # fmt: skip
    client = stack.ok("PATCH", f"/projects/{project}/choices", {"chain": chain})
    assert client["choices"]["chain"]
    room(page, stack, project, "flatten", "?cutoff=15000")
    page.get_by_role("button", name="linear trend, tukey").click()
    slope = page.locator("tr", has_text="slope per step").locator("td.number")
    expect(slope).to_be_visible(timeout=15_000)
    seen = {slope.inner_text()}
    handle = page.get_by_role("slider", name="Cutoff").bounding_box()
    assert handle is not None
    page.mouse.move(handle["x"] + 6, handle["y"] + 4)
    page.mouse.down()
    for step in range(1, 6):
        with page.expect_response(lambda answer: answer.url.endswith("/flatten")) as answered:
            page.mouse.move(handle["x"] + 6 - 40 * step, handle["y"] + 4)
        assert answered.value.ok
        expect(slope).not_to_have_text(re.compile("|".join(re.escape(each) for each in seen)))
        seen.add(slope.inner_text())
    page.mouse.up()
    assert len(seen) == 6
    times = []
    for _ in range(5):
        before = known_up_to(page)
        took = page.evaluate(
            """() => new Promise((done) => {
              const begun = performance.now()
              const key = { key: '{', code: 'BracketLeft', shiftKey: true, bubbles: true }
              document.body.dispatchEvent(new KeyboardEvent('keydown', key))
              let busy = false
              const look = () => {
                const now = document.querySelector('.lane[aria-busy=true]') !== null
                busy ||= now
                if (busy && !now) requestAnimationFrame(() => done(performance.now() - begun))
                else requestAnimationFrame(look)
              }
              requestAnimationFrame(look)
            })"""
        )
        assert known_up_to(page) != before
        times.append(took)
    print(f"a step of the cutoff redraws every lane in {np.median(times):.0f} ms, at most {max(times):.0f} ms")
