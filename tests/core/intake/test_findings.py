"""Findings: each lie planted once, found, named, and mended by its remedies; the account replays all of it."""

import numpy as np
import pytest

import proteron as pt
from proteron.core.errors import ProteronError
from proteron.core.intake import Edit, compare_accounts, compare_panels, edit_panel, read_calendar
from proteron.core.panel import Panel


def daily(values: list[object], extra: str = "") -> bytes:
    days = np.datetime64("2024-01-01") + np.arange(len(values))
    return ("day,y\n" + "\n".join(f"{d},{v}" for d, v in zip(days, values, strict=True)) + extra).encode()


def found(content: bytes, code: str, **recipe: object):
    """The finding of that code, and the panel, under a recipe."""
    reading = pt.read_table(content, recipe=recipe or None)
    (finding,) = [each for each in reading.findings if each.code == code]
    return finding, reading.panel


NOISE = (50 + np.random.default_rng(5).normal(size=400)).round(3).tolist()


def test_a_totals_row_is_told_by_word_and_sum() -> None:
    total = f"{sum(NOISE):.3f}"
    for extra in (f"\nTotal,{total}", f"\n,{total}", f"\nGrand total,{total}"):
        finding, panel = found(daily(NOISE, extra), "totals row")
        assert finding.rows == (400,)
        assert "sum of the rows above" in finding.message
        assert len(panel["y"]) == 400


def test_equal_and_conflicting_duplicates() -> None:
    finding, panel = found(daily(NOISE, f"\n2024-01-05,{NOISE[4]}"), "repeated rows")
    assert (finding.count, panel["y"][4]) == (1, NOISE[4])
    content = daily(NOISE, "\n2024-01-05,99\n2024-01-05,11")
    finding, panel = found(content, "duplicate times")
    assert (finding.severity, finding.settled, panel["y"][4]) == ("error", False, 11)
    for way, value in (("first", NOISE[4]), ("mean", (NOISE[4] + 110) / 3), ("sum", NOISE[4] + 110), ("max", 99)):
        finding, panel = found(content, "duplicate times", remedies={"duplicate times": way})
        assert finding.settled
        assert panel["y"][4] == pytest.approx(value, abs=1e-9)
    with pytest.raises(ProteronError, match="no remedy"):
        found(content, "duplicate times", remedies={"duplicate times": "guess"})


def test_off_grid_times_are_snapped_or_dropped() -> None:
    content = daily(NOISE[:50], "\n2024-02-20T07:00,4\n2024-02-21,5")
    finding, panel = found(content, "off grid")
    assert finding.rows == (50,)
    assert panel["y"][50] == 4
    _, panel = found(content, "off grid", remedies={"off grid": "drop"})
    assert np.isnan(panel["y"][50])


def test_text_among_numbers_keeps_the_rest() -> None:
    values = [*NOISE[:20], "broken", *NOISE[20:40]]
    finding, panel = found(daily(values), "mixed types")
    assert (finding.rows, finding.settled) == ((20,), False)
    assert np.isnan(panel["y"][20])
    assert panel["y"][21] == NOISE[20]


def test_infinite_negative_and_outlying_values() -> None:
    values = NOISE[:]
    values[7], values[30] = float("inf"), -49.0
    reading = pt.read_table(daily(values))
    by_code = {finding.code: finding for finding in reading.findings}
    assert by_code["infinite"].rows == (7,)
    assert by_code["negative"].rows == (30,)
    assert by_code["extreme values"].spans[0].start == 30
    _, panel = found(daily(values), "negative", remedies={"negative: y": "absolute"})
    assert panel["y"][30] == 49


def test_gaps_flat_runs_constants_and_unit_changes() -> None:
    values = NOISE[:]
    values[100:140] = [51.25] * 40
    finding, panel = found(daily(values), "flat run", remedies={"flat run": "missing"})
    assert (finding.spans[0].start, finding.spans[0].stop) == (100, 140)
    assert np.isnan(panel["y"][100:140]).all()
    _, masked = found(daily(values), "flat run", remedies={"flat run": "mask"})
    assert masked.masks[0].reason == "flat run"
    assert np.isnan(masked.learnable()["y"][100:140]).all()
    finding, _ = found(b"day,y\n2024-01-01,5\n2024-01-04,6\n2024-01-05,7\n2024-01-06,7\n2024-01-09,8", "gaps")
    assert (finding.count, finding.spans[0].stop - finding.spans[0].start) == (4, 2)
    assert found(daily([3] * 30), "constant")[0].count == 1
    changed = [v * (1000 if i >= 250 else 1) for i, v in enumerate(NOISE)]
    finding, panel = found(daily(changed), "change of unit", remedies={"change of unit": "rescale"})
    assert finding.spans[0].stop == 250
    assert panel["y"][249] / panel["y"][250] == pytest.approx(1, abs=0.2)


def test_clean_series_raise_no_alarm() -> None:
    rng = np.random.default_rng(11)
    hours = np.arange(24 * 120)
    smooth = 100 + 30 * np.sin(2 * np.pi * hours / 24) + rng.normal(size=len(hours))
    growing = np.exp(hours / 900) * (1 + 0.05 * rng.normal(size=len(hours)))
    counts = rng.poisson(2.0, size=len(hours)).astype(float)
    for values in (smooth, growing, counts):
        rows = "\n".join(
            f"{t}Z,{v!r}"
            for t, v in zip(np.datetime64("2024-01-01T00", "m") + hours * 60, values.tolist(), strict=True)
        )
        codes = {f.code for f in pt.read_table(f"time,y\n{rows}".encode()).findings}
        assert codes <= {"too short"}


def test_what_could_be_read_two_ways_has_both_as_remedies() -> None:
    grouped = "day;y\n" + "\n".join(f"2024-01-{d:02d};1,{d:03d}" for d in range(1, 29))
    for way, value in (("decimal comma", 1.001), ("thousands", 1001.0)):
        finding, panel = found(grouped.encode(), "number style", remedies={"number style: y": way})
        assert finding.settled
        assert panel["y"][0] == value
    assert not found(grouped.encode(), "number style")[0].settled
    dates = b"time,y\n01/02/2024,1\n02/02/2024,2\n03/02/2024,3\n04/02/2024,4"
    assert found(dates, "ambiguous dates")[1].step == "1 day"
    assert found(dates, "ambiguous dates", remedies={"ambiguous dates": "month first"})[1].step == "1 month"


def test_a_totals_row_leaves_no_key_behind() -> None:
    rows = "\n".join(f"2024-01-{d:02d},{k},{d}.5" for d in range(1, 20) for k in "ab")
    assert found(f"day,key,y\n{rows}\nTotal,,380\n".encode(), "totals row")[1].keys == ("a", "b")


def test_leaking_and_redundant_columns_are_named() -> None:
    rng = np.random.default_rng(3)
    y, other = rng.normal(size=200), rng.normal(size=200)
    ahead = np.append(y[3:], [0, 0, 0])
    rows = "\n".join(
        f"{d},{a},{b},{c},{e}"
        for d, a, b, c, e in zip(
            np.datetime64("2024-01-01") + np.arange(200), y, ahead, other, 2 * other + 1, strict=True
        )
    )
    reading = pt.read_table(f"day,y,later,temp,temp_f\n{rows}".encode())
    by_id = {finding.id: finding for finding in reading.findings}
    assert "3 steps later" in by_id["leaks the target: later"].message
    assert by_id["leaks the target: later"].proposed == "ignore"
    assert by_id["redundant: temp_f"].remedies
    mended = pt.read_panel(
        f"day,y,later,temp,temp_f\n{rows}".encode(), recipe={"remedies": {"leaks the target: later": "ignore"}}
    )
    assert "later" not in [column.name for column in mended.covariates]


def test_series_that_end_early_or_are_too_short_and_future_rows() -> None:
    rows = [f"2024-01-{d:02d},a,{d}" for d in range(1, 31)] + [f"2024-01-{d:02d},b,{d % 7}" for d in range(1, 12)]
    reading = pt.read_table(("day,key,y\n" + "\n".join(rows)).encode())
    codes = {finding.code: finding for finding in reading.findings}
    assert "“b”" in codes["discontinued"].message
    assert "year" in codes["too short"].message
    assert (
        found(daily(NOISE[:9], "\n2999-01-01,5\n2999-01-02,5"), "future dates", remedies={"future dates": "drop"})[
            1
        ].end
        == 9
    )
    late, panel = found(daily(NOISE), "outside period", period_start="2024-01-03", period_end="2024-02-01")
    assert (late.count, len(panel["y"])) == (370, 30)
    alike = b"day,key,y\n2024-01-01,A b,1\n2024-01-01,a  B,2\n2024-01-02,A b,1\n2024-01-02,a  B,2"
    assert found(alike, "keys alike", roles={"key": "key"})[0].count == 1


def test_the_account_replays_to_the_same_hash_and_tells_what_differs() -> None:
    values = NOISE[:]
    values[100:140] = [51.25] * 40
    content = daily(values, "\n2024-01-05,99\nTotal,20000")
    first = pt.read_table(content, unit="m³/h", recipe={"remedies": {"flat run": "missing", "duplicate times": "mean"}})
    again = pt.read_table(content, recipe=first.account["recipe"])
    assert again.panel.hash == first.panel.hash
    assert compare_accounts(first.account, again.account) == []
    head, *rows = content.splitlines()
    renamed = b"\n".join([head + b",note", *(row + b"," for row in rows)])
    other = pt.read_table(renamed.replace(b"51.25", b"510.25"), roles={"note": "ignore"})
    said = " ".join(compare_accounts(first.account, other.account))
    assert "New column “note”" in said
    assert "Values ranged" in said


def test_edits_make_versions_that_remember_and_compare(hourly: Panel) -> None:
    account = {"recipe": {}, "keys": list(hourly.keys)}
    masked = edit_panel(
        hourly,
        Edit.parse(
            {"masks": [{"start": "2024-01-05T00:00", "end": "2024-01-05T05:00", "reason": "works", "series": "north"}]}
        ),
        account,
    )
    found = compare_panels(hourly, masked.panel, [])
    assert [(c.key, c.change, c.changed) for c in found.series] == [("north", "marks", 6)]
    assert edit_panel(masked.panel, Edit.parse({"unmask": [0]}), masked.account).panel.hash == hourly.hash
    filled = edit_panel(hourly, Edit.parse({"filling": {"method": "linear"}}), account)
    assert edit_panel(filled.panel, Edit.parse({"unfill": True}), filled.account).panel.hash == hourly.hash
    assert len(edit_panel(filled.panel, Edit.parse({"exclude": ["east"]}), filled.account).account["edits"]) == 2
    with pytest.raises(ProteronError, match="change nothing"):
        edit_panel(hourly, Edit(), account)
    with pytest.raises(ProteronError, match="covers no step"):
        edit_panel(
            hourly, Edit.parse({"masks": [{"start": "2024-01-05", "end": "2024-01-04", "reason": "x"}]}), account
        )


def test_occasions_by_country_and_by_file_are_days_of_the_zone(hourly: Panel) -> None:
    account: dict[str, object] = {}
    panel = edit_panel(hourly, Edit.parse({"holidays": [{"country": "PT"}]}), account).panel
    carnation = next(
        o for o in panel.occasions if hourly.axis.local(np.array([o.start]))[0] == np.datetime64("2024-04-25T00:00")
    )
    assert carnation.stop - carnation.start == 24
    assert any(o.start > panel.end for o in panel.occasions)
    spans = read_calendar(b"name,first,last\nworks,2024-02-01,2024-02-03\n")
    (works,) = edit_panel(hourly, Edit(occasions=spans), account).panel.occasions
    assert (works.name, works.stop - works.start) == ("works", 72)
    with pytest.raises(ProteronError, match="No holidays"):
        edit_panel(hourly, Edit.parse({"holidays": [{"country": "ZZ"}]}), account)
