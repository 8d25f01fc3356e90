"""What each column is for: every rule of the guess, from both sides of where it turns."""

from typing import Any

import numpy as np
import pytest
from tests.core.intake.bank import amounts, moments, table

import proteron as pt
from proteron.core.intake import guess_roles, read_raw, settle_roles

DAYS = moments("2024-01-01", 60)
Y = amounts(60, 31)


def roles(header: str, columns: list[list[Any]]) -> dict[str, str]:
    """Guessed roles of columns beside each other."""
    raw = read_raw(table(header, list(zip(*columns, strict=True))))
    return {guess.column: guess.role for guess in guess_roles(raw)}


def guess(header: str, columns: list[list[Any]], name: str):
    raw = read_raw(table(header, list(zip(*columns, strict=True))))
    (found,) = [each for each in guess_roles(raw) if each.column == name]
    return found


def twice(values: list[Any]) -> list[Any]:
    return [*values, *values]


def test_a_key_is_what_makes_times_unique_whatever_its_name() -> None:
    north_then_east = ["n"] * 60 + ["e"] * 60
    found = roles("day,wo,y", [twice(DAYS), north_then_east, amounts(120, 1)])
    assert found == {"day": "time", "wo": "key", "y": "target"}
    colours = [("red", "blue")[i % 2] for i in range(60)]
    assert roles("day,hue,y", [DAYS, colours, Y])["hue"] == "observed", "times are unique without it"
    assert roles("day,district,y", [DAYS, colours, Y])["district"] == "key", "its name says so, and it comes again"
    assert roles("day,district,y", [DAYS, [f"d{i}" for i in range(60)], Y])["district"] == "ignore"


def test_the_fewest_columns_are_keys() -> None:
    """Region and shop together make times unique; the manager adds nothing."""
    region = [r for r in "xy" for _ in range(120)]
    shop = [s for _ in "xy" for s in "12" for _ in range(60)]
    manager = [f"m{r}{s}" for r, s in zip(region, shop, strict=True)]
    days = DAYS * 4
    found = roles("day,region,shop,sold", [days, region, [f"s{s}" for s in shop], amounts(240, 2)])
    assert (found["region"], found["shop"]) == ("key", "key")
    found = roles("day,region,manager,sold", [days, region, manager, amounts(240, 2)])
    assert (found["region"], found["manager"]) == ("static", "key"), "the manager alone tells rows apart"


def test_whole_numbers_are_keys_where_they_are_codes_or_nothing_else_tells_rows_apart() -> None:
    store = [1] * 60 + [2] * 60
    assert roles("day,store,y", [twice(DAYS), store, amounts(120, 3)])["store"] == "key"
    scattered = [101] * 60 + [205] * 60 + [330] * 60
    assert roles("day,p,y", [DAYS * 3, scattered, amounts(180, 3)])["p"] == "key"
    assert roles("day,level,y", [DAYS, [i % 5 for i in range(60)], Y])["level"] == "observed"
    assert guess("day,level,y", [DAYS, [i % 5 for i in range(60)], Y], "level").category, "named as codes are"
    assert not guess("day,depth,y", [DAYS, [i % 5 for i in range(60)], Y], "depth").category
    few = [[101, 205, 330, 412][i % 4] for i in range(60)]
    assert guess("day,depth,y", [DAYS, few, Y], "depth").category, "few whole numbers, unevenly spread"
    even = [[100, 200, 300, 400][i % 4] for i in range(60)]
    assert not guess("day,depth,y", [DAYS, even, Y], "depth").category, "evenly spread: amounts"
    negative = [[-101, 205, 330, 412][i % 4] for i in range(60)]
    assert not guess("day,depth,y", [DAYS, negative, Y], "depth").category, "codes are not negative"
    dense = [[1, 2, 4, 5][i % 4] for i in range(60)]
    assert not guess("day,depth,y", [DAYS, dense, Y], "depth").category, "close together: amounts"


def test_one_value_per_key_is_static() -> None:
    key = ["n"] * 60 + ["e"] * 60
    area = [12.5] * 60 + [7.25] * 60
    zone = ["hill"] * 60 + ["shore"] * 60
    found = roles("day,site,y,area,zone", [twice(DAYS), key, amounts(120, 4), area, zone])
    assert (found["area"], found["zone"]) == ("static", "static")
    changing = [12.5] * 59 + [13.5] + [7.25] * 60
    assert roles("day,site,y,area", [twice(DAYS), key, amounts(120, 4), changing])["area"] == "observed"
    assert roles("day,y,area", [DAYS, Y, [12.5] * 60])["area"] == "observed", "one series has no statics"


@pytest.mark.parametrize("name", ["holiday", "planned_flow", "price", "promo", "SpringCampaign", "weekday", "forecast"])
def test_what_is_planned_by_name_is_known_ahead_and_never_the_target(name: str) -> None:
    other = amounts(60, 5)
    assert roles(f"day,{name},y", [DAYS, other, Y]) == {"day": "time", name: "known_ahead", "y": "target"}
    assert roles(f"day,{name}", [DAYS, Y])[name] == "target", "there is nothing else"


def test_what_goes_on_where_the_target_ends_is_known_ahead() -> None:
    ended = [*Y[:55], *[""] * 5]
    temp = amounts(60, 6)
    assert roles("day,y,temp", [DAYS, ended, temp])["temp"] == "known_ahead"
    assert roles("day,y,temp", [DAYS, Y, temp])["temp"] == "observed"
    assert roles("day,y,temp", [DAYS, ended, [*temp[:55], *[""] * 5]])["temp"] == "observed"


def test_many_columns_of_numbers_are_a_series_each() -> None:
    eight = {f"{name}": amounts(60, 40 + i) for i, name in enumerate("abcdefgh")}
    assert set(roles(f"day,{','.join(eight)}", [DAYS, *eight.values()]).values()) == {"time", "target"}
    seven = dict(list(eight.items())[:7])
    found = roles(f"day,{','.join(seven)}", [DAYS, *seven.values()])
    assert [name for name, role in found.items() if role == "target"] == ["a"]
    numbered = roles("day,pump 1,pump 2,pump 3", [DAYS, *list(eight.values())[:3]])
    assert set(numbered.values()) == {"time", "target"}
    two = roles("day,pump 1,pump 2", [DAYS, *list(eight.values())[:2]])
    assert [two["pump 1"], two["pump 2"]] == ["target", "observed"], "two alike are not yet many"
    mixed = roles("day,pump 1,pump 2,level 3", [DAYS, *list(eight.values())[:3]])
    assert list(mixed.values()).count("target") == 1
    key = ["n"] * 60 + ["e"] * 60
    keyed = roles("day,site,a 1,a 2,a 3", [twice(DAYS), key, *[amounts(120, 50 + i) for i in range(3)]])
    assert list(keyed.values()).count("target") == 1, "with a key, columns are not series"


def test_text_is_a_category_where_it_comes_again() -> None:
    fifteen = [f"w{i % 15}" for i in range(60)]
    assert guess("day,y,sky", [DAYS, Y, fifteen], "sky").role == "observed"
    assert guess("day,y,sky", [DAYS, Y, fifteen], "sky").category
    sixteen = [f"w{i % 16}" for i in range(60)]
    assert guess("day,y,sky", [DAYS, Y, sixteen], "sky").role == "ignore"
    assert "hardly repeated" in guess("day,y,sky", [DAYS, Y, sixteen], "sky").reason


MIXED = np.random.default_rng(1).permutation(60).tolist()


@pytest.mark.parametrize(
    ("name", "values", "role"),
    [
        ("id", list(range(7, 67)), "ignore"), ("customer id", MIXED, "ignore"),
        ("no", list(range(60)), "ignore"), ("number", MIXED, "observed"),
        ("index", [2 * i for i in range(60)], "ignore"), ("index", [i * i for i in range(60)], "observed"),
        ("id", [i // 2 for i in range(60)], "observed"), ("reading", list(range(60)), "observed"),
        ("id", [i + 0.5 for i in range(60)], "observed"),
    ],
)  # fmt: skip
def test_a_number_of_the_row_is_never_a_target(name: str, values: list[Any], role: str) -> None:
    assert roles(f"day,y,{name}", [DAYS, Y, values])[name] == role
    if role == "ignore":
        assert roles(f"{name},day,y", [values, DAYS, Y])["y"] == "target"


def test_the_time_is_the_column_that_reads_as_one_and_a_name_breaks_ties() -> None:
    later = moments("2031-05-05", 60)
    assert roles("created,day,y", [later, DAYS, Y])["day"] == "time"
    assert roles("first,second,y", [DAYS, later, Y])["first"] == "time"
    assert roles("a,y", [list(range(1960, 2020)), Y]) == {"a": "target", "y": "observed"}, "bare numbers need a name"
    assert roles("year,y", [list(range(1960, 2020)), Y])["year"] == "time"
    assert roles("a,y", [[1_700_000_000 + 60 * i for i in range(60)], Y])["a"] == "time", "counts since 1970 do not"
    assert roles("a,y", [[1_700_000_000] * 60, Y])["a"] == "target", "unless they stand still"
    mostly = [*DAYS[:53], *["?x"] * 7]
    assert roles("day,y", [mostly, Y]).get("day") != "time"
    nearly = [*DAYS[:55], *["?x"] * 5]
    assert roles("day,y", [nearly, Y])["day"] == "time"


def test_a_date_takes_its_clock_and_its_hour() -> None:
    clock = ["08:00", "20:00"] * 30
    days = [day for day in DAYS[:30] for _ in (0, 1)]
    assert roles("day,at,y", [days, clock, Y]) == {"day": "time", "at": "time", "y": "target"}
    assert roles("day,hour,y", [days, [8, 20] * 30, Y])["hour"] == "time"
    unique = roles("day,hour,y", [DAYS, [8, 20] * 30, Y])
    assert (unique["hour"], unique["y"]) == ("known_ahead", "target"), "days are unique without it"
    assert roles("day,hour,y", [days, [8, 31] * 30, Y])["hour"] != "time", "31 is no hour"
    assert roles("ts,at,y", [[1_700_000_000 + 60 * i for i in range(60)], clock, Y])["at"] != "time"


def test_events_have_what_comes_again_as_their_key() -> None:
    times = sorted((np.datetime64("2024-01-01", "s") + np.random.default_rng(2).integers(0, 10**6, 60)).tolist())
    kind = ["leak", "burst", "noise"] * 20
    assert roles("at,what", [times, kind]) == {"at": "time", "what": "key"}
    seven = [f"k{i % 7}" for i in range(60)]
    assert roles("at,what", [times, seven])["what"] == "observed", "too many to tell apart"
    assert "come again" in guess("at,what", [times, kind], "what").reason


def test_an_end_is_ignored_and_an_empty_column_too() -> None:
    found = roles("day,until,y,blank", [DAYS, moments("2024-02-01", 60), Y, [""] * 60])
    assert (found["until"], found["blank"]) == ("ignore", "ignore")


def test_chosen_roles_replace_the_guessed_ones_of_their_kind() -> None:
    raw = read_raw(table("day,y,temp,site", list(zip(DAYS, Y, amounts(60, 8), ["a", "b"] * 30, strict=True))))
    guesses = guess_roles(raw)
    assert settle_roles(raw, {"temp": "target"}, guesses)["y"] == "observed"
    assert settle_roles(raw, {"y": "ignore"}, guesses)["temp"] == "target", "another becomes the target"
    assert settle_roles(raw, {"y": "ignore", "temp": "ignore"}, guesses)["temp"] == "ignore"
    assert settle_roles(raw, {"site": "key"}, guesses)["site"] == "key"
    assert settle_roles(raw, {"temp": "time"}, guesses)["day"] == "ignore"
    with pytest.raises(pt.SettingsError, match="is not a role"):
        settle_roles(raw, {"y": "boss"}, guesses)  # type: ignore[dict-item]
    with pytest.raises(pt.InputError, match="no column “z”; there are: day, y, temp, site"):
        settle_roles(raw, {"z": "target"}, guesses)


def test_a_long_file_is_judged_by_rows_from_all_over() -> None:
    """What tells rows apart shows in rows of the same times, which lie far apart in a long file."""
    days = moments("2000-01-01", 9000)
    site = ["north"] * 9000 + ["east"] * 9000
    found = roles("day,wo,y", [days * 2, site, amounts(18_000, 9)])
    assert found == {"day": "time", "wo": "key", "y": "target"}
    late = [""] * 17_900 + amounts(100, 9)
    assert roles("day,wo,y,z", [days * 2, site, amounts(18_000, 9), late])["z"] != "ignore"
