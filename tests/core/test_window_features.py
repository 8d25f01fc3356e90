"""Every feature against a slow, obvious cutter, over random plans and panels; pieces equal the whole."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import proteron as pt
from proteron.core.errors import SettingsError, TooShortError
from proteron.core.panel import Occasion, Panel
from proteron.core.timeline import CYCLES, calendar_codes
from proteron.core.windows import (
    REASONS,
    CalendarCycle,
    Change,
    CovariateSteps,
    Expanding,
    Fourier,
    OccasionNear,
    Rolling,
    Since,
    Static,
    Table,
    Weighted,
    WindowPlan,
)  # fmt: skip
from proteron.core.windows.rolling_kernels import (
    gapless_extremes,
    known_moments,
    rolling_extremes,
    rolling_moments,
    rolling_quantile,
    rolling_slope,
)  # fmt: skip


def slow_rolling(each: Rolling, x: np.ndarray, t: int) -> float:
    window = x[max(t - each.window + 1, 0) : t + 1]
    known = window[np.isfinite(window)]
    if len(known) < (each.window if each.least is None else each.least):
        return np.nan
    level = each.level or 0.0
    if each.statistic == "std":
        return float(np.std(known, ddof=1)) if len(known) > 1 else np.nan
    if each.statistic == "slope":
        return float(np.polyfit(np.arange(len(window)), window - window[0], 1)[0])
    simple = {"mean": np.mean, "sum": np.sum, "min": np.min, "max": np.max, "median": np.median}
    if each.statistic in simple:
        return float(simple[each.statistic](known))
    if each.statistic == "quantile":
        return float(np.quantile(known, level))
    return float((known > level).sum() if each.statistic == "above" else (known < level).sum())


def slow_cells(  # noqa: C901
    feature: object, panel: Panel, series: int, t: int, ahead: int
) -> list[float]:
    """The cells of one feature by hand; `t` is the local index of the origin, `ahead` the first horizon."""
    x = panel.series(series)
    past = x[: t + 1]
    known = past[np.isfinite(past)]
    grid = int(panel.starts[series]) + t + ahead
    if isinstance(feature, Rolling):
        return [slow_rolling(feature, x, t)]
    if isinstance(feature, Change):
        a, b = x[t + 1 - feature.lag], x[t + 1 - feature.lag - feature.over]
        if feature.form == "difference":
            return [a - b]
        usable = b != 0 if feature.form == "ratio" else a > 0 and b > 0
        with np.errstate(over="ignore"):
            quotient = np.divide(a, b) if usable else np.nan
        if not np.isfinite(quotient):
            return [np.nan]
        return [quotient if feature.form == "ratio" else np.log(quotient) if quotient > 0 else np.nan]
    if isinstance(feature, Weighted):
        weights = 0.5 ** ((t - np.arange(t + 1)) / feature.half_life)
        weights = np.where(np.isfinite(past), weights, 0.0)
        if not weights.any():
            return [np.nan]
        mean = np.nansum(weights * past) / weights.sum()
        return [
            mean if feature.statistic == "mean" else np.sqrt(np.nansum(weights * (past - mean) ** 2) / weights.sum())
        ]
    if isinstance(feature, Expanding):
        if feature.statistic == "count":
            return [len(known)]
        return [getattr(known, feature.statistic)() if len(known) else np.nan]
    if isinstance(feature, Since):
        happened = np.flatnonzero(np.isfinite(past) & ~((past >= feature.low) & (past <= feature.high)))
        return [min(t - happened[-1], feature.most) if len(happened) else feature.most]
    if isinstance(feature, Fourier):
        angles = [2 * np.pi * k * grid / feature.period for k in range(1, feature.order + 1)]
        return [part(angle) for angle in angles for part in (np.sin, np.cos)]
    if isinstance(feature, CalendarCycle):
        (code,) = calendar_codes(feature.field, panel.axis.local(np.array([grid])))
        if feature.form == "number":
            return [code]
        if feature.form == "one_hot":
            return [float(code == each) for each in range(int(CYCLES[feature.field]))]
        return [np.sin(2 * np.pi * code / CYCLES[feature.field]), np.cos(2 * np.pi * code / CYCLES[feature.field])]
    if isinstance(feature, OccasionNear):
        chosen = [each for each in panel.occasions if feature.name in (None, each.name)]
        if any(each.start <= grid < each.stop for each in chosen):
            return [1, 0, 0]
        until = min([each.start - grid for each in chosen if each.start > grid] + [feature.reach])
        since = min([grid - each.stop + 1 for each in chosen if each.stop <= grid] + [feature.reach])
        return [0, until, since]
    if isinstance(feature, CovariateSteps):
        column = panel.covariate(feature.column).series(series)
        return [column[t + step] if 0 <= t + step < len(column) else np.nan for step in feature.at]
    raise AssertionError(feature)


number = st.floats(-50, 50, allow_nan=False)
windows = st.integers(2, 9)
plain_rolling = st.builds(
    Rolling,
    st.sampled_from(["mean", "std", "sum", "min", "max", "median"]),
    windows,
    least=st.sampled_from([None, 1, 2]),
)  # fmt: skip
levelled = st.builds(
    Rolling, st.sampled_from(["quantile", "above", "below"]), windows, level=st.sampled_from([0.0, 0.25, 0.9]),
    least=st.sampled_from([None, 1]),
)  # fmt: skip
others = st.one_of(
    st.builds(Change, over=st.integers(1, 5), lag=st.integers(1, 4),
              form=st.sampled_from(["difference", "ratio", "log"])),
    st.builds(Weighted, statistic=st.sampled_from(["mean", "std"]), half_life=st.sampled_from([0.7, 3.0, 40.0])),
    st.builds(Expanding, statistic=st.sampled_from(["mean", "std", "min", "max", "count"])),
    st.builds(Since, low=st.just(-5.0), high=st.just(5.0), most=st.integers(1, 9)),
    st.builds(Fourier, period=st.sampled_from([2.0, 6.5, 24.0]), order=st.integers(1, 3)),
    st.builds(CalendarCycle, field=st.sampled_from(["hour_of_day", "weekday"]),
              form=st.sampled_from(["cycle", "number", "one_hot"])),
    st.builds(OccasionNear, name=st.sampled_from([None, "fair"]), reach=st.integers(1, 12)),
)  # fmt: skip
slopes = st.builds(Rolling, st.just("slope"), windows)
features = st.lists(others, max_size=3, unique_by=lambda f: f.names[0])
rolled = st.lists(st.one_of(plain_rolling, levelled, slopes), max_size=3, unique_by=lambda f: f.names[0])
gappy = st.lists(st.one_of(number, number, number, st.just(float("nan"))), min_size=3, max_size=40)


@settings(max_examples=150, deadline=None)
@given(
    first=gappy, second=gappy, late=st.integers(0, 30), chosen=features, rolling=rolled,
    lags=st.sets(st.integers(1, 6), max_size=3),
    horizon=st.sets(st.integers(1, 7), min_size=1, max_size=3), stride=st.integers(1, 4),
    zone=st.sampled_from(["UTC", "Europe/Lisbon"]), missing=st.sampled_from(["drop", "keep"]),
)  # fmt: skip
def test_random_plans_equal_the_slow_cutter(
    first: list[float], second: list[float], late: int, chosen: list, rolling: list, lags: set[int],
    horizon: set[int], stride: int,
    zone: str, missing: str,
) -> None:  # fmt: skip
    """Ragged series with gaps, over a change of the clock, any stride, near and far horizons."""
    start = np.datetime64("2024-03-30T12:00")
    panel = Panel.from_arrays(
        {"a": first, "b": second}, {"a": "2024-03-30T12:00", "b": str(start + np.timedelta64(late, "h"))}, "1h", zone,
        covariates={"seen": {"a": first, "b": second}},
    )  # fmt: skip
    occasions = (Occasion("fair", 5, 7), Occasion("storm", 20, 21))
    panel = Panel(**{**{name: getattr(panel, name) for name in panel.__dataclass_fields__}, "occasions": occasions})
    plan = WindowPlan(
        lags=sorted(lags), rolling=rolling, covariates=[CovariateSteps(column="seen", at=(0, -2))], more=chosen,
        horizon=sorted(horizon), stride=stride, missing=missing,
    )  # fmt: skip
    if plan.look_back > panel.lengths.max():
        with pytest.raises(TooShortError, match="looks back"):
            plan.cut(panel)
        return
    table = plan.cut(panel)
    expected, places = [], []
    for series in range(2):
        x = panel.series(series)
        for t in range(plan.look_back - 1, len(x) - max(horizon), stride):
            row = [x[t + 1 - lag] for lag in sorted(lags)]
            row += [
                cell
                for f in plan.features[1 if lags else 0 :]
                for cell in slow_cells(f, panel, series, t, min(horizon))
            ]
            row += [x[t + step] for step in sorted(horizon)]
            if missing == "keep" or np.isfinite(row).all():
                expected.append(row)
                places.append((series, int(panel.starts[series]) + t))
    assert list(zip(table.series.tolist(), table.positions.tolist(), strict=True)) == places
    if places:
        got = np.concatenate([table.features, table.targets], axis=1)
        np.testing.assert_allclose(got, np.array(expected, dtype=float), rtol=1e-9, atol=1e-9)
    _assert_all_origins_are_accounted_for(plan, panel, table)
    pieces = list(plan.batches(panel, rows=5))
    for name in ("features", "targets", "positions", "series", "weights"):
        joined = np.concatenate([getattr(piece, name) for piece in pieces])
        np.testing.assert_allclose(joined, getattr(table, name), rtol=1e-9, atol=1e-9)


def _assert_all_origins_are_accounted_for(plan: WindowPlan, panel: Panel, table: Table) -> None:
    """Rows and what is left out are together every origin of the stride, and each reason is true."""
    lost = plan.rows_left_out(panel)
    for series, length in enumerate(panel.lengths.tolist()):
        kept = table.positions[table.series == series] - panel.starts[series]
        gone = lost.positions[lost.series == series] - panel.starts[series]
        every = [t for t in range(length) if (t - plan.look_back + 1) % plan.stride == 0]
        assert sorted([*kept.tolist(), *gone.tolist()]) == every
        for t, reason in zip(gone.tolist(), lost.reasons[lost.series == series].tolist(), strict=True):
            early, late = t < plan.look_back - 1, t + max(plan.horizon) >= length
            assert reason in ((0,) if early else (1,) if late else (3, 4))
            missing = [step for step in plan.horizon if not late and np.isnan(panel.series(series)[t + step])]
            assert early or late or (reason == 3) == bool(missing)
    counts = {REASONS[code]: np.bincount(lost.series[lost.reasons == code], minlength=len(panel)) for code in range(5)}
    assert {name: each.tolist() for name, each in counts.items() if each.any()} == {
        name: each.tolist() for name, each in table.left_out.items() if each.any()
    }


@pytest.mark.parametrize("window", [2, 7, 24, 168])
@pytest.mark.parametrize("share_missing", [0.0, 0.1])
def test_rolling_statistics_keep_their_digits_at_a_large_offset(
    window: int, share_missing: float, rng: np.random.Generator
) -> None:
    offset = 1e9
    small = rng.normal(size=3000)
    small[rng.random(3000) < share_missing] = np.nan
    x = small + offset
    small = x - offset  # what is really there
    ends = np.array([0, 1100, 3000])
    least = max(window // 2, 1)
    means, squares, counts = known_moments(x, ends, window, least)
    lows, highs = rolling_extremes(x, ends, window, least)
    medians = rolling_quantile(x, ends, window, 0.5, least)
    slopes = rolling_slope(x, ends, window)
    strict = rolling_moments(x, ends, window)
    gapless = gapless_extremes(np.nan_to_num(x), ends, window)
    for series in (0, 1):
        for t in range(int(ends[series]), int(ends[series + 1]), 13):
            whole = small[max(t - window + 1, int(ends[series])) : t + 1]
            part = whole[np.isfinite(whole)]
            if len(part) < least:
                assert np.isnan([means[t], lows[t], medians[t]]).all()
                continue
            assert counts[t] == len(part)
            assert means[t] - offset == pytest.approx(part.mean(), abs=2e-7)
            if len(part) > 1:
                assert squares[t] == pytest.approx(((part - part.mean()) ** 2).sum(), rel=1e-9, abs=1e-12)
            assert (lows[t] - offset, highs[t] - offset) == (part.min(), part.max())
            assert medians[t] - offset == pytest.approx(np.median(part), abs=2e-7)
            if len(whole) == window and len(part) == window and window > 2:
                assert slopes[t] == pytest.approx(np.polyfit(np.arange(window), part, 1)[0], rel=1e-8, abs=1e-10)
                assert strict[1][t] == pytest.approx(squares[t], rel=1e-9)
                assert (gapless[0][t], gapless[1][t]) == (lows[t], highs[t])


def test_a_statistic_of_a_category_knows_only_what_has_happened() -> None:
    panel = Panel.from_arrays(
        {"a": [1.0, 2, 3, 4], "b": [11.0, 12, 13, 14], "c": [100.0, 100, 100, 100]}, "2024-01-01", "1 day",
        covariates={"kind": ("static", {"a": "shop", "b": "shop", "c": "office"})},
    )  # fmt: skip
    plan = WindowPlan(lags=[1], more=[Static(column="kind", form="target", doubt=0)])
    table = plan.cut(panel)
    shop = [6.0, 6.5, 7.0]  # means of both shops up to each origin
    assert table.features[:, 1].tolist() == [*shop, *shop, 100, 100, 100]
    hot = WindowPlan(lags=[1], more=[Static(column="kind", form="one_hot", labels=("shop", "office"))]).cut(panel)
    assert hot.features[::3, 1:].tolist() == [[1, 0], [1, 0], [0, 1]]
    with pytest.raises(SettingsError, match="office, shop"):
        WindowPlan(more=[Static(column="kind", form="one_hot", labels=("farm",))]).cut(panel)
    assert next(iter(plan.batches(panel, rows=2))).features.tolist() == table.features.tolist()


def test_a_sample_holds_rows_of_the_whole_table(hourly: Panel) -> None:
    plan = WindowPlan(lags=[1, 24], rolling=[Rolling("mean", 24)], horizon=[1, 2, 6], stride=2)
    whole, some = plan.cut(hourly), plan.sample(hourly, 100, seed=5)
    assert 90 <= len(some) <= 100
    place = {pair: row for row, pair in enumerate(zip(whole.series.tolist(), whole.positions.tolist(), strict=True))}
    rows = [place[pair] for pair in zip(some.series.tolist(), some.positions.tolist(), strict=True)]
    assert rows == sorted(rows)
    assert some.features.tobytes() == whole.features[rows].tobytes()
    assert some.targets.tobytes() == whole.targets[rows].tobytes()
    assert plan.sample(hourly, 10**6).features.tobytes() == whole.features.tobytes()


def test_missing_cells_can_be_filled_from_the_left_only() -> None:
    panel = Panel.from_arrays({"a": [np.nan, 1, np.nan, np.nan, 5, 6, 7]}, "2024-01-01", "1 day")
    table = WindowPlan(lags=[1, 2], missing="fill").cut(panel)
    assert table.features.tolist() == [[1, 1], [5, 1], [6, 5]]  # targets are never filled
    assert table.targets[:, 0].tolist() == [5, 6, 7]


def test_weights_fall_with_age_and_spread(rng: np.random.Generator) -> None:
    panel = Panel.from_arrays({"calm": rng.normal(size=300), "wild": 10 * rng.normal(size=300)}, "2024-01-01", "1h")
    table = WindowPlan(lags=[1], half_life=50).cut(panel)
    newest, older = table.weights[298], table.weights[248]
    assert older / newest == pytest.approx(0.5)
    by_scale = WindowPlan(lags=[1], by_scale=True).cut(panel)
    last = {series: by_scale.weights[by_scale.series == series][-1] for series in (0, 1)}
    assert last[0] / last[1] == pytest.approx(10, rel=0.2)


def test_rows_left_out_are_counted_by_reason_and_series(hourly: Panel) -> None:
    from proteron.core.panel import Mask

    masked = hourly.with_masks([Mask(300, 310, "telemetry", key="east")])
    table = WindowPlan(lags=[1, 24], horizon=[1, 6]).cut(masked)
    assert table.left_out["look-back before the series"].tolist() == [23, 23]
    assert table.left_out["horizon beyond the series"].tolist() == [6, 6]
    assert table.left_out["masked"][0] == 0
    assert table.left_out["masked"][1] == 26  # origins that read one of the ten, or have one as target
    assert table.left_out["missing target"][1] == 0 < table.left_out["missing target"][0]
    assert sum(table.dropped.values()) == hourly.lengths.sum() - len(table)


@pytest.mark.parametrize(
    "bad",
    [
        {"statistic": "quantile", "window": 5},
        {"statistic": "mean", "window": 5, "level": 0.5},
        {"statistic": "quantile", "window": 5, "level": 1.5},
        {"statistic": "mean", "window": 3, "least": 4},
        {"statistic": "slope", "window": 1},
        {"statistic": "wiggle", "window": 3},
    ],
)
def test_bad_rolling_features_are_refused_in_words(bad: dict) -> None:
    with pytest.raises(SettingsError) as caught:
        WindowPlan(rolling=[bad])
    assert caught.value.field.startswith("rolling")


@pytest.mark.parametrize("text", ["lags 1; above 5 24", "lags 1; since not 0", "lags 1; ratio 1 over 24"])
def test_a_forecaster_that_scales_refuses_what_compares_in_units(hourly: Panel, text: str) -> None:
    contender = pt.forecaster("ridge", plan=pt.windows.read_plan(text))
    with pytest.raises(SettingsError, match="compares values in their own unit"):
        contender.fit(hourly, 700, horizon=2)
    assert len(pt.windows.read_plan(text).cut(hourly))  # as a table it is welcome
