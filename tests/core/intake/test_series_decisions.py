"""What is said of series and of rows, from both sides of every threshold, and what each remedy does."""

from typing import Any

import numpy as np
import pytest
from tests.core.intake.bank import amounts, moments, series, table

import proteron as pt
from proteron.core.intake import Finding
from proteron.core.panel import Panel

BASE = amounts(400, 61)


def findings(values: list[Any], first: str = "2024-01-01", **recipe: Any) -> dict[str, Finding]:
    reading = pt.read_table(series(first, values), recipe=recipe or None)
    return {finding.code: finding for finding in reading.findings}


def mended(values: list[Any], **remedies: str) -> Panel:
    chosen = {name.replace("_", " "): remedy for name, remedy in remedies.items()}
    return pt.read_table(series("2024-01-01", values), recipe={"remedies": chosen}).panel


def with_run(length: int, at: int = 100) -> list[float]:
    return [*BASE[:at], *[51.25] * length, *BASE[at + length :]]


def test_a_flat_run_is_one_that_the_series_own_repeats_do_not_explain() -> None:
    assert "flat run" not in findings(with_run(11))
    found = findings(with_run(12))["flat run"]
    assert (found.count, found.spans[0].start, found.spans[0].stop) == (1, 100, 112)
    restless = np.random.default_rng(1).integers(0, 2, 400).tolist()  # half of the steps repeat
    assert "flat run" not in findings([*restless[:200], *[1] * 20, *restless[220:]])
    assert "flat run" in findings([*restless[:200], *[1] * 60, *restless[260:]])
    assert "flat run" not in findings([*[5.0] * 12, *BASE[:12]]), "too few points to know what is usual"
    at_the_end = [*BASE[:100], *[51.25] * 30]
    assert findings(at_the_end)["flat run"].spans[0].stop == 130
    assert np.isnan(mended(at_the_end, flat_run="missing")["y"][100:]).all()


def test_several_runs_are_counted_and_the_longest_is_named() -> None:
    values = with_run(20)
    values[300:330] = [48.5] * 30
    found = findings(values)["flat run"]
    assert found.count == 2
    assert "the longest 30 steps from 2024-10-27" in found.message
    masked = mended(values, flat_run="mask")
    assert [(mask.start, mask.stop, mask.reason) for mask in masked.masks] == [
        (100, 120, "flat run"), (300, 330, "flat run"),
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("factor", "said"), [(10, True), (100, True), (1000, True), (5, False), (3, False), (31, False)]
)
def test_a_change_of_unit_is_a_power_of_ten_that_lasts(factor: float, said: bool) -> None:
    up = [*[value / factor for value in BASE[:200]], *BASE[200:]]
    found = findings(up)
    assert ("change of unit" in found) is said
    if said:
        assert abs(found["change of unit"].spans[0].stop - 200) <= 1
        rescaled = mended(up, change_of_unit="rescale")["y"]
        assert rescaled[:190] == pytest.approx(BASE[:190], rel=1e-9)
        assert rescaled[210:] == pytest.approx(BASE[210:], rel=1e-12)


def test_a_short_excursion_and_a_restless_series_are_no_change_of_unit() -> None:
    excursion = [*BASE[:200], *[value * 100 for value in BASE[200:205]], *BASE[205:]]
    assert "change of unit" not in findings(excursion)
    rng = np.random.default_rng(2)
    restless = (10.0 ** rng.normal(0, 1.2, 400)).tolist()
    assert "change of unit" not in findings(restless)
    assert "change of unit" not in findings([*[v / 1000 for v in BASE[:6]], *BASE[6:14]]), "too short to tell"
    downwards = [*[value * 1000 for value in BASE[:150]], *BASE[150:]]
    assert "0.001" in findings(downwards)["change of unit"].message


def test_extremes_are_single_values_far_from_all_others() -> None:
    spread = 1.4826 * float(np.median(np.abs(np.array(BASE) - np.median(BASE))))
    for distance, said in ((11.5, False), (13, True), (-13, True)):
        values = [*BASE]
        values[50] = float(np.median(BASE)) + distance * spread
        assert ("extreme values" in findings(values)) is said, distance
    many = [*BASE]
    for at in range(0, 40, 10):
        many[at] = 1e4
    assert "extreme values" not in findings(many), "four in four hundred are not single values"
    many[30] = BASE[30]
    found = findings(many)["extreme values"]
    assert (found.count, found.spans[0].start) == (3, 0)
    assert np.isnan(mended(many, extreme_values="missing")["y"][[0, 10, 20]]).all()
    assert "extreme values" not in findings([*amounts(18, 3), 1e6]), "too few points to know what is usual"


def test_constants_and_empties_among_series() -> None:
    days = moments("2024-01-01", 30)
    rows = [(day, key, value) for key, values in (("a", BASE[:30]), ("b", [7.0] * 30), ("c", [""] * 30))
            for day, value in zip(days, values, strict=True)]  # fmt: skip
    content = table("day,key,y", rows)
    reading = pt.read_table(content)
    said = {finding.code: finding for finding in reading.findings}
    assert "“b”" in said["constant"].message
    assert "1 series has no value at all: “c”." in said["all missing"].message
    assert reading.panel.keys == ("a", "b"), "what has nothing in it is left out, as proposed"
    kept = pt.read_table(content, recipe={"remedies": {"all missing": "leave", "constant": "exclude"}}).panel
    assert kept.keys == ("a", "c")
    alone = pt.read_table(series("2024-01-01", [7.0] * 30), recipe={"remedies": {"constant": "exclude"}}).panel
    assert alone.keys == ("y",), "something is always left"


def keyed(ends: dict[str, int]) -> bytes:
    rows = [(day, key, BASE[i] + len(key)) for key, end in ends.items()
            for i, day in enumerate(moments("2024-01-01", end))]  # fmt: skip
    return table("day,key,y", rows)


def test_series_that_end_early_are_those_well_before_the_usual_end() -> None:
    def early(ends: dict[str, int]) -> list[str]:
        found = [f for f in pt.read_table(keyed(ends)).findings if f.code == "discontinued"]
        return [span.key for span in found[0].spans] if found else []

    assert early({"a": 300, "b": 300, "c": 296}) == []
    assert early({"a": 300, "b": 300, "c": 295}) == []
    assert early({"a": 300, "b": 300, "c": 294}) == ["c"]
    assert early({"a": 100, "b": 100, "c": 97}) == []
    assert early({"a": 100, "b": 100, "c": 96}) == ["c"]
    assert early({"a": 300}) == []
    left = pt.read_table(keyed({"a": 300, "b": 300, "c": 200}), recipe={"remedies": {"discontinued": "exclude"}}).panel
    assert left.keys == ("a", "b")


def test_seasons_too_long_for_the_data_are_named() -> None:
    assert "too short" not in findings(amounts(731, 4))
    said = findings(amounts(730, 4))["too short"].message
    assert "The longest series has 730 steps" in said
    assert "the season of the year needs 731 steps" in said
    assert "week" not in said
    both = findings(amounts(13, 4))["too short"]
    assert both.count == 2
    assert "week" in both.message
    yearly = pt.read_table(series("1990", amounts(20, 5)))
    assert "too short" not in {finding.code for finding in yearly.findings}


def beside(column: list[float], name: str = "other") -> dict[str, Finding]:
    rows = list(zip(moments("2024-01-01", 400), BASE, column, strict=True))
    reading = pt.read_table(table(f"day,y,{name}", rows), roles={name: "observed"})
    return {finding.code: finding for finding in reading.findings}


NOISE = np.random.default_rng(6).normal(size=400)


@pytest.mark.parametrize(
    ("column", "words"),
    [
        (BASE, "“other” equals the target:"),
        ([0.3 * value for value in BASE], "is proportional to the target (0.3 × it)"),
        ([-2 * value for value in BASE], "is proportional to the target (-2 × it)"),
        ([5 - 2 * value for value in BASE], "is a straight line of the target (correlation -1.000000)"),
        ((np.array(BASE) + 0.2 * NOISE).tolist(), "is almost the same as the target (correlation 0.999"),
        ([*BASE[1:], 0.0], "is the target 1 step later"),
        ([*BASE[7:], *[0.0] * 7], "is the target 7 steps later"),
        ([*[2 * value for value in BASE[3:]], *[100.0] * 3], "is proportional to the target 3 steps later"),
    ],
)
def test_what_gives_the_target_away_is_told_in_words_that_are_true(column: list[float], words: str) -> None:
    found = beside(column)["leaks the target"]
    assert words in found.message
    assert (found.proposed, found.chosen) == ("ignore", "ignore")


def test_what_merely_resembles_the_target_is_not_said_to_leak() -> None:
    assert "leaks the target" not in beside((np.array(BASE) + 1.5 * NOISE).tolist())
    assert "leaks the target" not in beside([*[0.0] * 7, *BASE[:-7]]), "what lags the target is the past"
    slow = np.cumsum(np.random.default_rng(7).normal(size=400)) + 500
    rows = list(zip(moments("2024-01-01", 400), slow.round(3), np.r_[slow[1:], slow[-1]].round(1), strict=True))
    reading = pt.read_table(table("day,y,other", rows))
    assert "leaks the target" not in {f.code for f in reading.findings}, "a slow series resembles its own future"


def test_a_leak_is_left_out_unless_it_is_kept() -> None:
    rows = list(zip(moments("2024-01-01", 400), BASE, [0.5 * v for v in BASE], NOISE.round(4), strict=True))
    content = table("day,y,half,noise", rows)
    names = lambda **more: [c.name for c in pt.read_panel(content, **more).covariates]  # noqa: E731
    assert names() == ["noise"]
    assert names(recipe={"remedies": {"leaks the target: half": "leave"}}) == ["half", "noise"]
    assert names(recipe={"remedies": {"leaks the target": "leave"}}) == ["half", "noise"]


def test_columns_that_repeat_each_other_are_noted_once() -> None:
    rows = list(zip(moments("2024-01-01", 400), BASE, NOISE.round(5), (2 * NOISE).round(5), (-NOISE).round(5),
                    strict=True))  # fmt: skip
    reading = pt.read_table(table("day,y,a,b,c", rows))
    said = [(f.about, f.message) for f in reading.findings if f.code == "redundant"]
    assert [about for about, _ in said] == ["b", "c", "c"]
    assert "correlated at -1.000" in said[1][1]
    ignored = pt.read_panel(table("day,y,a,b,c", rows), recipe={"remedies": {"redundant": "ignore"}})
    assert [column.name for column in ignored.covariates] == ["a"]


def test_a_filled_gap_is_not_said_to_be_kept() -> None:
    values: list[Any] = [*BASE[:60]]
    values[20:23] = [""] * 3
    assert "kept as missing, not filled" in findings(values)["gaps"].message
    filled = findings(values, filling={"method": "carry_last"})["gaps"].message
    assert "kept as missing" not in filled
    assert "filled where carry last reaches" in filled
    assert "The longest is 3 steps from 2024-01-21" in filled


def test_infinity_is_refused_at_the_panel_s_door() -> None:
    with pytest.raises(pt.InputError, match="Series “a” is infinite at point 3"):
        Panel.from_arrays({"a": [1.0, 2.0, np.inf]}, "2024-01-01", "1 day")
    with pytest.raises(pt.InputError, match="Covariate “x” of “a” is infinite at point 1"):
        Panel.from_arrays({"a": [1.0, 2.0]}, "2024-01-01", "1 day", covariates={"x": [-np.inf, 1.0]})


def test_reading_into_a_panel_warns_of_what_was_not_settled() -> None:
    rows = [(f"01/{month:02d}/2021", value) for month, value in zip(range(1, 13), BASE, strict=False)]
    content = table("date,y", rows)
    with pytest.warns(pt.UnsettledWarning, match="day and month could be either way round.*ambiguous dates"):
        assert pt.read_panel(content).step == "1 month"
    with pytest.warns(pt.UnsettledWarning) as caught:
        pt.read_panel(series("2024-01-01", BASE[:50]) + b"2024-01-05,99\n")
    assert len(caught) == 1
    settled = pt.read_panel(content, recipe={"remedies": {"ambiguous dates: date": "month first"}})
    assert settled.step == "1 day"


@pytest.mark.filterwarnings("error::proteron.UnsettledWarning")
def test_a_clean_file_warns_of_nothing() -> None:
    assert len(pt.read_panel(series("2024-01-01", BASE))["y"]) == 400


@pytest.mark.parametrize(("name", "share", "said"), [("y", 0.005, True), ("y", 0.02, False), ("duration", 0.04, True),
                                                    ("duration", 0.06, False), ("y", 0.0, False)])  # fmt: skip
def test_negatives_are_said_where_few_are(name: str, share: float, said: bool) -> None:
    values = [*BASE]
    for at in range(round(share * 400)):
        values[at * 9] = -values[at * 9]
    content = series("2024-01-01", values, header=f"day,{name}")
    found = [finding for finding in pt.read_table(content).findings if finding.code == "negative"]
    assert bool(found) is said
    if said:
        assert found[0].proposed == ("drop" if name == "duration" else "leave")


def test_stray_times_are_few_and_far_and_only_then() -> None:
    def stray(extra: list[str], count: int = 100) -> int:
        content = series("2024-01-01", BASE[:count]) + "".join(f"{day},50\n" for day in extra).encode()
        found = [f for f in pt.read_table(content).findings if f.code == "stray times"]
        return found[0].count if found else 0

    assert stray(["2024-09-01"]) == 0, "within twice the extent"
    assert stray(["2024-12-01"]) == 1
    assert stray(["2012-01-01", "2031-01-01"]) == 2
    assert stray([f"2031-01-0{day}" for day in range(1, 5)]) == 0, "four in a hundred are not stray"
    assert stray(["2031-01-01"], 18) == 0, "too few rows to know what is usual"
    kept = series("2024-01-01", BASE[:100]) + b"2026-12-01,50\n"
    panel = pt.read_table(kept, recipe={"remedies": {"stray times": "leave"}}).panel
    assert panel.end > 1000


def test_steps_covered_in_part_are_said_when_the_step_changes() -> None:
    hours = series("2024-01-01T05:00", amounts(24 * 10, 9), 60)
    reading = pt.read_table(hours, recipe={"resampling": {"step": "1 day", "aggregate": "mean"}})
    (said,) = [finding for finding in reading.findings if finding.code == "partial steps"]
    assert "1 at the beginning and 1 at the end of 1 series" in said.message
    assert len(reading.panel["y"]) == 9
    whole = pt.read_table(series("2024-01-01T00:00", amounts(24 * 10, 9), 60),
                          recipe={"resampling": {"step": "1 day", "aggregate": "mean"}})  # fmt: skip
    assert "partial steps" not in {finding.code for finding in whole.findings}
    assert len(whole.panel["y"]) == 10
