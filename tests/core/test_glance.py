"""Errors and skill by any view of the points, errors in time, and criteria beside the rank after the cutoff."""

import numpy as np
import pytest

import proteron as pt
from proteron.core.judge import ErrorsInTime, errors_in_time, rank_by_criteria, skills_by
from proteron.core.judge.yardsticks import scored_truth

ENTRIES = {
    "last": pt.forecaster("last_value"), "mean": pt.forecaster("mean"),
    "early": pt.forecaster("seasonal_mean", period=24),
}  # fmt: skip


@pytest.fixture(scope="module")
def report() -> pt.Report:
    rng = np.random.default_rng(4)
    values = {key: 30 + np.sin(np.arange(900) * np.pi / 12) + rng.normal(size=900) for key in ("a", "b")}
    values["b"][850:] = np.nan
    panel = pt.Panel.from_arrays(values, start="2024-01-01T05:00", step="1h", zone="Europe/Lisbon")
    return pt.walk_forward(panel, ENTRIES, pt.Folds.expanding(count=3, horizon=6, span=48, every=4), ["mae", "rmse"])


@pytest.mark.parametrize("view", ["fold", "step", "series", "slot", "hour_of_week", "weekday", "month"])
@pytest.mark.parametrize("metric", ["mae", "rmse"])
def test_skill_by_a_view_is_told_on_common_points(report: pt.Report, view: str, metric: str) -> None:
    """Against errors gathered point by point; the baseline has none at some points that others have."""
    losses = report.losses(metric)
    losses.values[0, 0, :, 2] = np.nan  # as if “last” had no forecast there
    found = skills_by(losses, "last", view, report.panel, report.folds)
    assert found.names == tuple(ENTRIES) and found.values.shape == (3, len(found.labels))
    gathered: dict[tuple[str, str], list[tuple[float, float]]] = {}
    for f, fold in enumerate(report.folds):
        for o, origin in enumerate(fold.origins):
            for step in range(6):
                local = report.panel.axis.local(np.array([origin + step]))[0].astype("datetime64[h]").item()
                hour, weekday = local.hour, local.weekday()
                label = {
                    "fold": f + 1,
                    "step": step + 1,
                    "slot": f"hour_of_day {hour}",
                    "weekday": f"weekday {weekday}",
                    "hour_of_week": f"hour_of_week {weekday * 24 + hour}",
                    "month": f"month {local.month - 1}",
                }
                for s, key in enumerate(report.panel.keys):
                    for e, name in enumerate(ENTRIES):
                        pair = losses.values[e, f, s, o, step], losses.values[0, f, s, o, step]
                        if np.isfinite(pair).all():
                            gathered.setdefault((name, str(label.get(view, key))), []).append(pair)
    told = np.sqrt if metric == "rmse" else float
    for e, name in enumerate(ENTRIES):
        for column, label in enumerate(found.labels):
            pairs = gathered.get((name, label))
            expected = (
                1 - told(np.mean([p[0] for p in pairs])) / told(np.mean([p[1] for p in pairs])) if pairs else np.nan
            )
            assert found.values[e, column] == pytest.approx(expected, abs=1e-12, nan_ok=True)


def test_errors_in_time_are_those_of_the_latest_forecast_or_of_a_step(report: pt.Report) -> None:
    found = errors_in_time(report.panel, report.results, 1)
    assert list(found) == list(ENTRIES)
    latest: dict[int, tuple[int, float]] = {}
    chosen = {}
    for result in [each for each in report.results if each.cell.name == "mean" and 1 in each.cell.series]:
        truth = scored_truth(report.panel.select([1]), result.cell.place)[0]
        for o, origin in enumerate(result.origins):
            for step in range(6):
                error = result.mean[result.cell.series.index(1), o, step] - truth[o, step]
                if np.isfinite(error):
                    latest[origin + step] = min(latest.get(origin + step, (99, 0.0)), (step + 1, error))
                    if step == 4:
                        chosen[origin + step] = error
    mean = found["mean"]
    assert mean.positions.tolist() == sorted(latest) and max(mean.positions) < 850  # nothing is scored after it
    assert [(int(a), e) for a, e in zip(mean.ahead, mean.errors, strict=True)] == [latest[at] for at in sorted(latest)]
    fifth = errors_in_time(report.panel, report.results, 1, ahead=5)["mean"]
    assert dict(zip(fifth.positions.tolist(), fifth.errors.tolist(), strict=True)) == chosen
    assert set(fifth.ahead) == {5}
    nothing = errors_in_time(report.panel, report.results, 0, ahead=7)["mean"]
    assert isinstance(nothing, ErrorsInTime) and len(nothing.errors) == 0
    assert errors_in_time(report.panel, [], 0) == {}


def test_criteria_rank_only_where_they_compare() -> None:
    """Equal family, values and chain: ARIMA with another difference, or behind a chain, stands apart."""
    rng = np.random.default_rng(9)
    panel = pt.Panel.from_arrays({"a": 60 + rng.normal(size=240).cumsum() * 0.3}, start="2004-01-01", step="month")
    arima = lambda order, **more: pt.forecaster("arima", order=order, seasonal=(0, 0, 0), **more)  # noqa: E731
    entries = {
        "last": pt.forecaster("last_value"), "ar": arima((1, 0, 0)), "arma": arima((1, 0, 1)), "diff": arima((0, 1, 1)),
        "logged": arima((1, 0, 0), chain=pt.Chain([pt.flatten.Log()])),
        "smooth": pt.forecaster("smoothing", season=None, trend=None),
        "trended": pt.forecaster("smoothing", season=None, trend="additive"),
    }  # fmt: skip
    report = pt.walk_forward(panel, entries, pt.Folds.expanding(count=1, horizon=12), ["mae"])
    after = {"ar": 2.0, "arma": 1.0, "smooth": 3.0, "trended": np.nan}
    found = {each.contender: each for each in rank_by_criteria(report.results, panel, 0, after)}
    assert "last" not in found and set(found) == set(entries) - {"last"}
    assert found["ar"].group == found["arma"].group != found["diff"].group
    assert "behind log" in found["logged"].group and found["logged"].rank is None is found["diff"].rank
    pair = [found["ar"], found["arma"]]
    assert {each.rank for each in pair} == {1, 2}
    assert (pair[0].rank < pair[1].rank) == (pair[0].criteria["aicc"] < pair[1].criteria["aicc"])
    assert [each.rank_after for each in pair] == [2, 1]
    assert found["smooth"].rank_after == 1 and found["trended"].rank_after is None
    assert {found["smooth"].rank, found["trended"].rank} == {1, 2}
