"""Contenders through the queue, the records and the API: what comes out is what the core says."""

import numpy as np
import pytest

import proteron as pt
from conftest import Stack
from proteron.runner.memory import PeakMemory
from quick import DRAWN, KINDS, LEARNERS, QUICK

SETTINGS = {
    kind: {name: value for name, value in settings.items() if name != "lags"}
    | ({"plan": {"lags": [1, 2]}} if kind in LEARNERS else {})
    for kind, settings in QUICK.items()
}
UGLY = "station \u2018\u00c5\u2019 / <b>1</b>"


def monthly_csv() -> str:
    """Ten years of two series with season and trend, the second with gaps and an awkward name."""
    rng = np.random.default_rng(30)
    lines, months = ["time,key,value"], np.arange("2010-01", "2020-01", dtype="datetime64[M]").astype("datetime64[D]")
    for key, level in (("plain", 60), (UGLY, 30)):
        values = level + 0.1 * np.arange(120) + 6 * np.sin(np.arange(120) * np.pi / 6) + rng.normal(size=120)
        for place, (month, value) in enumerate(zip(months, values, strict=True)):
            if key == "plain" or place % 17:
                lines.append(f'{month},"{key}",{value:.4f}')
    return "\n".join(lines) + "\n"


def test_what_every_contender_learned_comes_back_as_the_core_has_it(stack: Stack) -> None:
    project, dataset = stack.project("all contenders", monthly_csv())
    panel = pt.read_panel(monthly_csv().encode())
    assert len(panel) == 2 and np.isnan(panel.values).any()
    entries = [{"name": kind, "forecaster": {"kind": kind, **SETTINGS.get(kind, {})}} for kind in KINDS]
    body = {"dataset_id": dataset, "seed": 3, "folds": {"count": 2, "horizon": 6}, "contenders": entries}
    experiment = stack.ok("POST", f"/projects/{project}/experiments", body)
    path = f"/experiments/{experiment['id']}"
    finished = stack.wait(path, lambda each: each["state"] == "done")
    failures = {each["contender"]: each["reason"] for each in finished["failures"]}
    assert not failures
    cutoff = finished["folds"][1]["cutoff"]
    shown = stack.ok("POST", path + "/forecasts", {"series": 1, "origin": cutoff})["forecasts"]
    means = {each["contender"]: np.array(each["mean"], dtype=float) for each in shown}
    for kind in KINDS:
        facts = stack.ok("GET", f"{path}/facts?contender={kind}&fold=1&series=1")
        fitted = pt.forecaster(kind, **SETTINGS.get(kind, {})).fit(panel, until=cutoff, horizon=6)
        learner, key = fitted.contender.forecaster, panel.keys[1]
        assert facts["seconds"] > 0 and facts["memory"] >= 0
        if kind in DRAWN:
            continue  # its seed is the cell's
        assert facts["summary"] == fitted.summary[key]
        np.testing.assert_allclose(means[kind], fitted.forecast(6).mean[1], rtol=1e-9)
        errors = learner.standard_errors(fitted.state, key)
        for told in facts["coefficients"]:
            if kind != "regression":  # its table has names of its own
                assert told["estimate"] == pytest.approx(learner.parameters(fitted.state, key)[told["name"]], rel=1e-9)
                expected = errors.get(told["name"], np.nan)
                assert (
                    told["error"] == pytest.approx(expected, rel=1e-6) if np.isfinite(expected) else not told["error"]
                )
        for name, value in learner.criteria(fitted.state, key).items():
            assert facts["criteria"][name] == (pytest.approx(value, rel=1e-9) if np.isfinite(value) else None)
        for picture in facts["pictures"]:
            assert picture["title"] and all(len(curve["x"]) == len(curve["y"]) for curve in picture["curves"])
        declined = fitted.state.facts.get("declined", {}).get(key)
        assert (declined is None) == bool(np.isfinite(means[kind]).all())
    reasons = stack.ok("GET", f"/datasets/{dataset}/suited?series=1&until={cutoff}")["reasons"]
    assert "missing" in reasons["vector_autoregression"] and "smoothing" not in reasons


def test_memory_is_counted_at_its_peak() -> None:
    counted = PeakMemory()
    block = np.ones(8_000_000)
    del block
    taken = counted.taken()
    assert taken is not None and 60e6 < taken < 90e6
    assert PeakMemory().taken() < 5e6
