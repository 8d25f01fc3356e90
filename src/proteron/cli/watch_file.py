"""`proteron watch`: what is new of a file, taken point by point by what is known already."""

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

from proteron.cli.read_file import Asked
from proteron.core.anomalies import load_watching, watch
from proteron.core.anomalies.flags import flag_table
from proteron.core.errors import SettingsError
from proteron.core.table_files import FORMATS, written


def watch_file(file: Path, state: Path, out: Path | None, budget: Mapping[str, Any], asked: Asked) -> str:
    """Take what is new of `file`, keep what is known in `state`, and say what was raised; `out` gets all flags so far.

    The first file begins the state, and says how many flags are wanted. Nothing is kept where something does not go.
    """
    if out is not None and out.suffix.removeprefix(".") not in FORMATS:
        raise SettingsError(f"“{out.name}” ends in none of {', '.join(f'.{each}' for each in FORMATS)}.", field="out")
    known = load_watching(state) if state.exists() else None
    if known is None:
        panel = asked.read(file).panel
        found = watch(panel, **budget)
        raised = found.flags
    else:
        axis = known.axis
        panel = replace(asked, step=asked.step or str(axis.step), zone=asked.zone or axis.zone).read(file).panel
        found, raised = known, known.add(panel)
    part = state.with_name(state.name + ".part")
    try:
        found.save(part)
        part.replace(state)
    finally:
        part.unlink(missing_ok=True)
    if out is not None:
        out.write_bytes(written(flag_table(found.flags), out.suffix.removeprefix(".")))
    lines = [f"{flag.key}: {flag.sentence}" for flag in raised]
    return "\n".join([*lines, f"{found}; {len(raised)} of them now, {len(found.open)} go on."])
