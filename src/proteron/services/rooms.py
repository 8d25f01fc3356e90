"""The state of a project's rooms: empty, current, or out of date and why; and what made a version of its data."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Literal

from proteron.records.models import Experiment, OutlookRecord, Scan


@dataclass(frozen=True)
class RoomState:
    state: Literal["empty", "current", "outdated"]
    reason: str = ""


_EMPTY, _CURRENT = RoomState("empty"), RoomState("current")


def made_by(account: dict[str, Any]) -> str:
    """What made a version, in a few words."""
    edits = account.get("edits", ())
    if not edits:
        files = account.get("files") or ()
        return f"read from {len(files)} files" if files else f"read as {account.get('reader', 'a table')}"
    words = {
        "unmask": "mask taken off", "unfill": "fills taken out", "exclude": "series left out", "coarser": "summed up",
        "resampling": "another step", "filling_of": "gaps filled", "masks": "span masked", "occasions": "occasions",
        "holidays": "public holidays", "repaired": "flagged values repaired",
    }  # fmt: skip
    said = [text for name, text in words.items() if edits[-1].get(name)]
    if edits[-1].get("filling", {}).get("method", "leave") != "leave":
        said.append("gaps filled")
    return ", ".join(said) or "changed"


def room_states(
    choices: Mapping[str, Any],
    experiments: Mapping[int, Experiment],
    scans: Mapping[int, Scan],
    outlooks: Mapping[int, OutlookRecord],
) -> dict[str, RoomState]:
    """A room is out of date when what it shows was made from something other than the present choice upstream."""
    dataset = choices.get("dataset_id")
    rooms = dict.fromkeys(("intake", "profile"), _CURRENT if dataset else _EMPTY)
    rooms["flatten"] = _CURRENT if dataset and choices.get("chain") else _EMPTY
    rooms["windows"] = _CURRENT if dataset and choices.get("plan") else _EMPTY
    made: dict[str, Experiment | Scan | None] = {
        "walkforward": experiments.get(choices.get("experiment_id", 0)),
        "anomalies": scans.get(choices.get("scan_id", 0)),
    }
    for name, shown in made.items():
        rooms[name] = _EMPTY
        if shown is not None:
            stale = shown.dataset_id != dataset
            rooms[name] = RoomState("outdated", "made from another version of the data") if stale else _CURRENT
    rooms["outlook"] = _EMPTY
    outlook = outlooks.get(choices.get("outlook_id", 0))
    if outlook is not None:
        source = experiments.get(outlook.experiment_id)
        stale = source is None or outlook.dataset_id != dataset or source.id != choices.get("experiment_id")
        reason = "made from another experiment or version of the data"
        rooms["outlook"] = RoomState("outdated", reason) if stale else _CURRENT
    return rooms
