"""Every error measure against slow twins, written out point by point, and against published and closed forms."""

import math
from statistics import median

import numpy as np
import pytest

import proteron as pt
from proteron.core.judge import METRICS, Losses, Metric, Scored, Told, Yardsticks, metric_of
from proteron.core.judge.walk_forward import Report
from proteron.core.judge.yardsticks import last_known, seasons_of
from proteron.core.panel import Mask, Panel


@pytest.fixture(scope="module")
def panel() -> Panel:
    rng = np.random.default_rng(3)
    hours = np.arange(420)
    day = 10 + 4 * np.sin(2 * np.pi * hours / 24) + rng.normal(0, 1, 420)
    noise = rng.normal(0, 2, 420).cumsum()
    noise[50:55] = np.nan
    late = np.r_[np.full(30, np.nan), np.where(rng.random(390) < 0.3, 0.0, rng.integers(1, 9, 390))]
    panel = Panel.from_arrays({"day": day, "walk": noise, "late": late}, "2024-03-01", "1h")
    return panel.with_masks([Mask(400, 412, "a strike", learning=False, key="late")])


@pytest.fixture(scope="module")
def report(panel: Panel) -> Report:
    contenders = {
        "naive": pt.forecaster("seasonal_last_value", period=24),
        "smooth": pt.forecaster("smoothing"),
        "mean": pt.forecaster("mean"),
    }
    folds = pt.Folds.expanding(count=3, horizon=5, gap=1, span=20, every=7)
    names = [name for name in METRICS if not name.startswith(("coverage", "width"))]
    return pt.walk_forward(panel, contenders, folds, metrics=[*names, "coverage_60", "width_60"], levels=(0.6, 0.9))


def adjusted_naive(values: list[float], known: int, season: int) -> tuple[list[float], bool]:
    """Classical decomposition by loops, for `known` values; indices by place modulo the season."""
    there = [v for v in values[:known] if not math.isnan(v)]
    multiplied = min(there) > 0
    parts: list[list[float]] = [[] for _ in range(season)]
    for t in range(season // 2, known - season // 2):
        around = values[t - season // 2 : t + season // 2 + 1]
        trend = (sum(around[1:-1]) + (around[0] + around[-1]) / 2) / season
        if not math.isnan(trend) and not math.isnan(values[t]):
            parts[t % season].append(values[t] / trend if multiplied else values[t] - trend)
    means = [sum(part) / len(part) for part in parts]
    overall = sum(means) / season
    return [each / overall if multiplied else each - overall for each in means], multiplied


def points(report: Report, contender: str, keys: tuple[str, ...] | None = None) -> list[dict]:
    """Everything about every scored point, gathered one by one."""
    found, panel = [], report.panel
    for result in (each for each in report.results if each.cell.name == contender):
        fold = result.cell.place
        for row, index in enumerate(result.cell.series):
            if keys and panel.keys[index] not in keys:
                continue
            values = [math.nan] * int(panel.starts[index]) + list(panel.series(index))
            known = [v for v in values[: fold.cutoff] if not math.isnan(v)]
            for number, origin in enumerate(fold.origins):
                last = [v for v in values[:origin] if not math.isnan(v)][-1]
                for step in range(fold.horizon):
                    at = origin + fold.gap + step
                    masked = panel.keys[index] == "late" and 400 <= at < 412
                    if at >= fold.score_stop or masked or math.isnan(values[at]):
                        continue
                    low, high = result.ranges[:, 0, row, number, step], result.ranges[:, 1, row, number, step]
                    found.append({
                        "f": result.mean[row, number, step], "y": values[at], "last": last, "low": low, "high": high,
                        "mean": sum(known) / len(known), "values": values, "fold": fold, "origin": origin, "at": at,
                    })  # fmt: skip
    return [each for each in found if not math.isnan(each["f"])]


def test_what_the_board_says_is_what_a_walk_over_the_points_finds(report: Report) -> None:
    for name in report.names:
        there = points(report, name)
        errors = [p["f"] - p["y"] for p in there]
        count, sizes = len(there), [abs(e) for e in errors]
        squares = [e * e for e in errors]
        percent = [100 * abs((p["f"] - p["y"]) / p["y"]) for p in there if p["y"] != 0]
        turns = [(p["f"] - p["last"], p["y"] - p["last"]) for p in there]
        turns = [(f, y) for f, y in turns if f != 0 and y != 0]
        signs = [(p["f"], p["y"]) for p in there if p["f"] != 0 and p["y"] != 0]
        intervals = [
            sum(h - lo + 2 / (1 - level) * max(lo - p["y"], p["y"] - h, 0)
                for level, lo, h in zip((0.6, 0.9), p["low"], p["high"], strict=True)) / 2
            for p in there
        ]  # fmt: skip
        expected = {
            "mae": sum(sizes) / count, "mse": sum(squares) / count, "rmse": math.sqrt(sum(squares) / count),
            "bias": sum(errors) / count, "median_absolute": median(sizes), "largest": max(sizes),
            "mape": sum(percent) / len(percent), "wape": 100 * sum(sizes) / sum(abs(p["y"]) for p in there),
            "nrmse": math.sqrt(sum(squares) / count) / (sum(abs(p["y"]) for p in there) / count),
            "r2": 1 - sum(squares) / sum((p["y"] - p["mean"]) ** 2 for p in there),
            "sign": sum(f * y > 0 for f, y in signs) / len(signs),
            "interval": sum(intervals) / count,
            "coverage_60": sum(p["low"][0] <= p["y"] <= p["high"][0] for p in there) / count,
            "width_60": sum(p["high"][0] - p["low"][0] for p in there) / count,
        }  # fmt: skip
        row = report.board.row(name)
        for metric, value in expected.items():
            assert row.errors[metric] == pytest.approx(value, rel=1e-9), (name, metric)
        if turns:
            assert row.errors["sign_of_change"] == pytest.approx(sum(f * y > 0 for f, y in turns) / len(turns))
        table = report.signs(name)
        for said, above in (("up", True), ("down", False)):
            for came, rose in (("up", True), ("down", False)):
                assert table[said][came] == sum((f > 0) == above and (y > 0) == rose for f, y in turns)


def test_the_relative_error_is_that_of_a_naive_forecast_adjusted_by_hand(report: Report) -> None:
    """“day” stays positive, so its season multiplies; that of “walk” is added; “late” has none that is significant."""
    found = report.losses("relative", by="series")
    mae = report.losses("mae", by="series")
    for key in ("day", "walk", "late"):
        naive = []
        for p in points(report, "mean", (key,)):
            said = p["last"]
            if key != "late":
                seasons, multiplied = adjusted_naive(p["values"], p["fold"].cutoff, 24)
                assert multiplied == (key == "day")
                before, after = seasons[(p["origin"] - 1) % 24], seasons[p["at"] % 24]
                said = said * after / before if multiplied else said - before + after
            naive.append(abs(said - p["y"]))
        place = mae.labels.index(key)
        told = found.values[:, place]
        assert told == pytest.approx(mae.values[:, place] / (sum(naive) / len(naive)), rel=1e-9), key


def test_seasons_are_found_only_where_there_are_any(rng: np.random.Generator) -> None:
    flat = rng.normal(size=200)
    assert not seasons_of(flat, 12)[0].any() and not seasons_of(flat, 1)[0].any()
    shape = np.array([3.0, -1, -2, 0])
    added, multiplied = seasons_of(np.tile(shape, 20) + np.arange(80) / 10 - 4, 4)
    assert not multiplied and added == pytest.approx(shape)
    times, multiplied = seasons_of(np.tile(1 + shape / 10, 20) * 100, 4)
    assert multiplied and times == pytest.approx(1 + shape / 10)
    assert not seasons_of(np.tile(shape, 2), 4)[0].any()  # too short to say
    odd, _ = seasons_of(np.tile([1.0, -2, 1], 30) - 1, 3)
    assert odd == pytest.approx([1, -2, 1])
    values = np.array([np.nan, 1.0, np.nan, 3.0])
    assert last_known(values, np.array([0, 1, 2, 3, 4, 9])).tolist() == [-1, -1, 1, 1, 3, 3]


def told(name: str, losses: list[list[float]], beside: list[float] | None = None) -> list[float]:
    values = np.array(losses).reshape(len(losses), 1, 1, 1, -1)
    yard = None if beside is None else np.array(beside).reshape(1, 1, 1, -1)
    return list(Losses(name, tuple("abcdef"[: len(losses)]), values, yard).reported((1, 2, 3, 4)))


def test_undefined_is_never_zero_and_never_infinite(panel: Panel) -> None:
    assert np.isnan(told("mae", [[np.nan, np.nan]])).all()
    assert np.isnan(told("largest", [[np.nan], [np.nan]])).all() and told("largest", [[1, np.nan, 4]]) == [4]
    assert told("median_absolute", [[5, np.nan, 1, 2]]) == [2]
    for name in ("wape", "nrmse", "r2", "relative"):
        assert np.isnan(told(name, [[1.0, 2.0]], [0.0, 0.0])).all(), name
    nothing = np.full((1, 1, 2), np.nan)
    truth = np.array([[[0.0, 5.0]]])
    scale = np.ones((1, 1, 1))
    exact = Scored(truth, truth, scale, scale)
    assert np.isnan(METRICS["mape"].of(exact)[0, 0, 0]) and METRICS["mape"].of(exact)[0, 0, 1] == 0
    assert np.isnan(METRICS["sign"].of(exact)[0, 0, 0]) and METRICS["sign"].of(exact)[0, 0, 1] == 1
    assert np.isnan(METRICS["sign_of_change"].of(exact)).all()  # nothing was known before
    held = Scored(truth, truth, scale, scale, last=np.array([[[5.0]]]))
    assert METRICS["sign_of_change"].of(held)[0, 0, 0] == 1 and np.isnan(METRICS["sign_of_change"].of(held)[0, 0, 1])
    wrong = Scored(-truth, truth, scale, scale)
    assert METRICS["sign"].of(wrong)[0, 0, 1] == 0
    for name in METRICS:
        assert np.isnan(METRICS[name].of(Scored(nothing, nothing, scale, scale))).all(), name


def test_the_score_of_an_interval_by_hand() -> None:
    """Gneiting & Raftery 2007, eq. 43, at 80 %: a truth 1 below a range that is 4 wide costs 4 + 2/0.2 · 1 = 14."""
    low, high = np.array([[[[2.0, 2.0, 2.0]]]]), np.array([[[[6.0, 6.0, 6.0]]]])
    truth = np.array([[[1.0, 4.0, 6.5]]])
    scored = Scored(truth, truth, np.ones((1, 1, 1)), np.ones((1, 1, 1)), (0.8,), low, high)
    assert METRICS["interval"].of(scored)[0, 0] == pytest.approx([14, 4, 9])
    assert METRICS["width_80"].of(scored)[0, 0].tolist() == [4, 4, 4]
    assert METRICS["coverage_80"].of(scored)[0, 0].tolist() == [0, 1, 0]


def test_a_measure_for_any_level_is_known_by_its_name() -> None:
    assert metric_of("coverage_60").nominal == 0.6 and metric_of("width_99.5").title == "width of 99.5 %"  # type: ignore[union-attr]
    for name in (
        "coverage_0",
        "coverage_100",
        "coverage_x",
        "width_",
        "vibes_80",
        "coverage_080",
        "coverage_nan",
        "mean",
    ):
        assert metric_of(name) is None, name


def test_every_measure_says_what_it_is() -> None:
    for name, metric in METRICS.items():
        assert metric.name == name and metric.formula and metric.source and metric.undefined, name
        assert (metric.yardstick is None) == (metric.relate is None), name
        assert metric.unit_free == (metric.unit not in ("series", "square"))
    no_skill = {name for name, metric in METRICS.items() if not metric.tells_skill}
    assert no_skill == {
        "bias",
        "median_absolute",
        "largest",
        "log_score",
        "r2",
        "sign",
        "sign_of_change",
        "coverage_80",
        "coverage_95",
    }


def test_skill_by_a_ratio_compares_common_points_only() -> None:
    """Where one entrant has fewer points, both and the yardstick are told over those alone."""
    yard = np.array([1.0, 2.0, 4.0, 8.0]).reshape(2, 1, 1, 2)
    values = np.array([[1.0, 1, 1, 1], [2.0, np.nan, 1, 2]]).reshape(2, 2, 1, 1, 2)
    losses = Losses("wape", ("base", "mine"), values, yard)
    facts = [pt.core.judge.EntrantFacts(name, "x") for name in ("base", "mine")]
    row = pt.core.judge.make_board({"wape": losses}, facts, ["wape"], "base").row("mine")
    assert row.skill == pytest.approx(1 - 5 / 3) and row.errors["wape"] == pytest.approx(100 * 5 / 13)
    assert row.skill_by_fold == pytest.approx((1 - 2.0, 1 - 3 / 2))
    with pytest.raises(pt.SettingsError, match="Skill cannot be told by “r2”"):
        pt.core.judge.make_board({"r2": losses}, facts, ["r2"], "base", "r2")


@pytest.mark.parametrize("weighting", ["series", "size"])
def test_series_weigh_alike_or_by_their_size(report: Report, weighting: str) -> None:
    """“late” and “day” differ in size and in what is missing; every number is told anew from the means of series."""
    weighed, metrics = report.weighed(weighting), ("mae", "rmse", "wape")  # type: ignore[arg-type]
    means: dict[str, dict[str, float]] = {}
    for name in report.names:
        parts = {key: points(report, name, (key,)) for key in report.panel.keys}
        size = {key: sum(abs(p["y"]) for p in part) / len(part) for key, part in parts.items()}
        weight = {key: size[key] if weighting == "size" else 1.0 for key in parts}

        def mean(what, parts=parts, weight=weight) -> float:
            each = {key: sum(what(p) for p in part) / len(part) for key, part in parts.items()}
            return sum(weight[key] * each[key] for key in parts) / sum(weight.values())

        mae = mean(lambda p: abs(p["f"] - p["y"]))
        square = mean(lambda p: (p["f"] - p["y"]) ** 2)
        means[name] = {"mae": mae, "rmse": math.sqrt(square), "wape": 100 * mae / mean(lambda p: abs(p["y"]))}
        for metric in metrics:
            assert weighed.row(name).errors[metric] == pytest.approx(means[name][metric], rel=1e-9), metric
        assert weighed.row(name).errors["largest"] == report.board.row(name).errors["largest"]
    told = weighed.row("mean")
    assert told.skill == pytest.approx(1 - means["mean"]["mae"] / means["naive"]["mae"])
    assert told.skill_low is not None and told.skill_low <= told.skill <= told.skill_high  # type: ignore[operator]
    assert told.skill_by_series == pytest.approx(report.board.row("mean").skill_by_series)
    assert weighed.notes[0].startswith("Every series counts" if weighting == "series" else "Series count by")
    assert told.skill != report.board.row("mean").skill


def test_a_series_without_points_weighs_nothing() -> None:
    values = np.array([[2.0, 4.0], [np.nan, np.nan], [1.0, np.nan]]).reshape(1, 1, 3, 1, 2)
    found = Losses("mae", ("a",), values, weights=np.array([1.0, 5.0, 3.0])).reported((1, 2, 3, 4))
    assert found == pytest.approx([(3 + 3 * 1) / 4])
    assert np.isnan(Losses("mae", ("a",), values[:, :, 1:2], weights=np.ones(1)).reported((1, 2, 3, 4))).all()


def test_losses_are_made_from_those_that_are_kept(panel: Panel, report: Report) -> None:
    names, folds = report.names, report.folds
    kept = {"rmse": Losses.empty("rmse", names, folds, len(panel))}
    made = Told(kept, Yardsticks(panel, folds))
    assert made.lacking(["mse", "r2", "mae", "wape", "flat_square"]) == ["mae", "flat_square"]
    assert made["mse"].values is kept["rmse"].values and "mae" not in made
    joined = made.joined_by({"mae": Losses.empty("mae", names, folds, len(panel))})
    assert "wape" in joined and not joined.lacking(["wape", "mse"])
    assert isinstance(joined["wape"].report, Metric) and joined["wape"].beside is not None
