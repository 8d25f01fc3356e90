"""Folds, errors, skill and the board against hand computation."""

import numpy as np
import pytest
from scipy import special

import proteron as pt
from proteron.core.judge import METRICS, Scored, compute_cell, expand
from proteron.core.panel import NOT_SCORED, Panel
from proteron.core.phases import naive_scale


def test_expanding_folds_end_at_the_last_point_and_never_overlap() -> None:
    panel = Panel.from_arrays({"a": np.arange(100.0)}, "2024-01-01", "1h")
    folds = pt.Folds.expanding(count=3, horizon=10, gap=2).resolve(panel)
    assert [(f.learn_start, f.cutoff, f.score_start, f.score_stop) for f in folds] == [
        (0, 68, 70, 80), (0, 78, 80, 90), (0, 88, 90, 100),
    ]  # fmt: skip
    sliding = pt.Folds.sliding(count=2, horizon=10, length=30, span=20, every=5).resolve(panel)
    assert [(f.learn_start, f.cutoff, f.score_stop) for f in sliding] == [(30, 60, 80), (50, 80, 100)]
    assert sliding[0].origins.tolist() == [60, 65, 70, 75]
    with pytest.raises(pt.TooShortError, match="nothing to learn from"):
        pt.Folds.expanding(count=10, horizon=10).resolve(panel)


def scored(truth: list[float], error: list[float], scale: float = 0.5, **more: object) -> Scored:
    shape = (1, 1, len(truth))
    truths = np.reshape(truth, shape)
    scales = np.full((1, 1, 1), scale), np.full((1, 1, 1), scale**2)
    return Scored(truths + np.reshape(error, shape), truths, *scales, **more)  # type: ignore[arg-type]


def test_metrics_by_hand() -> None:
    point = scored([2.0, 0.0, 4.0], [1.0, 0.0, -2.0])
    ends = np.array([[1.0, -1.0, 1.0], [3.0, 1.0, 3.5]]).reshape(2, 1, 1, 1, 3)
    ranged = scored([2.0, 0.0, 4.0], [1.0, 0.0, -2.0], levels=(0.8,), lower=ends[0], upper=ends[1])
    named = ("mae", "rmse", "mase", "rmsse", "smape", "coverage_80", "pinball", "crps")
    value = {n: float(METRICS[n].told(np.nanmean(METRICS[n].of(ranged)))) for n in named}
    low, high = 0.1 * np.array([1.0, 1.0, 3.0]), 0.1 * np.array([1.0, 1.0, 9 * 0.5])
    middle = np.array([0.5, 0.0, 1.0])
    assert value == pytest.approx(
        {
            "mae": 1.0, "rmse": np.sqrt(5 / 3), "mase": 2.0, "rmsse": np.sqrt(5 / 3) / 0.5,
            "smape": (200 * 1 / 5 + 200 * 2 / 6) / 2, "coverage_80": 2 / 3, "pinball": ((low + high) / 2).mean(),
            "crps": (0.1 * low + 0.4 * (low + middle) + 0.4 * (middle + high) + 0.1 * high).mean(),
        }
    )  # fmt: skip
    for name in ("pinball", "crps", "coverage_80"):
        assert np.isnan(METRICS[name].of(point)).all()  # no ranges, no loss
    assert np.isnan(METRICS["coverage_95"].of(ranged)).all()
    for name in ("mase", "rmsse"):
        assert np.isnan(METRICS[name].of(scored([1.0], [1.0], 0.0))).all()  # undefined, not infinite
    assert np.isnan(METRICS["smape"].of(scored([0.0], [0.0]))).all()
    seasonal = np.array([1.0, 5, 2, 8, np.nan, 9])
    assert naive_scale(seasonal, 2) == pytest.approx((1 + 3 + 1) / 3)
    assert naive_scale(seasonal, 2, 2) == pytest.approx((1 + 9 + 1) / 3)
    assert np.isnan(naive_scale(seasonal, 6))


def test_the_score_of_a_normal_forecast_is_its_closed_form(rng: np.random.Generator) -> None:
    """Gneiting & Raftery 2007, eq. 5: σ (z (2Φ(z) - 1) + 2φ(z) - 1/√π); from ranges it is close, from paths closer."""
    truth = rng.normal(size=4000)
    z, density = truth, np.exp(-(truth**2) / 2) / np.sqrt(2 * np.pi)
    exact = (z * (2 * special.ndtr(z) - 1) + 2 * density - 1 / np.sqrt(np.pi)).mean()
    ends = special.ndtri(0.5 + np.array([0.5, 0.8, 0.95]) / 2).reshape(3, 1, 1, 1)
    flat = np.zeros((3, 1, 1, 4000))
    by_ranges = METRICS["crps"].of(scored(truth, -truth, levels=(0.5, 0.8, 0.95), lower=flat - ends, upper=flat + ends))
    assert by_ranges.mean() == pytest.approx(exact, rel=0.04)
    paths = np.broadcast_to(rng.normal(size=1000).reshape(-1, 1, 1, 1), (1000, 1, 1, 4000))
    by_paths = METRICS["crps"].of(scored(truth, -truth, levels=(0.5,), lower=flat[:1], upper=flat[:1], paths=paths))
    assert by_paths.mean() == pytest.approx(exact, rel=0.02)


@pytest.fixture
def report(hourly: Panel):
    contenders = {
        "naive": pt.forecaster("seasonal_last_value", period=24),
        "last": pt.forecaster("last_value"),
        "ridge": pt.forecaster("ridge", lags=range(1, 26), chain=pt.Chain([pt.flatten.Log()])),
    }
    folds = pt.Folds.expanding(count=4, horizon=12, span=36, every=12, gap=1)
    return pt.walk_forward(hourly, contenders, folds, metrics=["rmse", "mase"], baseline="naive", seed=3)


def test_the_board_equals_a_plain_recomputation(report, hourly: Panel) -> None:
    rows = {row["contender"]: row for row in report.board}
    folds = pt.Folds.expanding(count=4, horizon=12, span=36, every=12, gap=1).resolve(hourly)
    squares = {"naive": [], "last": []}
    for fold in folds:
        for origin in fold.origins:
            for i in range(2):
                x = np.full(2000, np.nan)
                x[hourly.starts[i] : hourly.starts[i] + hourly.lengths[i]] = hourly.series(i)
                known = x[:origin]
                for step in range(2, 14):  # the gap is one step
                    truth = x[origin + step - 1]
                    at = origin + step - 1
                    while at >= origin or np.isnan(known[at]):
                        at -= 24
                    squares["naive"].append((known[at] - truth) ** 2)
                    squares["last"].append((known[np.flatnonzero(np.isfinite(known))[-1]] - truth) ** 2)
    for name in squares:
        assert rows[name]["rmse"] == pytest.approx(np.sqrt(np.nanmean(squares[name])))
    expected = 1 - rows["last"]["rmse"] / rows["naive"]["rmse"]
    assert rows["last"]["skill"] == pytest.approx(expected)
    assert rows["naive"]["skill"] == 0
    assert [row["contender"] for row in report.board if row["baseline"]] == ["naive"]
    assert rows["ridge"]["skill_low"] < rows["ridge"]["skill"] < rows["ridge"]["skill_high"]
    assert rows["ridge"]["flat_rmse"] is not None
    assert rows["last"]["flat_rmse"] is None
    assert len(rows["ridge"]["skill_by_step"]) == 12


def test_forecasts_stand_beside_what_happened(report, hourly: Panel) -> None:
    ridge = report.forecasts["ridge"]
    assert ridge["mean"].shape == ridge["truth"].shape == (2, 12, 12)
    assert ridge["horizons"].tolist() == list(range(2, 14))
    assert ridge["truth"][0, 0, 0] == hourly["north"][ridge["positions"][0] + 1]


def test_masked_points_never_score(hourly: Panel) -> None:
    spoiled = hourly.values.copy()
    spoiled[1480:1485] += 1e6
    marks = np.zeros(len(spoiled), np.uint8)
    marks[1480:1485] = NOT_SCORED
    panel = Panel(hourly.axis, hourly.keys, spoiled, hourly.offsets, hourly.starts, marks=marks)
    folds = pt.Folds.expanding(count=1, horizon=24)
    board = pt.walk_forward(panel, {"mean": pt.forecaster("mean")}, folds, metrics=["mae"]).board
    assert board[0]["mae"] < 100


def test_numbers_do_not_depend_on_order_workers_or_what_follows(hourly: Panel) -> None:
    contenders = {"net": pt.forecaster("dense_network", hidden=[4], epochs=2), "last": pt.forecaster("last_value")}
    folds = pt.Folds.expanding(count=2, horizon=6)
    one = pt.walk_forward(hourly, contenders, folds, seed=5)
    two = pt.walk_forward(hourly, dict(reversed(contenders.items())), folds, seed=5, baseline="last", workers=2)
    assert one.forecasts["net"]["mean"].tobytes() == two.forecasts["net"]["mean"].tobytes()
    cell = expand(hourly, contenders, folds.resolve(hourly), 5)[0]
    future = hourly.with_values(np.where(np.arange(len(hourly.values)) == 1499, 1e9, hourly.values))
    again = compute_cell(future, cell)  # the last point lies beyond this fold's scored span
    assert again.mean.tobytes() == compute_cell(hourly, cell).mean.tobytes()


def test_a_failing_contender_is_a_reason_not_a_crash(hourly: Panel) -> None:
    negative = hourly.with_values(hourly.values - 100)
    contenders = {
        "last": pt.forecaster("last_value"),
        "log": pt.forecaster("ridge", chain=pt.Chain([pt.flatten.Log()])),
    }
    report = pt.walk_forward(negative, contenders, pt.Folds.expanding(count=2, horizon=6))
    assert len(report.failures) == 2
    assert "log needs positive values" in report.failures["log, fold 1"]
    assert report.board[1]["skill"] is None
    with pytest.raises(pt.SettingsError, match="baseline"):
        pt.walk_forward(hourly, contenders, pt.Folds.expanding(count=2), baseline="nobody")
    with pytest.raises(pt.SettingsError, match="no metric"):
        pt.walk_forward(hourly, contenders, pt.Folds.expanding(count=2), metrics=["vibes"])
