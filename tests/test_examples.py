"""Every example runs as it stands, on the demo's files."""

import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]


def test_the_examples_run_one_after_the_other(tmp_path: Path) -> None:
    from port_ellery import write_demo

    write_demo(tmp_path, 1871)
    examples = sorted((ROOT / "examples").glob("*.py"))
    assert len(examples) == 7
    for example in examples:
        run = subprocess.run(
            [sys.executable, str(example), str(tmp_path)], cwd=tmp_path, capture_output=True, text=True, check=False
        )
        assert run.returncode == 0, f"{example.name}: {run.stderr}"
        assert run.stdout
