"""What is said of flags, and how many are wanted; the table of flags follows."""

from collections.abc import Sequence
from typing import Literal

import numpy as np

from proteron.core.anomalies import Budget
from proteron.core.errors import SettingsError
from proteron.core.panel import Panel
from proteron.records import findings
from proteron.records import scans as records
from proteron.records.models import Verdict
from proteron.services.anomalies.shown import found_in, panel_of
from proteron.services.resources import Resources


def set_budget(reach: Resources, scan_id: int, budget: Budget) -> None:
    """Keep how many flags are wanted; raises `SettingsError` for what is not possible."""
    budget.check()
    with reach.database.session() as session:
        scan = records.get_scan(session, scan_id, lock=True)
        scan.budget = vars(budget)
        records.tell_scan(session, scan)
    _write(reach, scan_id)


def _write(reach: Resources, scan_id: int) -> None:
    """Have the table of flags say what the room says."""
    with reach.database.session() as session:
        scan = records.get_scan(session, scan_id, lock=True)
        findings.refresh_rows(session, scan, panel_of(reach, scan), found_in(reach, session, scan))


def judge(
    reach: Resources, scan_id: int, spans: Sequence[tuple[str, int, int]], verdict: Literal["right", "wrong", "open"],
    kind: str | None, note: str, by: str, adjusted: bool = False,
) -> Verdict:  # fmt: skip
    """Keep what somebody says of spans (key, from, to before, on the grid), flagged or not; `adjusted`: what is flagged
    there reaches just so far. Raises `SettingsError` for a span that is not there."""
    with reach.database.session() as session:
        scan = records.get_scan(session, scan_id)
        panel = reach.panel(scan.dataset_id)
        document = {
            "spans": [_span(panel, *span) for span in spans], "verdict": verdict, "kind": kind, "note": note,
            "adjusted": adjusted,
        }  # fmt: skip
        made = findings.add_verdict(session, scan, document, by)
    _write(reach, scan_id)
    return made


def _span(panel: Panel, key: str, start: int, stop: int) -> dict[str, str]:
    if key not in panel.keys:
        raise SettingsError(f"There is no series “{key}”.", field="key")
    index = panel.index(key)
    first = int(panel.starts[index])
    if not first <= start < stop <= first + int(panel.lengths[index]):
        raise SettingsError(f"This is no span of “{key}”.", field="start")
    since, until = panel.axis.times(np.array([start, stop - 1]))
    return {"key": key, "since": f"{since}Z", "until": f"{until}Z"}


def undo(reach: Resources, scan_id: int) -> Verdict:
    """Take back what was said last; raises `NotFoundError` where nothing is left."""
    with reach.database.session() as session:
        undone = findings.undo_verdict(session, records.get_scan(session, scan_id))
    _write(reach, scan_id)
    return undone
