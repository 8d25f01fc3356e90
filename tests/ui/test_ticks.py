"""Tick labels of the front end: distinct, true to half a unit of their last place, and no longer than there is room."""

import json
import re
import subprocess
from datetime import UTC, datetime
from itertools import pairwise
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
import pytest

UI = Path(__file__).parents[2] / "ui"
CHARACTER = 7.2  # pixels of the numbers' font
UNITS = {"": 1.0, "k": 1e3, "M": 1e6, "G": 1e9, "T": 1e12}
MONTHS = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"]


def asked(name: str, questions: list[list[Any]]) -> list[Any]:
    """What a function of the module answers to each list of arguments."""
    text = json.dumps([{"name": name, "args": args} for args in questions])
    done = subprocess.run(
        ["node", "scripts/ticks.mjs"], cwd=UI, input=text, stdout=subprocess.PIPE, text=True, check=True
    )  # fmt: skip
    return list(json.loads(done.stdout))


def parsed(text: str) -> tuple[float, float]:
    """The number a label says, and one unit of its last place."""
    match = re.fullmatch(r"([+−]?)(\d+)(?:\.(\d+))?(?:e(−?\d+))?([kMGT]?)", text)
    assert match, text
    sign, whole, decimals, power, unit = match.groups()
    scale = UNITS[unit] * 10.0 ** int((power or "0").replace("−", "-"))
    value = float(f"{whole}.{decimals or 0}") * scale * (-1 if sign == "−" else 1)
    return value, scale * 10.0 ** -len(decimals or "")


def ranges(seed: int, count: int) -> list[list[float]]:
    """Ranges of every size, about nothing and far from it, some hardly wider than a number can tell."""
    rng = np.random.default_rng(seed)
    out = []
    for _ in range(count):
        width = 10.0 ** rng.uniform(-9, 12)
        middle = rng.choice([0.0, width * rng.normal(), width * 10.0 ** rng.uniform(0, 8) * rng.choice([-1, 1])])
        out.append([float(middle - width * rng.uniform(0, 1)), float(middle + width * rng.uniform(0.01, 1))])
    return out


def test_ten_thousand_axes_have_labels_that_are_distinct_true_and_fit() -> None:
    for longest in (6, 7, 10):
        questions = [
            [low, high, most, longest]
            for (low, high), most in zip(ranges(longest, 4000), [2, 3, 5, 8, 12] * 800, strict=True)
        ]
        for (low, high, most, _), axis in zip(questions, asked("numberTicks", questions), strict=True):
            ticks = axis["ticks"]
            assert len(ticks) <= most, (low, high)
            texts = [each["text"] for each in ticks]
            assert len(set(texts)) == len(texts), (low, high, texts)
            assert max(map(len, texts), default=0) <= longest, (low, high, texts)
            ends = {re.sub(r"[+−\d.]|e−?\d+", "", text) for text in texts if parsed(text)[0]}
            assert len(ends) <= 1, texts  # one unit per axis
            assert len({len(text.partition(".")[2].rstrip("kMGT")) for text in texts if parsed(text)[0]}) <= 1, texts
            for each in ticks:
                value, unit = parsed(each["text"])
                assert abs(axis["offset"] + axis["unit"] * value - each["at"]) <= axis["unit"] * unit / 2 * (
                    1 + 1e-6
                ), (low, high, texts)
                assert low - 1e-9 * (high - low) <= each["at"] <= high + 1e-9 * (high - low)
            assert (axis["note"] == "") == (axis["offset"] == 0 and axis["unit"] == 1)


def test_an_axis_has_as_many_ticks_as_there_is_room_for() -> None:
    all_ranges = ranges(5, 2000)
    found = asked("numberTicks", [[*each, 8] for each in all_ranges])
    for (low, high), axis in zip(all_ranges, found, strict=True):
        if high - low > 1e-9 * max(abs(low), abs(high)):
            assert len(axis["ticks"]) >= 2, (low, high)


@pytest.mark.parametrize(
    ("low", "high", "most", "texts"),
    [
        (19, 29, 4, ["20", "25"]),
        (0, 310_000, 4, ["0", "100k", "200k", "300k"]),
        (0, 50_000, 5, ["0", "10k", "20k", "30k", "40k", "50k"]),
        (-0.04, 0.04, 5, ["−0.04", "−0.02", "0.00", "0.02", "0.04"]),
        (21, 29, 4, ["22", "24", "26", "28"]),
        (0, 2_400_000, 3, ["0", "1M", "2M"]),
        (1_000_000.001, 1_000_000.004, 4, ["−0.001", "0.000", "+0.001", "+0.002"]),
    ],
)
def test_labels_as_a_person_would_write_them(low: float, high: float, most: int, texts: list[str]) -> None:
    found = [each["text"] for each in asked("numberTicks", [[low, high, most]])[0]["ticks"]]
    assert found == texts or (len(found) <= most and set(found) <= set(texts))


def test_a_logarithmic_axis_has_distinct_true_labels() -> None:
    rng = np.random.default_rng(8)
    lows, spans = rng.uniform(-6, 6, 500), rng.uniform(0.3, 9, 500)
    questions = [[10.0**a, 10.0 ** (a + b), 8] for a, b in zip(lows, spans, strict=True)]
    for (low, high, _), ticks in zip(questions, asked("logTicks", questions), strict=True):
        texts = [each["text"] for each in ticks]
        assert len(set(texts)) == len(texts) <= 10, (low, high, texts)
        for each in ticks:
            assert parsed(each["text"])[0] == pytest.approx(each["at"], rel=1e-9)


def moment(text: str) -> str:
    """A pattern of what a label may say."""
    month = "|".join(MONTHS)
    forms = [r"\d{4}", rf"({month}) \d{{4}}", rf"\d+ ({month}) \d{{4}}( \d\d:\d\d(:\d\d)?)?", rf"\w{{3}} \d+ ({month})",
             r"(\w{3} )?\d\d:\d\d(:\d\d)?"]  # fmt: skip
    return next((form for form in forms if re.fullmatch(form, text)), "")


def test_time_labels_are_distinct_true_to_the_zone_and_neither_collide_nor_clip() -> None:
    rng = np.random.default_rng(3)
    zones = ["UTC", "Europe/Lisbon", "America/New_York", "Asia/Kolkata", "Australia/Lord_Howe"]
    questions = []
    for _ in range(2000):
        span = 10.0 ** rng.uniform(1.5, 10)
        low = rng.uniform(-1.5e9, 2.4e9)
        questions.append([low, low + span, float(rng.uniform(120, 1500)), zones[rng.integers(5)], 10.0])
    for (low, high, width, zone, overhang), ticks in zip(questions, asked("timeTicks", questions), strict=True):
        shown = [each for each in ticks if each["text"]]
        texts = [each["text"] for each in shown]
        assert len(set(texts)) == len(texts), (low, high, zone, texts)
        assert all(map(moment, texts)), texts
        scale = width / (high - low)
        edges = [((each["at"] - low) * scale, len(each["text"]) * CHARACTER / 2) for each in shown]
        assert all(x - half >= -overhang - 0.1 and x + half <= width + overhang + 0.1 for x, half in edges), texts
        assert all(b[0] - b[1] - a[0] - a[1] >= 4 for a, b in pairwise(edges)), (low, high, zone, texts)
        for each in shown:
            if each["at"] < 0 and zone != "UTC":
                continue  # offsets of long ago had seconds
            local = datetime.fromtimestamp(each["at"], UTC).astimezone(ZoneInfo(zone))
            for part in each["text"].split():
                said = {str(local.day), str(local.year), MONTHS[local.month - 1], local.strftime("%a"),
                        local.strftime("%H:%M"), local.strftime("%H:%M:%S")}  # fmt: skip
                assert part in said, (each, local)


def test_months_and_years_are_named_whole_and_begin_in_the_zone() -> None:
    year = [datetime(2023, 11, 20, tzinfo=UTC).timestamp(), datetime(2024, 4, 20, tzinfo=UTC).timestamp()]
    found = asked("timeTicks", [[*year, 700.0, "UTC", 0.0]])[0]
    assert [each["text"] for each in found] == ["Dec 2023", "Jan 2024", "Feb 2024", "Mar 2024", "Apr 2024"]
    day = [datetime(2024, 3, 30, 12, tzinfo=UTC).timestamp(), datetime(2024, 4, 1, 12, tzinfo=UTC).timestamp()]
    shown = asked("timeTicks", [[*day, 500.0, "Europe/Lisbon", 40.0]])[0]  # the clock goes forward on the 31st
    at = {each["text"]: datetime.fromtimestamp(each["at"], UTC) for each in shown}
    assert at["Mon 1 Apr"] == datetime(2024, 3, 31, 23, tzinfo=UTC)
    assert "Sun 12:00" in at
