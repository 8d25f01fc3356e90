"""Tables taken away: every format holds the same rows, parts never overlap, pieces keep memory small."""

import json
import subprocess
import sys

import numpy as np
import pyarrow as pa
import pyarrow.csv as pa_csv
import pyarrow.parquet as pa_parquet
import pytest

from proteron.core.errors import SettingsError
from proteron.core.flatten import Chain, ZScore
from proteron.core.panel import Panel
from proteron.core.windows import Rolling, WindowPlan
from proteron.core.windows.taking import PARTS, data_card, parts_of, split_positions, write_table

PLAN = WindowPlan(lags=[1, 2, 24], rolling=[Rolling("mean", 24)], horizon=[1, 6], half_life=200)


@pytest.mark.parametrize("kind", ["parquet", "arrow", "csv", "npz"])
def test_every_format_holds_the_same_rows(hourly: Panel, kind: str, tmp_path) -> None:  # type: ignore[no-untyped-def]
    table = PLAN.cut(hourly)
    path = tmp_path / f"table.{kind}"
    assert write_table(PLAN, hourly, path, kind, shares=(0.6, 0.2, 0.2), rows=300) == len(table)
    if kind == "npz":
        with np.load(path, allow_pickle=False) as found:
            assert found["features"].tobytes() == table.features.tobytes()
            assert found["names"].tolist() == list(table.names)
            assert found["part"].tolist() == parts_of(table, split_positions(PLAN, hourly, (0.6, 0.2, 0.2))).tolist()
        return
    if kind == "parquet":
        read = pa_parquet.read_table(path)
    elif kind == "arrow":
        read = pa.ipc.open_stream(path).read_all()
    else:
        read = pa_csv.read_csv(path)
    assert read.column_names == ["origin", "key", *table.names, "+1", "+6", "weight", "part"]
    for name, column in zip(table.names, table.features.T, strict=True):
        np.testing.assert_allclose(read[name].to_numpy(), column, rtol=1e-12)
    np.testing.assert_allclose(read["weight"].to_numpy(), table.weights, rtol=1e-12)
    assert read["key"].to_pylist() == table.keys.tolist()
    assert set(read["part"].to_pylist()) == set(PARTS)


def test_no_part_learns_from_what_another_is_judged_on(hourly: Panel) -> None:
    table = PLAN.cut(hourly)
    borders = split_positions(PLAN, hourly, (0.6, 0.2, 0.2))
    parts = parts_of(table, borders)
    reach = max(PLAN.horizon)
    for place, name in enumerate(PARTS[:2]):
        assert (table.positions[parts == place] + reach < borders[place]).all(), name
    assert (table.positions[parts == 2] + 1 >= borders[1]).all()
    assert 0 < (parts == PARTS.index("gap")).sum() <= 2 * 2 * reach
    for bad in ((1.0,), (0.5, -0.1, 0.6), (0, 0, 0)):
        with pytest.raises(SettingsError):
            split_positions(PLAN, hourly, bad)


def test_a_data_card_says_what_the_table_is(hourly: Panel) -> None:
    card = json.loads(json.dumps(data_card(PLAN, hourly, Chain([ZScore()]), "d" * 64, 99)))
    assert card["shape"] == {"rows": 99, "features": 4, "targets": 2}
    assert card["features"][3] == {
        "name": "mean 24", "kind": "rolling", "reads_from": -23, "reads_to": 0, "whole_past": False,
    }  # fmt: skip
    assert card["targets"][0] == {"name": "+1", "unit": "flat"}
    assert WindowPlan.parse(card["plan"]) == PLAN


_WORK = """
import resource, sys
import numpy as np
from proteron.core.panel import Panel
from proteron.core.windows import Rolling, WindowPlan
from proteron.core.windows.taking import write_table
panel = Panel.from_arrays({"a": np.random.default_rng(0).normal(size=2_000_000)}, "1990-01-01", "1min")
plan = WindowPlan(lags=range(1, 33), rolling=[Rolling(s, w) for s in ("mean", "std", "min", "max") for w in (24, 168)])
write_table(plan, Panel.from_arrays({"a": panel.values[:5000]}, "1990-01-01", "1min"), sys.argv[1])
before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
assert write_table(plan, panel, sys.argv[1]) == 2_000_000 - 168
print((resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024)
"""


def test_a_table_larger_than_its_memory_is_written_in_pieces(tmp_path) -> None:  # type: ignore[no-untyped-def]
    """2,000,000 rows of 40 features are 640 MB; writing them takes a small part of that."""
    done = subprocess.run(
        [sys.executable, "-c", _WORK, str(tmp_path / "big.parquet")], capture_output=True, text=True, check=True
    )
    assert float(done.stdout) < 300
    assert pa_parquet.ParquetFile(tmp_path / "big.parquet").metadata.num_rows == 2_000_000 - 168
