"""From a long CSV to a stored dataset, events to buckets, stored series to arrays: ratios against plain yardsticks.

.venv/bin/python bench/intake.py [ROWS]
"""

import os
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.csv as pa_csv

import proteron as pt
from proteron.cli.cluster import Cluster
from proteron.core.intake.bucketing import count_events
from proteron.records.database import Database
from proteron.records.datasets import load_series, save_dataset
from proteron.records.projects import create_project
from proteron.records.schema import upgrade

KEYS, REPEATS = 200, 5


def write_csv(path: Path, rows: int) -> None:
    """Hourly values of 200 keys: time, key, value."""
    rng = np.random.default_rng(0)
    per_key = rows // KEYS
    times = np.datetime_as_string(np.datetime64("2021-01-01T00:00:00", "s") + np.arange(per_key) * 3600).tolist()
    with path.open("w") as file:
        file.write("time,key,value\n")
        for key in range(KEYS):
            values = rng.normal(50, 10, per_key).tolist()
            file.writelines(
                f"{t}Z,district {key:03d} of Port Ellery,{v:.6f}\n" for t, v in zip(times, values, strict=True)
            )


def resident() -> float:
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE") / 1e6


def timed(work: Callable[[], object]) -> float:
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


def paired(name: str, ours: Callable[[], object], yardstick: Callable[[], object], unit: str) -> None:
    """Median of the ratios of interleaved runs."""
    ours(), yardstick()
    ratios, alone = [], []
    for _ in range(REPEATS):
        alone.append(timed(ours))
        ratios.append(alone[-1] / timed(yardstick))
    low, high = min(ratios), max(ratios)
    middle = statistics.median(ratios)
    print(f"{name:52}{middle:6.2f} × {unit}  ({low:.2f} … {high:.2f}), {1e3 * statistics.median(alone):.1f} ms")


def store(path: Path, database: Database, names: list[int]) -> None:
    reading = pt.read_table(path)
    with database.session() as session:
        names.append(len(names))
        project = create_project(session, f"bench {len(names)}")
        save_dataset(session, project.id, "bench", reading)


def memory_of_reading(path: Path) -> float:
    """Peak of a fresh process while it reads, above what it has after a first small reading, in MB."""
    script = (
        "import sys, pyarrow as pa; pa.set_memory_pool(pa.system_memory_pool());"
        "sys.path.insert(0, sys.argv[2]); import intake as bench; print(bench.peak_of(sys.argv[1]))"
    )
    folder = str(Path(__file__).parent)
    return float(
        subprocess.run(
            [sys.executable, "-c", script, str(path), folder], capture_output=True, text=True, check=True
        ).stdout
    )


def peak_of(path: str) -> float:
    pt.read_table(b"time,key,value\n" + b"".join(f"2024-01-01T{h:02d}:00:00Z,a,{h}.5\n".encode() for h in range(24)))
    base, peak, stop = resident(), [0.0], threading.Event()

    def watch() -> None:
        while not stop.wait(0.003):
            peak[0] = max(peak[0], resident() - base)

    watcher = threading.Thread(target=watch)
    watcher.start()
    pt.read_table(path)
    stop.set()
    watcher.join()
    return peak[0]


def main(rows: int) -> None:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "long.csv"
        write_csv(path, rows)
        cluster = Cluster(Path(folder) / "home")
        cluster.start()
        upgrade(cluster.url)
        database = Database(cluster.url)
        names: list[int] = []
        print(f"{rows:,} rows, {path.stat().st_size / 1e6:.0f} MB, {KEYS} keys")
        paired(
            "CSV to a stored dataset",
            lambda: store(path, database, names),
            lambda: pa_csv.read_csv(path),
            "a bare parse",
        )
        peak = memory_of_reading(path)
        numbers = rows * 16 / 1e6
        print(f"{'peak memory of the reading':52}{peak / numbers:6.2f} × its times and values, {peak:.0f} MB")
        rng = np.random.default_rng(1)
        seconds = rng.integers(1_600_000_000, 1_600_000_000 + 3600 * 20_000, rows)
        codes = rng.integers(0, KEYS, rows).astype(np.int32)
        cells = (seconds - 1_600_000_000) // 3600 + codes.astype(np.int64) * 20_000

        def bucket() -> None:
            count_events(seconds, codes, 1_600_000_000, 3600, 20_000, np.zeros(KEYS * 20_000, dtype=np.int32))

        paired(
            f"{rows:,} events to hours per key", bucket, lambda: np.bincount(cells, minlength=KEYS * 20_000), "bincount"
        )
        values = rng.normal(size=1_000_000)
        reading = pt.core.intake.TableReading(pt.Panel.from_arrays({"a": values}, "2000-01-01", "1h"), (), {})  # type: ignore[attr-defined]
        with database.session() as session:
            stored = save_dataset(session, create_project(session, "one").id, "one", reading).id
        with database.session() as session:
            paired(
                "a stored series of 1,000,000 points to an array",
                lambda: load_series(session, stored, 0),
                values.copy,
                "a copy",
            )
        database.close()
        cluster.stop()
    pa.default_memory_pool().release_unused()


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 5_000_000)
