"""Another step, a coarser key, buckets and fills against loops over every point."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import proteron as pt
from proteron.core.intake.bucketing import aggregate, anchored, bucket_positions
from proteron.core.intake.filling import fill_series, gap_runs
from proteron.core.intake.recipe import Coarser, Filling, Resampling
from proteron.core.intake.resampling import coarsen, resample
from proteron.core.panel import Panel
from proteron.core.timeline import Step, TimeAxis

CELLS = st.lists(st.one_of(st.integers(-9, 9).map(float), st.just(float("nan"))), min_size=30, max_size=90)
WAYS = {"sum": np.sum, "mean": np.mean, "min": np.min, "max": np.max, "first": lambda v: v[0], "last": lambda v: v[-1],
        "count": len, "distinct": lambda v: len(set(v.tolist()))}  # fmt: skip


@settings(deadline=None, max_examples=120)
@given(
    values=CELLS, way=st.sampled_from(list(WAYS)), first=st.integers(0, 30), step=st.sampled_from(["6 hours", "1 day"])
)
def test_a_longer_step_aggregates_whole_steps_only(values: list[float], way: str, first: int, step: str) -> None:
    """Every local bucket that the series covers from edge to edge, over a clock change; a sum wants all its parts."""
    start = np.datetime64("2024-03-30T00:00", "s") + np.timedelta64(first, "h")
    panel = Panel.from_arrays({"a": values}, f"{start}Z", "1 hour", "Europe/Lisbon")
    axis = TimeAxis(anchored(panel.axis.start, Step.parse(step), panel.zone, None), Step.parse(step), panel.zone)
    times = panel.axis.times(np.arange(len(values)))
    expected = {}
    for bucket in range(-1, 60):
        low, high = axis.times(np.array([bucket, bucket + 1]))
        if low < times[0] or high > times[-1] + np.timedelta64(1, "h") or low >= high:
            continue
        inside = np.array(values)[(times >= low) & (times < high)]
        known = inside[~np.isnan(inside)]
        whole = len(known) == len(inside) or way not in ("sum",)
        if way == "count":
            expected[low] = float(len(inside))
        elif len(known) and whole:
            expected[low] = float(WAYS[way](known))
        else:
            expected[low] = 0.0 if way == "distinct" and whole else float("nan")
    wanted = Resampling(step=step, aggregate=way)
    if not expected:
        with pytest.raises(pt.SettingsError, match="shorter than one step"):
            resample(panel, wanted)
        return
    found = resample(panel, wanted)
    assert found.times("a").tolist() == [low.item() for low in expected]
    assert np.array_equal(found["a"], list(expected.values()), equal_nan=True)


@settings(deadline=None, max_examples=100)
@given(values=CELLS, spread=st.sampled_from(["repeat", "divide", "missing", "linear"]))
def test_a_shorter_step_spreads_as_it_is_asked(values: list[float], spread: str) -> None:
    """Days of 23, 24 and 25 hours: repeated, shared out, left open or joined by lines."""
    panel = Panel.from_arrays({"a": values}, "2024-03-20", "1 day", "Europe/Lisbon")
    if np.isnan(values).all() and spread == "linear":
        return
    found = resample(panel, Resampling(step="1 hour", spread=spread))
    edges = panel.axis.times(np.arange(len(values) + 1))
    times = found.times("a")
    assert (times[0], times[-1] + np.timedelta64(1, "h")) == (edges[0], edges[-1])
    hours = np.diff(edges).astype("timedelta64[h]").astype(int)
    day = np.repeat(np.arange(len(values)), hours)
    if spread == "repeat":
        assert np.array_equal(found["a"], np.array(values)[day], equal_nan=True)
    elif spread == "divide":
        assert np.array_equal(found["a"], (np.array(values) / hours)[day], equal_nan=True)
    elif spread == "missing":
        first = np.r_[True, np.diff(day) > 0]
        assert np.array_equal(found["a"], np.where(first, np.array(values)[day], np.nan), equal_nan=True)
    else:
        known = np.flatnonzero(~np.isnan(values))
        at = edges[known].astype(int)
        expected = np.interp(times.astype(int), at, np.array(values)[known], right=np.nan)
        assert found["a"] == pytest.approx(expected, nan_ok=True)


def keyed(rng: np.random.Generator) -> Panel:
    series = {f"{region} / {shop}": rng.normal(5, 1, 40) for region in "xy" for shop in "12"}
    series["x / 1"][7] = np.nan
    starts = dict.fromkeys(series, "2024-01-01")
    starts["y / 2"] = "2024-01-11"
    zone = {key: ("hill" if key.endswith("1") else "shore") for key in series}
    return Panel.from_arrays(series, starts, "1 day", covariates={"zone": ("static", zone), "temp": {
        key: np.arange(40.0) for key in series}})  # fmt: skip


@pytest.mark.parametrize("way", ["sum", "mean"])
@pytest.mark.parametrize(("keep", "names"), [((0,), ["x", "y"]), ((1,), ["1", "2"]), ((), ["all"]), ((1, 0), None)])
def test_series_are_added_up_where_all_that_are_there_are_known(
    way: str, keep: tuple[int, ...], names: list[str] | None, rng: np.random.Generator
) -> None:
    panel = keyed(rng)
    found = coarsen(panel, Coarser(keep=keep, aggregate=way))
    groups: dict[str, list[int]] = {}
    for index, key in enumerate(panel.keys):
        parts = key.split(" / ")
        groups.setdefault(" / ".join(parts[k] for k in keep) or "all", []).append(index)
    assert list(found.keys) == (names or list(groups))
    for name, members in groups.items():
        series, first = found[name], int(found.starts[found.index(name)])
        for place, value in enumerate(series):
            position = first + place
            there = [i for i in members if panel.starts[i] <= position < panel.starts[i] + panel.lengths[i]]
            cells = [panel.series(i)[position - panel.starts[i]] for i in there]
            expected = (sum(cells) / len(cells) if way == "mean" else sum(cells)) if there else np.nan
            assert value == pytest.approx(expected, nan_ok=True), (name, position)
        temp = found.covariate("temp").series(found.index(name))
        assert len(temp) == len(series)


def test_series_are_added_up_by_what_a_column_says(rng: np.random.Generator) -> None:
    panel = keyed(rng)
    by_zone = coarsen(panel, Coarser(by="zone"))
    assert by_zone.keys == ("hill", "shore")
    assert by_zone["hill"][0] == pytest.approx(panel["x / 1"][0] + panel["y / 1"][0])
    for bad, words in ((Coarser(by="temp"), "is no static column of names"), (Coarser(keep=(2,)), "have 2 parts"),
                       (Coarser(keep=(-1,)), "have 2 parts"), (Coarser(by="x"), "no covariate")):  # fmt: skip
        with pytest.raises(pt.SettingsError, match=words):
            coarsen(panel, bad)


@pytest.mark.parametrize(
    ("first", "step", "zone", "anchor", "edge"),
    [
        ("2024-03-31T05:17:09", "1 hour", "UTC", None, "2024-03-31T05:00:00"),
        ("2024-03-31T05:17:09", "7 hours", "UTC", None, "2024-03-31T00:00:00"),
        ("2024-03-31T23:30:00", "1 day", "Europe/Lisbon", None, "2024-03-31T23:00:00"),
        ("2024-04-03T12:00:00", "1 week", "Europe/Lisbon", None, "2024-03-31T23:00:00"),
        ("2024-04-03T12:00:00", "1 month", "UTC", None, "2024-04-01T00:00:00"),
        ("2024-05-03T12:00:00", "1 quarter", "UTC", None, "2024-04-01T00:00:00"),
        ("2024-05-03T12:00:00", "1 year", "UTC", None, "2024-01-01T00:00:00"),
        ("2024-05-03T12:00:00", "1 day", "UTC", "2024-05-01 06:00", "2024-05-03T06:00:00"),
        ("2024-05-03T12:00:00", "8 hours", "UTC", "2024-05-03 02:00", "2024-05-03T10:00:00"),
        ("2024-03-31T05:17:09", "2 days", "UTC", None, "2024-03-31T00:00:00"),
    ],
)  # fmt: skip
def test_buckets_begin_on_whole_steps_of_the_local_calendar_or_at_an_anchor(
    first: str, step: str, zone: str, anchor: str | None, edge: str
) -> None:
    assert str(anchored(np.datetime64(first, "s"), Step.parse(step), zone, anchor)) == edge


@settings(deadline=None, max_examples=100)
@given(
    seconds=st.lists(st.integers(0, 40 * 86400), min_size=1, max_size=40),
    step=st.sampled_from(["7 min", "1 day", "1 month"]),
)
def test_an_event_lies_in_the_bucket_that_began_last(seconds: list[int], step: str) -> None:
    axis = TimeAxis(anchored(np.datetime64("2024-03-15T00:00", "s"), Step.parse(step), "Europe/Lisbon", None),
                    Step.parse(step), "Europe/Lisbon")  # fmt: skip
    times = np.datetime64("2024-03-15T00:00", "s") + np.array(seconds).astype("timedelta64[s]")
    for time, bucket in zip(times, bucket_positions(times, axis), strict=True):
        low, high = axis.times(np.array([bucket, bucket + 1]))
        assert low <= time < high


@settings(deadline=None, max_examples=150)
@given(
    cells=st.lists(st.tuples(st.integers(0, 6), st.one_of(st.integers(-5, 5).map(float), st.just(float("nan")))),
                   min_size=1, max_size=40),
    way=st.sampled_from(list(WAYS)),
)  # fmt: skip
def test_values_of_a_cell_become_one(cells: list[tuple[int, float]], way: str) -> None:
    at, values = np.array([cell for cell, _ in cells]), np.array([value for _, value in cells])
    found, counts = aggregate(at, values, way, 7)
    for cell in range(7):
        mine = values[at == cell]
        known = mine[~np.isnan(mine)]
        if way == "count":
            assert found[cell] == counts[cell] == len(mine)
        elif way == "distinct":
            assert (found[cell], counts[cell]) == (len(set(known.tolist())), len(known))
        else:
            assert counts[cell] == len(known)
            assert found[cell] == pytest.approx(WAYS[way](known) if len(known) else np.nan, nan_ok=True)


@settings(deadline=None, max_examples=150)
@given(values=CELLS, method=st.sampled_from(["carry_last", "linear", "zero", "moving_average", "seasonal"]),
       longest=st.none() | st.integers(1, 5), window=st.integers(1, 6), period=st.integers(2, 9))  # fmt: skip
def test_fills_equal_their_slow_twin(
    values: list[float], method: str, longest: int | None, window: int, period: int
) -> None:
    filling = Filling(method=method, longest=longest, window=window, period=period)
    found = fill_series(np.array(values), filling, 24)
    if np.isnan(values).all() and method != "zero":
        assert np.isnan(found).all()
        return
    expected = list(values)
    for start, stop in gap_runs(np.array(values)):
        before = [i for i in range(start) if not np.isnan(values[i])]
        for at in range(start, stop):
            if method == "zero":
                expected[at] = 0.0
            elif method == "carry_last" and before:
                expected[at] = values[before[-1]]
            elif method == "moving_average" and before:
                expected[at] = float(np.mean([values[i] for i in before[-window:]]))
            elif method == "seasonal":
                twins = [i for i in before if i % period == at % period]
                expected[at] = values[twins[-1]] if twins else float("nan")
            elif method == "linear" and before and stop < len(values):
                low, high = values[before[-1]], values[stop]
                expected[at] = low + (high - low) * (at - start + 1) / (stop - start + 1)
        if longest is not None and stop - start > longest:
            for at in range(start if method == "linear" else start + longest, stop):
                expected[at] = float("nan")
    assert found == pytest.approx(expected, nan_ok=True)
