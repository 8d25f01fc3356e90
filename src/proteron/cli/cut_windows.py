"""`proteron windows`: from a file of series to a file of rows."""

import json
from pathlib import Path

from proteron.cli.read_file import Asked
from proteron.core.errors import SettingsError
from proteron.core.flatten import Chain
from proteron.core.leak_check import leak_check
from proteron.core.windows import read_plan
from proteron.core.windows.taking import Format, data_card, write_table

_ENDINGS: dict[str, Format] = {".parquet": "parquet", ".arrows": "arrow", ".csv": "csv", ".npz": "npz"}


def cut_windows(
    file: Path, plan_text: str, out: Path, shares: tuple[float, float, float] | None, card: Path | None, check: bool,
    asked: Asked,
) -> str:  # fmt: skip
    """Write the table of `file` to `out` and say what it is; a file that exists is only replaced when all went well.

    Findings that nobody settled are said first.
    """
    if out.suffix not in _ENDINGS:
        raise SettingsError(f"“{out.name}” ends in none of {', '.join(_ENDINGS)}.", field="out")
    plan = read_plan(plan_text)
    reading = asked.read(file)
    panel = reading.panel
    plan.check(panel)
    open_questions = "".join(f"! {each.id}: {each.message}\n" for each in reading.unsettled)
    said = ""
    if check:
        found = leak_check(panel, plan)
        if not found.passed:
            names = ", ".join(sorted({each["what"] for each in found.evidence["leaks"]}))
            raise SettingsError(f"The plan leaks: {names or 'no cell could be compared'}. Nothing was written.")
        said = f" Leak check passed: {found.evidence['cells']:,} cells at {found.evidence['origins']} origins."
    part = out.with_name(out.name + ".part")
    try:
        rows = write_table(plan, panel, part, _ENDINGS[out.suffix], shares)
        part.replace(out)
    finally:
        part.unlink(missing_ok=True)
    if card is not None:
        facts = data_card(plan, panel, Chain(), panel.hash, rows)
        card.write_text(json.dumps(facts, indent=1, ensure_ascii=False) + "\n", encoding="utf-8")
    return f"{open_questions}{rows:,} rows, {len(plan.names)} features, {len(plan.horizon)} targets.{said}"
