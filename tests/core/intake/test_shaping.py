"""Bucketing, filling, another step, a coarser key: slow twins, and no fill that looks ahead."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import proteron as pt
from proteron.core.intake.filling import CLOSING, fill_panel
from proteron.core.intake.recipe import Coarser, Filling, Resampling
from proteron.core.intake.resampling import coarsen, resample
from proteron.core.panel import FILLED, Panel

METHODS = ("carry_last", "linear", "seasonal", "seasonal_level", "moving_average", "flattened", "zero")


def events_csv(rng: np.random.Generator, count: int) -> tuple[bytes, np.ndarray, np.ndarray, np.ndarray]:
    times = np.sort(np.datetime64("2024-03-30T20:17:05", "s") + rng.integers(0, 3 * 86400, count))
    keys, amounts = rng.integers(0, 3, count), rng.normal(5, 2, count).round(3)
    rows = "\n".join(f"{t}Z,{'abc'[k]},{a}" for t, k, a in zip(times, keys, amounts, strict=True))
    return f"at,pump,amount\n{rows}".encode(), times, keys, amounts


@pytest.mark.parametrize("aggregate", ["count", "sum", "mean", "min", "max", "first", "last", "distinct"])
@pytest.mark.parametrize("step", ["1 hour", "1 day"])
def test_buckets_equal_the_slow_twin(aggregate: str, step: str, rng: np.random.Generator) -> None:
    content, times, keys, amounts = events_csv(rng, 700)
    recipe = {"events": {"step": step, "aggregate": aggregate, "edges": "keep", "empty": "missing"},
              "zone": "Europe/Lisbon", "roles": {"pump": "key", "amount": "target"},
              "remedies": {"negative: amount": "leave", "repeated events": "leave"}}  # fmt: skip
    panel = pt.read_table(content, recipe=recipe).panel
    slow = {
        "count": len, "sum": np.sum, "mean": np.mean, "min": np.min, "max": np.max, "first": lambda v: v[0],
        "last": lambda v: v[-1], "distinct": lambda v: len(set(v.tolist())),
    }[aggregate]  # fmt: skip
    for index, key in enumerate(panel.keys):
        mine = keys == "abc".index(key)
        edges = panel.axis.times(np.arange(panel.starts[index], panel.starts[index] + panel.lengths[index] + 1))
        for position, value in enumerate(panel.series(index)):
            inside = amounts[mine & (times >= edges[position]) & (times < edges[position + 1])]
            if len(inside):
                assert value == pytest.approx(slow(inside), rel=1e-12)
            else:
                assert np.isnan(value)


def test_partial_edges_and_empty_buckets_are_as_asked(rng: np.random.Generator) -> None:
    content, *_ = events_csv(rng, 60)
    whole = pt.read_table(
        content, recipe={"events": {"step": "1 hour", "empty_of": {"a": "missing"}}, "roles": {"pump": "key"}}
    )
    kept = pt.read_table(content, recipe={"events": {"step": "1 hour", "edges": "keep"}, "roles": {"pump": "key"}})
    assert kept.panel.end - whole.panel.end in (1, 2)
    assert np.isnan(whole.panel["a"]).any()
    assert (whole.panel["b"] == 0).any()
    twice = content + b"\n" + content.splitlines()[5]
    reading = pt.read_table(twice, recipe={"events": {"step": "1 hour"}, "roles": {"pump": "key"}})
    assert (
        reading.panel.hash
        == pt.read_table(content, recipe={"events": {"step": "1 hour"}, "roles": {"pump": "key"}}).panel.hash
    )
    assert "repeated events" in [finding.code for finding in reading.findings]
    dated = b"day,kind\n" + b"2024-01-01,a\n" * 9 + b"2024-01-02,a\n" * 5 + b"2024-01-03,a\n2024-01-04,a\n"
    counted = pt.read_panel(dated, key="kind", recipe={"events": {"step": "1 day", "edges": "keep"}})
    assert counted["a"].tolist() == [9, 5, 1, 1]


@settings(deadline=None)
@given(
    values=st.lists(st.one_of(st.floats(-50, 50), st.just(float("nan"))), min_size=8, max_size=60),
    method=st.sampled_from(METHODS), cut=st.integers(1, 59), longest=st.sampled_from([None, 2, 5]),
)  # fmt: skip
def test_no_fill_knows_what_lies_beyond_the_cutoff(
    values: list[float], method: str, cut: int, longest: int | None
) -> None:
    """Filling what is known at a moment equals what of the whole filling is known at that moment."""
    if np.isnan(values).all():
        values[0] = 1.0
    panel = Panel.from_arrays({"a": values}, "2024-01-01", "1h")
    filling = Filling(method=method, period=4, longest=longest)
    cut = min(cut, len(values))
    early = fill_panel(panel.cut_at(cut), filling, {})
    late = fill_panel(panel, filling, {}).cut_at(cut)
    if longest and method in CLOSING:  # a gap that is still open may yet turn out short enough
        assert np.array_equal(early.values[~np.isnan(late.values)], late.values[~np.isnan(late.values)])
    else:
        assert np.array_equal(early.values, late.values, equal_nan=True)


@pytest.mark.parametrize("method", METHODS)
def test_fills_keep_what_is_known_and_are_marked_and_never_score(method: str, hourly: Panel) -> None:
    filled = fill_panel(hourly, Filling(method=method), {"east": Filling()})
    known = ~np.isnan(hourly.values)
    assert np.array_equal(filled.values[known], hourly.values[known])
    new = np.isnan(hourly.values) & ~np.isnan(filled.values)
    assert new.any()
    assert np.array_equal((filled.marks & FILLED) > 0, new)
    assert np.isnan(filled.scorable()[new]).all()
    open_gap = filled.index("north")
    origin = int(filled.starts[open_gap]) + 202  # inside the gap of three
    forecast = pt.forecaster("last_value").fit(filled, until=1000).means(filled, np.array([origin]), 2)[0][open_gap]
    assert np.isnan(forecast).all() == (method in CLOSING)


def test_fills_have_their_closed_form() -> None:
    values = [1.0, 2, 3, 4, np.nan, np.nan, 7, 8, np.nan]
    panel = Panel.from_arrays({"a": values}, "2024-01-01", "1h")
    fill = lambda **f: fill_panel(panel, Filling(**f), {})["a"].tolist()  # noqa: E731
    assert fill(method="linear")[4:6] == [5, 6]
    assert fill(method="carry_last")[4:6] == [4, 4]
    assert fill(method="carry_last", longest=1)[4] == 4
    assert np.isnan(fill(method="carry_last", longest=1)[5])
    assert fill(method="seasonal", period=2)[4:6] == [3, 4]
    assert fill(method="moving_average", window=2)[4:6] == [3.5, 3.5]
    assert fill(method="seasonal_level", period=2)[4] == 5
    steep = 2.0 * np.arange(40) + np.tile([0.0, 9, -4, 1], 10)
    gap = np.where((np.arange(40) >= 30) & (np.arange(40) < 35), np.nan, steep)
    panel = Panel.from_arrays({"a": gap}, "2024-01-01", "1h")
    flattened = fill_panel(panel, Filling(method="flattened", period=4), {})["a"]
    straight = fill_panel(panel, Filling(method="linear"), {})["a"]
    assert np.abs(flattened - steep).max() < 0.15 * np.abs(straight - steep).max()


def test_steps_longer_and_shorter_keep_sums_whole(hourly: Panel) -> None:
    filled = fill_panel(hourly, Filling(method="linear"), {})
    daily = resample(filled, Resampling(step="1 day", aggregate="sum"))
    assert daily.step == "1 day"
    local = filled.axis.local(filled.positions(0)).astype("datetime64[D]")
    day = np.datetime64("2024-01-10")
    at = int(np.flatnonzero(daily.axis.local(daily.positions(0)).astype("datetime64[D]") == day)[0])
    assert daily.series(0)[at] == pytest.approx(filled.series(0)[local == day].sum(), rel=1e-12)
    gappy = resample(hourly, Resampling(step="1 day", aggregate="sum"))
    assert np.isnan(gappy.series(0)[0])
    finer = resample(daily, Resampling(step="1 hour", spread="divide"))
    assert np.nansum(finer.series(0)) == pytest.approx(np.nansum(daily.series(0)), rel=1e-9)
    assert daily.covariate("weather").series(0).shape == daily.series(0).shape


def test_a_coarser_key_adds_what_is_known_everywhere() -> None:
    panel = Panel.from_arrays(
        {"x / 1": [1, 2, np.nan, 4], "x / 2": [10, 20, 30, 40], "y / 1": [5, 5, 5, 5]},
        start={"x / 1": "2024-01-01T01", "x / 2": "2024-01-01T00", "y / 1": "2024-01-01T00"}, step="1h",
        covariates={"temp": {"x / 1": [1, 1, 1, 1], "x / 2": [3, 3, 3, 3], "y / 1": [2, 2, 2, 2]}},
    )  # fmt: skip
    zones = coarsen(panel, Coarser(keep=(0,)))
    assert zones.keys == ("x", "y")
    assert np.array_equal(zones["x"], [10, 21, 32, np.nan, 4], equal_nan=True)
    assert zones.covariate("temp").series(0).tolist() == [3, 2, 2, 2, 1]
    assert coarsen(panel, Coarser()).keys == ("all",)
    rows = "\n".join(
        f"2024-01-{d:02d},{m},{z},{d}.5" for m, z in (("a", "X"), ("b", "Y"), ("c", "X")) for d in range(1, 15)
    )
    by_zone = pt.read_panel(f"day,meter,zone,y\n{rows}".encode(), recipe={"coarser": {"by": "zone"}})
    assert by_zone.keys == ("X", "Y")
    assert by_zone["X"][0] == 3
    with pytest.raises(pt.SettingsError, match="2 parts"):
        coarsen(panel, Coarser(keep=(2,)))
