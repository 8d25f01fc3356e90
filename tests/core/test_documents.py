"""Documents, their hashes and versions; text that a spreadsheet cannot take for a formula."""

import csv
import io
from typing import ClassVar

import pyarrow as pa
import pytest

import proteron as pt
from proteron.core.csv_tables import csv_bytes, csv_pieces, neutral
from proteron.core.documents import Settings, Versioned, canonical_json, content_hash
from proteron.core.errors import SettingsError
from proteron.core.flatten import STAGES
from proteron.core.forecasters import FORECASTERS


class Method(Versioned):
    version: ClassVar[int] = 3
    strength: float = 1.0


class Plain(Settings):
    inner: Method = Method()


def test_equal_content_has_one_text_and_one_hash() -> None:
    assert canonical_json({"b": 1, "a": [0.1, "ü"]}) == '{"a":[0.1,"ü"],"b":1}'
    assert content_hash({"a": 1, "b": 2}) == content_hash({"b": 2, "a": 1}) != content_hash({"a": 2, "b": 1})
    assert Method().hash == Method(strength=1.0).hash != Method(strength=2.0).hash


def test_a_document_of_another_version_is_refused_in_words() -> None:
    assert Method.parse({"strength": 2, "version": 3}) == Method.parse({"strength": 2}) == Method(strength=2)
    for version in (2, 4, None):
        with pytest.raises(SettingsError, match=f"made by version {version} of this method; here it is version 3"):
            Method.parse({"strength": 2, "version": version})
    with pytest.raises(SettingsError) as refused:
        Plain.parse({"inner": {"strength": "much"}})
    assert refused.value.field == "inner.strength"
    with pytest.raises(SettingsError, match="no_such"):
        Plain.parse({"no_such": 1})


@pytest.mark.parametrize("method", [*STAGES, *FORECASTERS], ids=lambda each: each.__name__)
def test_every_method_is_versioned_frozen_and_refuses_what_it_does_not_know(method: type[Versioned]) -> None:
    assert isinstance(method.version, int) and method.version >= 1
    with pytest.raises(SettingsError, match="no_such_setting"):
        method.parse({"no_such_setting": 1})
    assert method.model_config["frozen"]
    documented = [name for name, field in method.model_fields.items() if name != "kind" and not field.title]
    assert not documented, f"settings without a title: {documented}"


@pytest.mark.parametrize(
    ("text", "safe"),
    [("=1+1", "'=1+1"), ("+x", "'+x"), ("-x", "'-x"), ("@x", "'@x"), ("\tx", "'\tx"), ("\r=x", "'\r=x"),
     ("'=x", "''=x"), ("a=b", "a=b"), ("", ""), ("'quoted", "'quoted")],
)  # fmt: skip
def test_text_is_neutral(text: str, safe: str) -> None:
    assert neutral(text) == safe


def test_csv_is_written_by_one_writer_whole_or_in_pieces() -> None:
    names = ["=key", "+1", 'with "quotes", and commas', "value"]
    table = pa.table(
        [pa.array(["=1", None, "plain"] * 30_000).dictionary_encode(), pa.array([1, 2, 3] * 30_000),
         pa.array(["a,b", 'c"d', "-e"] * 30_000), pa.array([0.1, None, 1e-300] * 30_000)],
        names=names,
    )  # fmt: skip
    pieces = list(csv_pieces(table))
    assert len(pieces) == 3 and b"".join(pieces) == csv_bytes(table)
    rows = list(csv.reader(io.StringIO(csv_bytes(table).decode())))
    assert rows[0] == ["'=key", "+1", 'with "quotes", and commas', "value"]
    assert rows[1:4] == [["'=1", "1", "a,b", "0.1"], ["", "2", 'c"d', ""], ["plain", "3", "'-e", "1e-300"]]
    assert len(rows) == 90_001 and rows[-1] == rows[3]


def test_short_words_of_older_files_are_read_as_whole_ones() -> None:
    old = {"kind": "smoothing", "error": "add", "trend": "none", "season": "mul"}
    read = pt.Contender.parse({"forecaster": old}).forecaster
    assert (read.error, read.trend, read.season) == ("additive", "none", "multiplicative")
    assert pt.forecaster("additive", season="mul") == pt.forecaster("additive", season="multiplicative")
    assert pt.forecaster("several_seasons", trend="add").forecaster.trend == "additive"
    stage = pt.Chain.from_document({"stages": [{"kind": "classical_season", "form": "multiplied"}]}).stages[0]
    assert stage.form == "multiplicative"
    with pytest.raises(pt.SettingsError):
        pt.forecaster("smoothing", season="mult")
