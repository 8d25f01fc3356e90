"""Reading a file at the command line: what the room says, and datasets, accounts and tables written from it."""

import json
from pathlib import Path

import numpy as np
import pytest
from tests.core.intake.bank import amounts, moments, series, table
from typer.testing import CliRunner

import proteron as pt
from proteron.cli.main import app

NOISE = amounts(90, 3)


def run(*arguments: object) -> tuple[int, str]:
    """Exit status and everything that was said."""
    outcome = CliRunner().invoke(app, [str(each) for each in arguments])
    return outcome.exit_code, outcome.output


@pytest.fixture
def lying(tmp_path: Path) -> Path:
    """Days with a repeated one, a total below, and a column that gives the target away."""
    rows = [(day, value, 0.5 * value) for day, value in zip(moments("2024-01-01", 90), NOISE, strict=True)]
    path = tmp_path / "lying.csv"
    path.write_bytes(table("day,y,half", rows) + b"2024-01-05,99,49.5\nTotal,4500,2250\n")
    return path


def test_a_file_is_read_as_in_the_room(lying: Path) -> None:
    status, said = run("read", lying)
    assert status == 0
    reading = pt.read_table(lying)
    assert said.startswith(repr(reading.panel))
    for name, role in reading.account["roles"].items():
        assert f"  {name}: {role}" in said
    for finding in reading.findings:
        assert finding.message in said
        assert finding.id in said
    assert "! duplicate times" in said
    assert "done: last – not settled; there are: last (keep the last row), first" in said
    assert "done: ignore; there are: ignore (leave this column out), leave" in said


def test_what_is_said_on_the_line_is_done(lying: Path, tmp_path: Path) -> None:
    out, account = tmp_path / "data.parquet", tmp_path / "account.json"
    status, said = run("read", lying, "--out", out, "--account", account, "--role", "half=observed", "--unit", "m³/h",
                       "--remedy", "duplicate times=mean", "--remedy", "leaks the target: half=leave",
                       "--zone", "Europe/Lisbon", "--step", "1 day")  # fmt: skip
    assert status == 0
    assert "not settled" not in said
    written = pt.read_panel(out, recipe={"remedies": {"leaks the target": "leave"}})
    assert written.series(0)[4] == pytest.approx((NOISE[4] + 99) / 2)
    assert [column.name for column in written.covariates] == ["half"]
    assert json.loads(account.read_text())["unit"] == "m³/h"
    status, again = run("read", lying, "--recipe", account)
    assert status == 0
    assert again == said, "an account is a recipe"


def test_events_are_bucketed_as_they_are_asked_to(tmp_path: Path) -> None:
    times = np.sort(np.datetime64("2024-01-01", "s") + np.random.default_rng(1).integers(0, 20 * 86400, 500))
    path = tmp_path / "events.csv"
    path.write_bytes(table("at,amount", [(time, 2.0) for time in times]))
    status, said = run("read", path, "--events", "1 day")
    assert status == 0
    assert "points every 1 day" in said
    out = tmp_path / "out.csv"
    assert run("read", path, "--events", "1 day sum", "--role", "amount=target", "--out", out)[0] == 0
    counted = pt.read_table(path, recipe={"events": {"step": "1 day"}}).panel
    assert pt.read_panel(out)["amount"].sum() == 2 * counted["count"].sum()


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("--role", "y"), "“y” is not a role such as NAME=VALUE"), (("--role", "y=boss"), "“boss” is not a role"),
        (("--role", "z=target"), "There is no column “z”"), (("--remedy", "x"), "“x” is not a remedy such as"),
        (("--remedy", "duplicate times=guess"), "“guess” is no remedy"), (("--step", "fortnight"), "is not a step"),
        (("--zone", "Mars/Base"), "is not a time zone"), (("--events", "1 fortnight sum"), "is not a step"),
        (("--recipe", "nowhere.json"), "nowhere.json cannot be read"), (("--out", "data.doc"), "ends in none of .csv"),
    ],
)  # fmt: skip
def test_what_does_not_go_is_one_line_and_writes_nothing(
    lying: Path, tmp_path: Path, arguments: tuple[str, ...], words: str
) -> None:
    before = sorted(tmp_path.iterdir())
    status, said = run("read", lying, *arguments)
    assert status == 2
    assert words in said
    assert said.count("\n") == 1
    assert sorted(tmp_path.iterdir()) == before


def test_a_recipe_that_is_none_is_refused(lying: Path, tmp_path: Path) -> None:
    for content, words in (("{ not", "is not JSON"), ("[1]", "holds no recipe"), ('{"wobble": 1}', "wobble")):
        (tmp_path / "r.json").write_text(content)
        status, said = run("read", lying, "--recipe", tmp_path / "r.json")
        assert (status, words in said) == (2, True), said


def test_a_table_is_cut_from_what_was_asked_for_and_open_questions_are_said(lying: Path, tmp_path: Path) -> None:
    out = tmp_path / "table.csv"
    status, said = run("windows", lying, "--plan", "lags 1-2; ahead 1", "--out", out)
    assert status == 0
    assert said.startswith("! duplicate times: ")
    assert "88 rows, 2 features, 1 targets." in said
    asked = ("windows", lying, "--plan", "lags 1; half at 0; ahead 1", "--out", out)
    status, said = run(*asked)
    assert (status, "There is no covariate “half”" in said) == (2, True)
    kept = ("--remedy", "leaks the target=leave", "--remedy", "duplicate times=first")
    status, said = run(*asked, "--role", "half=observed", *kept)
    assert status == 0
    assert said.startswith("89 rows, 2 features")


def test_a_clean_file_has_nothing_open(tmp_path: Path) -> None:
    path = tmp_path / "clean.csv"
    path.write_bytes(series("2024-01-01", NOISE))
    status, said = run("windows", path, "--plan", "lags 1; ahead 1", "--out", tmp_path / "t.csv")
    assert (status, said) == (0, "89 rows, 1 features, 1 targets.\n")


def test_what_is_new_of_a_file_is_watched_and_the_state_kept(tmp_path: Path) -> None:
    rng = np.random.default_rng(6)
    values = 50 + 9 * np.sin(np.arange(600) * np.pi / 12) + rng.normal(size=600)
    values[[400, 560]] += 30
    times = np.datetime64("2024-01-01T00", "s") + np.arange(600) * np.timedelta64(3600, "s")
    rows = [f"{time}Z,{value:.3f}" for time, value in zip(times, values, strict=True)]
    state, flags = tmp_path / "state.npz", tmp_path / "flags.csv"

    def watch(name: str, part: list[str], *more: str) -> str:
        (tmp_path / name).write_text("\n".join(["time,value", *part]) + "\n")
        status, said = run("watch", tmp_path / name, "--state", state, "--out", flags, *more)
        assert status == 0, said
        return said

    assert "Spike of 1 point since 2024-01-17 16:00:00" in watch("first.csv", rows[:500], "--threshold", "8")
    assert "0 of them now" in watch("second.csv", rows[490:560])
    assert "since 2024-01-24 08:00:00" in watch("third.csv", rows[560:563])
    assert len(flags.read_text().splitlines()) == 3
    before = state.read_bytes()
    (tmp_path / "odd.csv").write_text("time,value\n2024-01-24T09:00Z,1\n2024-01-24T10:00Z,2\n")
    status, said = run("watch", tmp_path / "odd.csv", "--state", state)
    assert status != 0 and "differs from what was watched before" in said
    assert state.read_bytes() == before
    assert run("watch", tmp_path / "odd.csv", "--state", state, "--out", "x.doc")[0] != 0
