"""Designs of folds as a line of text, and contenders varied over ranges of their settings."""

import re

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import proteron as pt
from proteron.core.judge import duration, duration_text, folds_text
from proteron.core.timeline import Step

STEPS = ("1 hour", "15 min", "1 day", "1 week", "1 month", "1 quarter", "business day", "30 s", "3 hours")
lengths = st.integers(1, 2000)
maybe = st.none() | lengths


@st.composite
def designs(draw: st.DrawFn) -> pt.Folds:
    kind = draw(st.sampled_from(["expanding", "sliding", "single", "at", "calendar"]))
    walking = kind in ("expanding", "sliding")
    horizon, gap = draw(lengths), draw(st.integers(0, 50))
    told: dict = {"kind": kind, "horizon": horizon, "gap": gap, "every": draw(maybe)}
    if kind != "single":
        told |= {"sealed": draw(st.integers(0, 3)), "refit": draw(st.integers(0, 4))}
    if walking:
        told |= {"count": draw(st.integers(1, 50)), "spacing": draw(maybe), "span": draw(maybe)}
    if kind == "sliding":
        told["length"] = draw(st.none() | st.integers(2, 9999))
    if kind == "calendar":
        told |= {"count": draw(st.integers(1, 50)), "learn": draw(lengths), "hidden": draw(st.booleans())}
        told["period"] = draw(st.sampled_from(["week", "month", "quarter", "year"]))
    moments = st.sampled_from(["2024-03-01", "2024-06-01 05:00", "2023", 1200, 7])
    if kind == "single":
        told |= draw(st.sampled_from([{}, {"share": 0.125}, {"span": 240}, {"cutoffs": ("2024-03-01",)},
                                      {"cutoffs": (1500,), "span": 12}]))  # fmt: skip
    if kind == "at":
        told |= {"cutoffs": tuple(draw(st.lists(moments, min_size=1, max_size=3))), "span": draw(maybe)}
    told["steps"] = tuple(draw(st.lists(st.integers(gap + 1, gap + horizon), max_size=3)))
    told["months"] = tuple(draw(st.lists(st.integers(1, 12), max_size=3)))
    return pt.Folds.parse(told)


@settings(deadline=None, max_examples=200)
@given(designs(), st.sampled_from(STEPS))
def test_what_is_written_is_read_again(folds: pt.Folds, step: str) -> None:
    assert pt.read_folds(folds_text(folds, Step.parse(step)), step) == folds


def test_lengths_are_told_in_the_units_people_use() -> None:
    hour, month = Step.parse("hour"), Step.parse("month")
    assert [duration_text(n, hour) for n in (1, 48, 71, 72, 73, 504)] == ["1 h", "48 h", "71 h", "3 d", "73 h", "21 d"]
    assert duration_text(2, Step.parse("15 min")) == "30 min" and duration_text(14, month) == "14 mo"
    assert [duration(text, hour) for text in ("2 d", "1 wk", "6h", "5 steps", "7")] == [48, 168, 6, 5, 7]
    assert [duration(text, month) for text in ("2 y", "1 q", "6 months")] == [24, 3, 6]
    assert duration("8 bd", Step.parse("business day")) == 8
    for text, step in (("90 min", hour), ("2 d", month), ("1 mo", hour), ("3 d", Step.parse("business day"))):
        with pytest.raises(pt.SettingsError, match="no whole number of steps"):
            duration(text, step)
    with pytest.raises(pt.SettingsError, match="is not a length"):
        duration("six hours", hour)


def test_the_line_of_the_room_means_what_it_says() -> None:
    line = "8 folds, all before, every 21 d, gap 6 h, 48 h ahead, last 2 sealed, learned each fold"
    folds = pt.read_folds(line, "1 hour")
    assert folds == pt.Folds.expanding(count=8, spacing=504, gap=6, horizon=48, sealed=2)
    assert pt.read_folds("folds after 2024; point 2024", "day").cutoffs == ("2024", 2024)
    assert pt.read_folds("one hold-out of 12.5 %, 3 ahead", "day") == pt.Folds.single(share=0.125, horizon=3)
    months = pt.read_folds("4 folds, the first 20 days of every month, the rest hidden, months june; Dec", "day")
    assert (months.period, months.learn, months.hidden, months.months) == ("month", 20, True, (6, 12))


@pytest.mark.parametrize(
    ("line", "quoted"),
    [
        ("8 folds, all before, every now and then", "every now and then"),
        ("8 folds, 24 h ahead", "It is not said what is learned"),
        ("8 folds, all before, gap 6 h, gap 7 h", "gap 7 h” says once more"),
        ("8 folds, all before, the last 9 d", "the last 9 d” says once more"),
        ("8 folds, all before, months Juno; Smarch", "Smarch"),
        ("8 folds, all before, steps one", "one” is not a number of steps"),
        ("0 folds, all before", "count"),
    ],
)
def test_what_a_line_cannot_mean_is_quoted(line: str, quoted: str) -> None:
    with pytest.raises(pt.SettingsError, match=re.escape(quoted)):
        pt.read_folds(line, "1 hour")


def test_variants_are_all_combinations_named_by_what_differs() -> None:
    source = pt.forecaster("smoothing", trend="additive")
    found = pt.vary("smoothing", source, {"period": [12, 24, 24], "damped": [True, False]})
    assert list(found) == [
        "smoothing, period 12, damped", "smoothing, period 12, not damped",
        "smoothing, period 24, damped", "smoothing, period 24, not damped",
    ]  # fmt: skip
    assert [(each.forecaster.period, each.forecaster.damped) for each in found.values()] == [
        (12, True), (12, False), (24, True), (24, False),
    ]  # fmt: skip
    assert {each.forecaster.trend for each in found.values()} == {"additive"}
    assert list(pt.vary("ridge", pt.forecaster("ridge"), {"strength": [0.5, 2]})) == [
        "ridge, strength 0.5", "ridge, strength 2",
    ]  # fmt: skip
    chained = pt.forecaster("drift", chain=pt.Chain([pt.flatten.Log()]))
    assert pt.vary("drift", chained, {})["drift"] == chained


def test_what_cannot_be_varied_is_said() -> None:
    ridge = pt.forecaster("ridge")
    for values, reason in (
        ({"wings": [2]}, "no setting “wings”"), ({"kind": ["drift"]}, "no setting “kind”"),
        ({"strength": []}, "no value"), ({"strength": [-1]}, "strength"),
        ({"strength": list(range(1, 202))}, "201 variants"),
    ):  # fmt: skip
        with pytest.raises(pt.SettingsError, match=reason):
            pt.vary("ridge", ridge, values)
    assert len(pt.vary("ridge", ridge, {"strength": list(range(1, 201))})) == 200
