"""Panels out and in again, to the last bit; and bytes that are no table at all."""

import io
import json
import tempfile
import time
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from openpyxl import load_workbook

import proteron as pt
from proteron.core.intake import EXPORTS, recipe_of
from proteron.core.intake.filling import fill_panel
from proteron.core.intake.recipe import Filling
from proteron.core.panel import Mask, Occasion, Panel

FINITE = st.floats(allow_nan=False, allow_infinity=False, width=64)
CELL = st.one_of(FINITE, st.just(float("nan")))
TEXT = st.text(st.characters(blacklist_categories=("Cs", "Cc")), min_size=1, max_size=8)
LABELS = st.sampled_from(["a", "=b", "NA", "1", "01", "'+c"])


@st.composite
def panels(draw: st.DrawFn) -> Panel:
    """Ragged panels with every kind of column, gaps, awkward keys, fills, masks and occasions."""
    keys = draw(
        st.lists(st.one_of(TEXT, st.sampled_from(["=1+1", "007", "NA", " x"])), min_size=1, max_size=4, unique=True)
    )
    series = {key: draw(st.lists(CELL, min_size=3, max_size=12)) for key in keys}
    for values in series.values():
        values[0] = draw(FINITE)
    per_key = lambda cells, more=0: {  # noqa: E731
        key: draw(st.lists(cells, min_size=len(values) + more, max_size=len(values) + more))
        for key, values in series.items()
    }
    columns: dict[str, object] = {}
    if draw(st.booleans()):
        columns["temp"] = per_key(CELL)
    if draw(st.booleans()):
        columns["plan"] = ("known_ahead", per_key(CELL, 2))
    if draw(st.booleans()):
        columns["kind"] = per_key(LABELS)
    if draw(st.booleans()):
        columns["size"] = ("static", {key: draw(FINITE) for key in keys})
    step = draw(st.sampled_from(["15 min", "1h", "1 day", "1 week", "1 month", "1 quarter"]))
    panel = Panel.from_arrays(series, "2024-01-01", step, "Europe/Lisbon", columns, "m³")
    if draw(st.booleans()):
        panel = fill_panel(panel, Filling(method=draw(st.sampled_from(["linear", "carry_last"]))), {})
    if draw(st.booleans()):
        panel = panel.with_masks([Mask(1, 3, "works", scoring=draw(st.booleans()), key=keys[0])])
    return panel


@settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck))
@given(panel=panels(), kind=st.sampled_from(list(EXPORTS)))
def test_a_written_panel_reads_back_to_the_bit(panel: Panel, kind: str) -> None:
    with tempfile.TemporaryDirectory() as folder:
        path = pt.write_panel(panel, Path(folder) / f"panel.{kind}")
        back = pt.read_table(path, recipe=recipe_of(panel)).panel
    assert back.keys == panel.keys
    assert [column.labels for column in back.covariates] == [column.labels for column in panel.covariates]
    assert back.hash == panel.hash


def test_occasions_survive_and_an_unknown_format_is_refused(hourly: Panel, tmp_path: Path) -> None:
    from dataclasses import replace

    panel = replace(hourly, occasions=(Occasion("works", 48, 96),))
    back = pt.read_table(pt.write_panel(panel, tmp_path / "p.parquet"), recipe=recipe_of(panel)).panel
    assert back.hash == panel.hash
    with pytest.raises(pt.SettingsError, match="no format to write"):
        pt.write_panel(panel, tmp_path / "p.pickle")


def test_no_formula_leaves_in_what_spreadsheets_open(tmp_path: Path) -> None:
    evil = ["=cmd()", "+1", "-1", "@x", "'=y"]
    panel = Panel.from_arrays(
        {key: [1.0, -2.0] for key in evil}, "2024-01-01", "1 day", covariates={"=note": {k: ["=z", "ok"] for k in evil}}
    )
    text = pt.write_panel(panel, tmp_path / "p.csv").read_text()
    cells = [cell.strip('"') for line in text.splitlines() for cell in line.split(",")]
    assert not [cell for cell in cells if cell[:1] in "=+@" and cell]
    assert [cell for cell in cells if cell.startswith("-")] == ["-2"] * 5
    sheet = load_workbook(io.BytesIO(pt.write_panel(panel, tmp_path / "p.xlsx").read_bytes())).active
    assert not [
        c for row in sheet for c in row if c.data_type == "f" or (isinstance(c.value, str) and c.value[:1] in "=+-@")
    ]  # type: ignore[union-attr]


@settings(max_examples=150, deadline=None)
@given(content=st.binary(max_size=400))
def test_any_bytes_get_a_panel_or_a_sentence(content: bytes) -> None:
    try:
        pt.read_table(content)
    except pt.ProteronError as error:
        assert error.message


GOOD = b"time,key,y,z\n" + b"".join(f"2024-01-{d:02d},{k},{d * 1.5},{d}\n".encode() for k in "ab" for d in range(1, 20))


def _formats() -> dict[str, bytes]:
    panel = pt.read_panel(GOOD)
    with tempfile.TemporaryDirectory() as folder:
        return {kind: pt.write_panel(panel, Path(folder) / f"p.{kind}").read_bytes() for kind in EXPORTS}


FORMATS = _formats()


@settings(max_examples=200, deadline=None, suppress_health_check=list(HealthCheck))
@given(data=st.data(), kind=st.sampled_from(list(FORMATS)))
def test_damaged_files_get_a_panel_or_a_sentence(data: st.DataObject, kind: str) -> None:
    """Bytes flipped, cut out, doubled or cut off, in every format."""
    content = bytearray(FORMATS[kind])
    for _ in range(data.draw(st.integers(1, 4))):
        at = data.draw(st.integers(0, len(content) - 1))
        how = data.draw(st.sampled_from(["flip", "cut", "double", "end", "quote", "zero"]))
        if how == "flip":
            content[at] ^= data.draw(st.integers(1, 255))
        elif how == "cut":
            del content[at : at + data.draw(st.integers(1, 40))]
        elif how == "double":
            content[at:at] = content[at : at + 60]
        elif how == "end":
            del content[max(at, 1) :]
        else:
            content[at:at] = b'"' if how == "quote" else b"\x00"
        if not content:
            content = bytearray(b" ")
    begun = time.monotonic()
    try:
        pt.read_table(bytes(content))
    except pt.ProteronError as error:
        assert error.message
    assert time.monotonic() - begun < 30


def test_deep_and_wide_json_is_refused_not_crashed() -> None:
    deep = b"[" * 100_000 + b"]" * 100_000
    wide = json.dumps([{f"c{i}": i for i in range(5000)}]).encode()
    nested = b'{"a":' * 5000 + b"1" + b"}" * 5000
    for content in (deep, b'[{"a":' + deep + b"}]", wide, nested, nested * 2):
        with pytest.raises(pt.ProteronError):
            pt.read_table(content)


def test_a_million_values_of_one_key_are_placed_without_a_sort() -> None:
    values = np.arange(50_000) % 1000
    rows = "\n".join(
        f"{t}Z,{v}"
        for t, v in zip(np.datetime64("2020-01-01T00:00:00", "s") + np.arange(50_000) * 60, values, strict=True)
    )
    assert np.array_equal(pt.read_panel(f"time,y\n{rows}".encode())["y"], values)
