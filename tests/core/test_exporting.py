"""Networks and trees in another runtime: its forecasts are ours."""

import json

import numpy as np
import onnxruntime
import pytest

import proteron as pt
from proteron.core.forecasters.exchange.network_graph import WRITERS
from proteron.core.forecasters.neural import bound
from proteron.core.timeline import TimeAxis

RNG = np.random.default_rng
T = np.arange(400)
PANEL = pt.Panel.from_arrays(
    {
        key: 50 + 10 * np.sin(2 * np.pi * (T + 5 * at) / 24) + 2 * RNG(at).normal(size=400)
        for at, key in enumerate("ab")
    },
    start="2023-01-01T00:00", step="1h",
)  # fmt: skip
SMALL = {"epochs": 2}
NUMBERED = {
    "lags": [1, 2], "missing": "drop", "more": [{"kind": "calendar", "field": "hour_of_day", "form": "number"}],
    "horizon": [1, 2, 3, 4, 5],
}  # fmt: skip
CASES = [
    ("dense_network", {**SMALL, "repeats": 2, "average": "median", "dropout": 0.2}),
    ("dense_network", {**SMALL, "level": "window", "loss": "gaussian", "repeats": 3}),
    ("dense_network", {**SMALL, "loss": "quantiles", "precision": "float64"}),
    ("autoregressive_network", {**SMALL, "repeats": 4, "average": "median"}),
    ("convolutional_network", {**SMALL, "pooling": "mean"}),
    ("convolutional_network", {**SMALL, "normed": True}),
    ("dense_network", {**SMALL, "plan": NUMBERED}),
    ("dense_network", {**SMALL, "loss": "negative_binomial"}),
    ("dilated_network", SMALL),
    ("recurrent_network", {**SMALL, "cell": "lstm"}),
    ("recurrent_network", SMALL),
    ("recurrent_network", {**SMALL, "cell": "plain", "depth": 2}),
    ("attention_network", SMALL),
    ("basis_network", SMALL),
    ("decomposition_network", SMALL),
    ("boosted_trees", {"trees": 10, "leaves": 6}),
    ("boosted_trees", {"trees": 10, "steps": "together", "plan": {"lags": [1, 2, 24], "missing": "drop"}}),
    ("boosted_trees", {"trees": 10, "loss": "tweedie"}),
    ("boosted_trees", {"trees": 6, "loss": "quantiles", "leaf_rows": 5}),
    ("boosted_trees", {"trees": 12, "plan": NUMBERED, "steps": "together"}),
    ("boosted_trees", {"trees": 12, "plan": NUMBERED, "steps": "apart"}),
    ("boosted_trees", {"trees": 1, "leaf_rows": 1e6}),
]  # fmt: skip
CHAIN = pt.Chain([pt.flatten.Log(), pt.flatten.PeriodMeans(period=24)])


def ran(graph, document, panel):
    """What the other runtime says from the end of a flat panel, by output; rows are series."""
    plan = pt.WindowPlan.parse(document["plan"])
    told = [document["series"][key] for key in panel.keys]
    level, spread = (np.array([[each[name]] for each in told]) for name in ("level", "spread"))
    scaled = panel.with_values((panel.values - np.repeat(level, panel.lengths)) / np.repeat(spread, panel.lengths))
    features = plan.write(plan.rows_at(scaled, panel.offsets[1:] - 1, np.arange(len(panel))))
    assert document["features"] == list(plan.names)
    session = onnxruntime.InferenceSession(graph)
    names = [each.name for each in session.get_outputs()]
    assert {each.name for each in session.get_inputs()} == set(document["inputs"])
    assert set(names) == set(document["outputs"])
    return dict(zip(names, session.run(None, {"features": features, "level": level, "spread": spread}), strict=True))


@pytest.mark.parametrize(("kind", "settings"), CASES)
def test_another_runtime_forecasts_the_same(kind: str, settings: dict, tmp_path) -> None:
    positive = settings.get("loss") in ("tweedie", "negative_binomial")
    fitted = pt.forecaster(kind, chain=pt.Chain([]) if positive else CHAIN, **settings).fit(PANEL, horizon=5)
    path, beside = pt.export_onnx(fitted, tmp_path / "north.onnx")
    document = json.loads(beside.read_text())
    chain = pt.FittedChain.from_document(document["chain"], TimeAxis.from_document(document["axis"]), ())
    flat_panel = chain.apply(PANEL)
    said = ran(path.read_bytes(), document, flat_panel)
    steps = min(said["mean"].shape[1], 5)
    forecast = fitted.forecast(5)
    np.testing.assert_allclose(said["mean"][:, :steps], forecast.flat_mean[:, :steps], rtol=1e-5, atol=1e-6)
    for row, key in enumerate(PANEL.keys):
        back = chain.undo_ahead(key, said["mean"][row][None, :steps], np.array([400]), 0, chain.lanes(PANEL, row))
        np.testing.assert_allclose(back[0], forecast.mean[row, :steps], rtol=1e-5)
    if "quantiles" in said:
        assert document["shares"] == [0.025, 0.1, 0.25, 0.5, 0.75, 0.9, 0.975]
        assert (np.diff(said["quantiles"], axis=2) >= 0).all()
        np.testing.assert_allclose(said["quantiles"][:, :steps, 3], said["mean"][:, :steps], rtol=1e-9)
        ends = fitted.contender.forecaster.ranges(fitted.state, flat_panel, np.array([400]), 5, (0.95,))
        for side, place in ((0, 0), (1, 6)):
            np.testing.assert_allclose(said["quantiles"][:, :steps, place], ends[0, side, :, 0], rtol=1e-4, atol=1e-6)
    if "deviation" in said:
        ends = fitted.contender.forecaster.ranges(fitted.state, flat_panel, np.array([400]), 5, (0.6827,))
        np.testing.assert_allclose(2 * said["deviation"][:, :steps], (ends[0, 1] - ends[0, 0])[:, 0], rtol=1e-3)


def test_every_layer_can_be_written_and_nothing_else_is() -> None:
    assert set(WRITERS) == {each for name, each in vars(bound).items() if name.startswith("bind_")}
    with pytest.raises(pt.InputError, match="graph"):
        pt.export_onnx(pt.forecaster("drift").fit(PANEL), "never.onnx")
    with pytest.raises(pt.InputError, match="graph"):
        pt.export_onnx(pt.forecaster("ridge", lags=[1]).fit(PANEL), "never.onnx")


def test_a_series_without_values_has_no_level_in_the_document(tmp_path) -> None:
    panel = pt.Panel.from_arrays({"a": PANEL["a"], "none": np.full(400, np.nan)}, start="2023-01-01T00:00", step="1h")
    fitted = pt.forecaster("dense_network", epochs=1, lags=[1, 2, 3]).fit(panel, horizon=2)
    text = pt.export_onnx(fitted, tmp_path / "x.onnx")[1].read_text()
    document = json.loads(text, parse_constant=lambda word: pytest.fail(f"{word} is no JSON"))
    assert document["series"]["none"]["level"] is None and document["series"]["a"]["spread"] > 0
