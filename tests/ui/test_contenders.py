"""Contenders as their user chooses and reads them: what does not suit says why, what was learned is shown."""

import json
import re
from zipfile import ZipFile

import numpy as np
import onnxruntime
from playwright.sync_api import Page, expect
from test_ui import browser_context_args, browser_type_launch_args, quiet, room  # noqa: F401

from conftest import Stack, hourly_csv

CONTENDERS = [
    {"name": "same hour yesterday", "forecaster": {"kind": "seasonal_last_value", "period": 24}},
    {"name": "regression", "forecaster": {"kind": "regression", "formula": "time + time^2"}},
    {"name": "ARIMA", "forecaster": {"kind": "arima", "largest": 1, "seasonal": [0, 0, 0]}},
]


def test_reasons_stand_beside_contenders_that_do_not_suit(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    project, dataset = stack.project("choice of contenders", hourly_csv(np.random.default_rng(5), 400))
    reasons = stack.ok("GET", f"/datasets/{dataset}/suited?series=1&until=300")["reasons"]
    assert "often zero" in reasons["intermittent"] and "known ahead" in reasons["regression"]
    assert "smoothing" not in reasons and "vector_autoregression" not in reasons
    assert stack.ask("GET", f"/datasets/{dataset}/suited?series=9")[0] == 422
    assert "needs 30 known points" in stack.ok("GET", f"/datasets/{dataset}/suited?until=20")["reasons"]["garch"]

    page.goto(f"{stack.address}/p/{project}/walkforward?cutoff=300")
    page.get_by_role("button", name="Set up an experiment").click()
    shelf, draft = page.get_by_label("Shelf"), page.get_by_label("To the board")
    theta = shelf.get_by_role("row").filter(has=page.get_by_label("Enter theta", exact=True))
    expect(theta.get_by_role("img", name="yes")).to_have_count(4)
    expect(theta.get_by_text(re.compile(r"^[\d,.]+ m?s$"))).to_be_visible(timeout=120_000)  # what one fit took here
    unsuited = shelf.get_by_role("row").filter(has=page.get_by_label("Enter intermittent demand", exact=True))
    expect(unsuited.get_by_text("often zero")).to_be_visible()
    page.get_by_label("Enter intermittent demand", exact=True).click()
    expect(draft.get_by_text("does not suit here")).to_be_visible()
    expect(draft.get_by_role("status")).to_contain_text("intermittent demand: It is for demand that is often zero")
    draft.get_by_role("button", name="intermittent demand", exact=True).click()
    expect(page.get_by_text("Does not suit north as it is known")).to_be_visible()
    page.get_by_role("button", name="Back to the shelf").click()
    page.get_by_label("Enter intermittent demand", exact=True).click()
    page.get_by_label("Enter smoothing", exact=True).click()
    draft.get_by_role("button", name="smoothing", exact=True).click()
    expect(page.get_by_text("Does not suit")).to_have_count(0)
    expect(draft.get_by_text("does not suit here")).to_have_count(0)
    expect(page.get_by_text("Start season")).to_be_visible()


def test_a_network_says_that_it_cannot_follow_a_trend_and_takes_out_a_line(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    rows = [f"{time},{40 + 0.05 * place + 3 * np.sin(place * np.pi / 12):.3f}" for place, time in enumerate(
        np.arange("2024-01-01T00", "2024-01-21T00", dtype="datetime64[h]"))]  # fmt: skip
    project, _ = stack.project("a level that moves", "\n".join(["time,value", *rows]))
    page.goto(f"{stack.address}/p/{project}/walkforward?cutoff=450")
    page.get_by_role("button", name="Set up an experiment").click()
    draft, note = page.get_by_label("To the board"), page.get_by_role("note").filter(has_text="says little beyond")
    for kind, told in (("season-aligned ridge", 0), ("recurrent network", 1), ("boosted trees on windows", 1)):
        page.get_by_label(f"Enter {kind}", exact=True).click()
        draft.get_by_role("button", name=kind, exact=True).click()
        expect(page.get_by_role("heading", name=kind)).to_be_visible()
        expect(note).to_have_count(told)
        if told:
            expect(note).to_contain_text(re.compile(r"rises by 2\d"))
            note.get_by_role("button", name="Take out a line").click()
            expect(note).to_have_count(0)
            expect(page.get_by_text("linear trend", exact=True).first).to_be_visible()
        page.get_by_role("button", name="Back to the shelf").click()


def test_a_network_is_drawn_to_scale_and_taken_away(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    project, dataset = stack.project("a network", hourly_csv(np.random.default_rng(6), 400))
    forecaster = {"kind": "convolutional_network", "repeats": 2, "epochs": 2, "filters": 3, "hidden": 4}
    body = {
        "dataset_id": dataset, "name": "network", "baseline": CONTENDERS[0]["name"],
        "contenders": [CONTENDERS[0], {"name": "filters", "forecaster": forecaster}],
        "folds": {"kind": "expanding", "count": 1, "horizon": 6}, "run": True,
    }  # fmt: skip
    experiment = stack.ok("POST", f"/projects/{project}/experiments", body)["id"]
    stack.wait(f"/experiments/{experiment}", lambda view: view["state"] == "done")
    room(page, stack, project, "walkforward", "?cutoff=394")
    page.get_by_role("cell", name="filters", exact=True).click()
    inspector = page.get_by_label("Inspector")
    drawing = inspector.get_by_role("table", name="The network")
    row = drawing.get_by_role("row", name="convolution")
    expect(row.get_by_role("img")).to_have_attribute("aria-label", "sees lags 1 … 5")
    expect(row).to_contain_text("48 × 3")
    told = stack.ok("GET", f"/experiments/{experiment}/facts?contender=filters&fold=0&series=0")
    weights = sum(each["weights"] for each in told["layers"])
    expect(drawing.get_by_role("row", name="all weights")).to_contain_text(
        re.compile(rf"{weights:,}".replace(",", "."))
    )
    expect(inspector.get_by_role("table", name="What the error gains without it")).to_be_attached()
    expect(inspector.get_by_role("img", name="What each repeat forecasts")).to_be_attached()
    expect(inspector.get_by_role("img", name="Loss by epoch")).to_be_attached()
    with page.expect_download() as found:
        inspector.get_by_role("link", name="ONNX").click()
    with ZipFile(found.value.path()) as archive:
        document = json.loads(archive.read("filters.json"))
        graph = onnxruntime.InferenceSession(archive.read("filters.onnx"))
    assert {each.name for each in graph.get_inputs()} == set(document["inputs"])
    assert document["contender"]["forecaster"]["kind"] == "convolutional_network" and len(document["series"]) == 2


def test_what_was_learned_is_tabled_drawn_and_set_beside_the_naive(quiet: Page, stack: Stack) -> None:  # noqa: F811
    page = quiet
    project, dataset = stack.project("what was learned", hourly_csv(np.random.default_rng(6), 400))
    body = {
        "dataset_id": dataset, "name": "learned", "contenders": CONTENDERS, "baseline": CONTENDERS[0]["name"],
        "folds": {"kind": "expanding", "count": 2, "horizon": 12}, "run": True,
    }  # fmt: skip
    experiment = stack.ok("POST", f"/projects/{project}/experiments", body)["id"]
    stack.wait(f"/experiments/{experiment}", lambda view: view["state"] == "done")
    facts = stack.ok("GET", f"/experiments/{experiment}/facts?contender=ARIMA&fold=1&series=0")
    assert facts["series"] >= 1 and facts["bytes"] > 0 and len(facts["tried"]) > 2
    step = facts["one_step"]
    assert step["points_after"] >= 12 and min(step["inside"], step["after"], step["last_value"]) > 0
    titles = [picture["title"] for picture in facts["pictures"]]
    assert "Actual against forecast, one step ahead" in titles and "Paths 12 steps on, with east" in titles
    assert stack.ask("GET", f"/experiments/{experiment}/facts?contender=ARIMA&fold=7&series=0")[0] == 404

    room(page, stack, project, "walkforward", "?cutoff=388")
    page.get_by_role("cell", name="regression", exact=True).click()
    inspector = page.get_by_label("Inspector")
    expect(inspector.get_by_role("columnheader", name="VIF")).to_be_attached()
    expect(inspector.get_by_role("row", name="inside what it learned")).to_be_attached()
    expect(inspector.get_by_text("how well it fits is not how well it forecasts")).to_be_attached()
    expect(inspector.get_by_role("img", name="Residuals, one step ahead")).to_be_attached()
    page.get_by_role("cell", name="ARIMA", exact=True).click()
    expect(inspector.get_by_role("img", name="Inverse roots")).to_be_attached()
    expect(inspector.get_by_text("joint, errors correlate by")).to_be_attached()
