"""Flags used: masks or repaired values in the next version of the data, and tables to take away."""

from collections.abc import Mapping, Sequence
from typing import Any, Literal

import numpy as np
import pyarrow as pa
from sqlalchemy.orm import Session

from proteron.core.anomalies import Anomalies, Flag, Scores
from proteron.core.errors import SettingsError
from proteron.core.flatten import WithoutAnomalies
from proteron.core.forecasters.blend.forecaster import Blend
from proteron.core.intake import Edit, edit_panel
from proteron.core.intake.reading import TableReading, account_facts
from proteron.core.intake.recipe import MaskedSpan
from proteron.core.panel import Panel
from proteron.records import findings
from proteron.records import scans as records
from proteron.records.datasets import get_dataset, save_dataset
from proteron.records.experiments import get_experiment
from proteron.records.models import Scan
from proteron.records.projects import choose
from proteron.services.anomalies.shown import Shown, show
from proteron.services.experiments import create_and_start, judging_of
from proteron.services.resources import Resources


def use(reach: Resources, scan_id: int, way: Literal["mask", "repair"], which: Literal["right", "not_wrong"]) -> int:
    """Flagged spans masked, or repaired by what was expected, in the next version of the data, which the project then
    stands on; returns its number. Raises `SettingsError` where nothing would change."""
    shown = show(reach, scan_id)
    wanted = {"right"} if which == "right" else {"right", "open"}
    flags = *(
        flag for flag, of in zip(shown.flags, shown.said, strict=True)
        if (of.verdict if of else "open") in wanted and not flag.stays
    ), *shown.labels  # fmt: skip
    if not flags:
        raise SettingsError("There is no flag to use: none is called right.", field="which")
    with reach.database.session() as session:
        scan = records.get_scan(session, scan_id)
        parent = get_dataset(session, scan.dataset_id)
        panel = reach.panel(scan.dataset_id)
        reading = (
            edit_panel(panel, Edit(masks=_masks(shown, flags)), parent.account) if way == "mask"
            else _repaired(session, scan, panel, flags, parent.account)
        )  # fmt: skip
        made = save_dataset(session, parent.project_id, parent.name, reading, parent_id=parent.id)
        choose(session, parent.project_id, {"dataset_id": made.id})
        return made.id


def _masks(shown: Shown, flags: Sequence[Flag]) -> tuple[MaskedSpan, ...]:
    spans = []
    for flag in flags:
        start, stop = shown.span(flag)
        first, last = shown.panel.axis.times(np.array([start, stop - 1]))
        spans.append(MaskedSpan(start=f"{first}Z", end=f"{last}Z", reason=flag.kind, series=flag.key))
    return tuple(spans)


def _repaired(
    session: Session, scan: Scan, panel: Panel, flags: Sequence[Flag], account: Mapping[str, Any]
) -> TableReading:  # fmt: skip
    expected = np.full(len(panel.values), np.nan)
    for index in {panel.index(flag.key) for flag in flags}:
        scores = findings.load_scores(session, scan.id, index)
        if scores is not None:
            at = int(panel.offsets[index])
            expected[at : at + len(scores[0])] = scores[0]
    found = Anomalies(Scores(panel, expected, expected), {}, tuple(flags), scan.document["mode"])
    repaired = found.repaired()
    if repaired.hash == panel.hash:
        raise SettingsError("Nothing was expected where the flags are, so nothing can be repaired.", field="way")
    spans = [
        {"key": flag.key, "since": flag.time, "points": flag.stop - flag.start, "kind": flag.kind} for flag in flags
    ]
    edits = [*account.get("edits", ()), {"repaired": spans, "by": scan.document}]
    return TableReading(repaired, (), {**account, **account_facts(repaired), "edits": edits})


CLEANED = "{}, without anomalies"


def compare(reach: Resources, scan_id: int, experiment_id: int) -> int:
    """A new experiment on the data of a scan, in which every contender of another one also learns without what is
    flagged as of each cutoff; started, and returns its number. Raises `SettingsError` where none could."""
    with reach.database.session() as session:
        scan, source = records.get_scan(session, scan_id), get_experiment(session, experiment_id)
        judging, name = judging_of(source), source.name
        project_id, dataset_id = scan.project_id, scan.dataset_id
    entries = list(judging.contenders)
    there = {each.name for each in entries}
    for each in judging.contenders:
        plain = not isinstance(each.forecaster, Blend) and not any(isinstance(s, WithoutAnomalies) for s in each.chain)
        if plain and each.name != judging.chosen_baseline and CLEANED.format(each.name) not in there:
            chain = (WithoutAnomalies(), *each.chain)
            entries.append(each.model_copy(update={"name": CLEANED.format(each.name), "chain": chain}))
    if len(entries) == len(judging.contenders):
        said = "No contender of this experiment could learn without anomalies that does not already."
        raise SettingsError(said, field="experiment_id")
    both = judging.model_copy(update={"contenders": tuple(entries)})
    return create_and_start(reach, project_id, dataset_id, "judge", f"{name}, with and without anomalies"[:200], both)


def table_of(shown: Shown) -> pa.Table:
    """One row per flag: time (UTC), key, last point, when it was raised, kind, score, what came, what was expected,
    once in how many points, what was said, by whom, and a sentence."""
    rows = []
    for flag, of in zip(shown.flags, shown.said, strict=True):
        since, until, raised = findings.times_of(shown.panel, flag)
        rows.append({
            "time": since, "key": flag.key, "last": until, "raised": raised, "points": flag.stop - flag.start,
            "kind": (of.kind if of else None) or flag.kind, "score": flag.score, "observed": flag.observed,
            "expected": flag.expected, "once_in": flag.once_in, "verdict": of.verdict if of else "open",
            "note": of.note if of else "", "by": of.by if of else "", "what": flag.sentence,
        })  # fmt: skip
    return pa.Table.from_pylist(rows, schema=_TABLE)


_STAMP, _TEXT, _NUMBER = pa.timestamp("s", tz="UTC"), pa.string(), pa.float64()
_TABLE = pa.schema([
    ("time", _STAMP), ("key", _TEXT), ("last", _STAMP), ("raised", _STAMP), ("points", pa.int64()), ("kind", _TEXT),
    ("score", _NUMBER), ("observed", _NUMBER), ("expected", _NUMBER), ("once_in", _NUMBER), ("verdict", _TEXT),
    ("note", _TEXT), ("by", _TEXT), ("what", _TEXT),
])  # fmt: skip
