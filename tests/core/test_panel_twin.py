"""Panels against a slow twin of dictionaries: what is known, cut, masked, chosen and moved."""

from dataclasses import dataclass, replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import proteron as pt
from proteron.core.panel import FILLED, FROM_BOTH_SIDES, NOT_LEARNED, NOT_SCORED, Mask, Occasion, Panel, require_panel
from proteron.core.timeline import TimeAxis

CELLS = st.one_of(st.floats(-9, 9), st.just(float("nan")))


@dataclass
class Twin:
    """Series as dictionaries from grid position to value, with marks and columns on the same positions."""

    values: dict[str, dict[int, float]]
    marks: dict[str, dict[int, int]]
    observed: dict[str, dict[int, float]]
    ahead: dict[str, dict[int, float]]


@st.composite
def panels(draw: st.DrawFn) -> tuple[Panel, Twin]:
    """Up to three ragged series with an observed column and one that reaches four steps ahead."""
    series, starts, observed, ahead, marks = {}, {}, {}, {}, []
    for key in ("a", "b", "c")[: draw(st.integers(1, 3))]:
        values = draw(st.lists(CELLS, min_size=1, max_size=14))
        first = draw(st.integers(0, 8))
        series[key], starts[key] = values, first
        observed[key] = draw(st.lists(CELLS, min_size=len(values), max_size=len(values)))
        ahead[key] = draw(st.lists(CELLS, min_size=len(values) + 4, max_size=len(values) + 4))
        bits = st.sampled_from([0, 0, 0, FILLED, FILLED | FROM_BOTH_SIDES, NOT_LEARNED, NOT_SCORED])
        marks += draw(st.lists(bits, min_size=len(values), max_size=len(values)))
    origin = min(starts.values())
    begin = np.datetime64("2024-03-30T20:00")
    times = {key: f"{begin + np.timedelta64(first, 'h')}Z" for key, first in starts.items()}
    panel = Panel.from_arrays(series, times, "1 hour", "Europe/Lisbon", {"o": observed, "k": ("known_ahead", ahead)})
    panel = replace(panel, marks=np.array(marks, np.uint8))
    place = {key: starts[key] - origin for key in series}
    by = lambda columns: {key: {place[key] + i: v for i, v in enumerate(columns[key])} for key in series}  # noqa: E731
    of_key = {key: panel.series_marks(panel.index(key)).tolist() for key in series}
    return panel, Twin(by(series), by(of_key), by(observed), by(ahead))


def same(panel: Panel, twin: Twin) -> None:
    """Every cell of the panel is that of the twin, and nothing else is there."""
    for index, key in enumerate(panel.keys):
        positions = panel.positions(index).tolist()
        assert positions == sorted(twin.values[key]), key
        for found, expected in ((panel.series(index), twin.values), (panel.series_marks(index), twin.marks),
                                (panel.covariate("o").series(index), twin.observed)):  # fmt: skip
            wanted = [expected[key][position] for position in positions]
            assert np.array_equal(np.asarray(found, float), np.array(wanted, float), equal_nan=True)
        ahead = panel.covariate("k").series(index)
        first = int(panel.starts[index])
        wanted = [value for position, value in sorted(twin.ahead[key].items()) if position >= first]
        assert np.array_equal(ahead, np.array(wanted), equal_nan=True)


@settings(max_examples=200, deadline=None)
@given(made=panels(), start=st.integers(0, 25), size=st.integers(0, 25))
def test_a_span_holds_what_lies_in_it_as_it_was_known_then(made: tuple[Panel, Twin], start: int, size: int) -> None:
    """Filled from both sides is known once the gap has closed; what is known ahead stays to its end."""
    panel, twin = made
    stop = start + size
    cut = panel.between(start, stop)
    if (np.clip(start - panel.starts, 0, panel.lengths) == 0).all() and stop >= panel.end:
        assert cut is panel
        return
    expected = Twin({}, {}, {}, {})
    for key, values in twin.values.items():
        inside = {p: v for p, v in values.items() if start <= p < stop}
        last = max(inside, default=None)
        while last is not None and last in inside and twin.marks[key][last] & FROM_BOTH_SIDES:
            inside[last] = float("nan")
            last -= 1
        expected.values[key] = inside
        expected.marks[key] = {p: twin.marks[key][p] for p in inside}
        expected.observed[key] = {p: twin.observed[key][p] for p in inside}
        expected.ahead[key] = twin.ahead[key]
    same(cut, expected)
    for index in range(len(panel)):
        assert cut.lengths[index] == len(expected.values[cut.keys[index]])


@settings(max_examples=100, deadline=None)
@given(made=panels(), until=st.integers(-3, 30))
def test_known_counts_what_lies_before(made: tuple[Panel, Twin], until: int) -> None:
    panel, twin = made
    assert panel.known(until) == min(max(until, 0), panel.end)
    assert panel.known_lengths(until).tolist() == [sum(p < until for p in twin.values[key]) for key in panel.keys]
    assert panel.known_lengths().tolist() == panel.lengths.tolist()
    moment = f"{panel.axis.times(np.array([until - 1]))[0]}Z"
    assert panel.known(moment) == panel.known(until), "a time includes itself"
    assert panel.cut_at(None) is panel


@settings(max_examples=100, deadline=None)
@given(made=panels(), order=st.permutations([0, 1, 2]))
def test_series_are_chosen_with_everything_that_is_theirs(made: tuple[Panel, Twin], order: list[int]) -> None:
    panel, twin = made
    chosen = [i for i in order if i < len(panel)][:2]
    some = panel.select(chosen)
    assert some.keys == tuple(panel.keys[i] for i in chosen)
    assert some.axis == panel.axis
    same(some, twin)


@settings(max_examples=100, deadline=None)
@given(
    made=panels(), start=st.integers(0, 20), size=st.integers(0, 10), learning=st.booleans(), scoring=st.booleans(),
    alone=st.booleans(),
)  # fmt: skip
def test_a_mask_marks_its_span_and_nothing_else(
    made: tuple[Panel, Twin], start: int, size: int, learning: bool, scoring: bool, alone: bool
) -> None:
    panel, twin = made
    mask = Mask(start, start + size, "why", learning, scoring, panel.keys[0] if alone else None)
    masked = panel.with_masks([mask])
    assert masked.masks == (mask,)
    for key, marks in twin.marks.items():
        for position in marks:
            if start <= position < start + size and (not alone or key == panel.keys[0]):
                marks[position] |= NOT_LEARNED * learning | NOT_SCORED * scoring
    same(masked, twin)
    learned, scored = masked.learnable(), masked.scorable()
    flat = np.concatenate([list(twin.marks[key].values()) for key in panel.keys]).astype(int)
    hidden = np.isnan(panel.values)
    assert (np.isnan(learned.values) == (hidden | ((flat & NOT_LEARNED) > 0))).all()
    assert (np.isnan(scored) == (hidden | ((flat & (FILLED | NOT_SCORED)) > 0))).all()


@settings(max_examples=100, deadline=None)
@given(made=panels(), back=st.integers(-5, 5))
def test_points_keep_their_times_on_another_axis(made: tuple[Panel, Twin], back: int) -> None:
    panel, _ = made
    panel = replace(panel.with_masks([Mask(1, 3, "m")]), occasions=(Occasion("fair", 2, 4),))
    axis = TimeAxis(np.datetime64(panel.axis.times(np.array([-back]))[0], "s"), panel.axis.step, panel.zone)
    moved = panel.on_axis(axis)
    for key in panel.keys:
        assert (moved.times(key) == panel.times(key)).all()
        assert moved[key].tobytes() == panel[key].tobytes()
    assert (moved.masks[0].start, moved.masks[0].stop) == (1 + back, 3 + back)
    assert (moved.occasions[0].start, moved.occasions[0].stop) == (2 + back, 4 + back)
    assert moved.on_axis(panel.axis).hash == panel.hash
    assert (moved is panel) == (back == 0)


@pytest.mark.parametrize(
    "change",
    [
        lambda p: replace(p, unit="m³"), lambda p: replace(p, keys=("x", *p.keys[1:])),
        lambda p: p.with_masks([Mask(0, 1, "w")]),
        lambda p: replace(p, occasions=(Occasion("fair", 1, 2),)), lambda p: replace(p, starts=p.starts + 1),
        lambda p: replace(p, marks=np.r_[np.uint8(FILLED), p.marks[1:]]), lambda p: replace(p, covariates=()),
        lambda p: replace(p, axis=replace(p.axis, zone="UTC")),
        lambda p: replace(p, covariates=(replace(p.covariates[0], role="static"), *p.covariates[1:])),
        lambda p: replace(p, covariates=(replace(p.covariates[0], labels=("x",)), *p.covariates[1:])),
    ],
)  # fmt: skip
def test_everything_that_can_change_a_number_changes_the_hash(hourly: Panel, change) -> None:  # type: ignore[no-untyped-def]
    assert change(hourly).hash != hourly.hash


def test_zeros_and_missing_values_hash_alike_whatever_their_bits(hourly: Panel) -> None:
    values = hourly.values.copy()
    values[[3, 4]] = 0.0, np.nan
    signed = values.copy()
    signed[[3, 4]] = -0.0, -np.nan
    assert hourly.with_values(values).hash == hourly.with_values(signed).hash


def test_columns_of_words_become_codes_and_static_ones_one_value() -> None:
    panel = Panel.from_arrays(
        {"a": [1.0, 2, 3], "b": [4.0, 5, 6]}, "2024-01-01", "1 day",
        covariates={"sky": {"a": ["wet", None, "dry"], "b": ["dry", "dry", "fog"]},
                    "area": ("static", {"a": 2.5, "b": [7.0]}), "zone": ("static", {"a": "hill", "b": "shore"})},
    )  # fmt: skip
    assert panel.covariate("sky").labels == ("dry", "fog", "wet")
    assert np.array_equal(panel.covariate("sky").series(0), [2, np.nan, 0], equal_nan=True)
    assert panel.covariate("area").series(1).tolist() == [7.0, 7.0, 7.0]
    assert panel.covariate("zone").series(0).tolist() == [0.0, 0.0, 0.0]
    arrow = panel.to_arrow()
    assert arrow["area"].to_pylist() == [2.5] * 3 + [7.0] * 3
    assert arrow["sky"].to_pylist() == [2.0, None, 0.0, 0.0, 0.0, 1.0]
    short = "has 2 values for 3 points"
    for column, words in ((("boss", [1, 2, 3]), "“boss” is not a covariate role"), ([1, 2], short),
                          (("static", [1, 2]), short), (("known_ahead", [1, 2]), short)):  # fmt: skip
        with pytest.raises(pt.ProteronError, match=words):
            Panel.from_arrays({"a": [1.0, 2, 3]}, "2024-01-01", "1 day", covariates={"x": column})
    with pytest.raises(pt.SettingsError, match="There is no covariate “y”"):
        panel.covariate("y")


def test_a_panel_says_what_it_is_and_what_is_none(hourly: Panel) -> None:
    assert repr(hourly) == (
        "Panel of 2 series (north, east), 2,800 points every 1 hour from 2024-01-01T00:00:00 to 2024-03-03T11:00:00 "
        "Europe/Lisbon, weather (observed), plan (known ahead)"
    )
    assert list(hourly) == ["north", "east"]
    assert len(hourly) == 2
    many = Panel.from_arrays({f"s{i}": [1.0, 2.0] for i in range(5)}, "2024-01-01", "1 day")
    assert "(s0, s1, s2, s3, …)" in repr(many)
    with pytest.raises(pt.InputError, match="A panel is needed, not list"):
        require_panel([1, 2])
    with pytest.raises(pt.InputError, match="Two series have the same key"):
        replace(hourly, keys=("a", "a"))
    with pytest.raises(pt.SettingsError, match="There is no series “west”"):
        hourly.with_masks([Mask(0, 1, "x", key="west")])
