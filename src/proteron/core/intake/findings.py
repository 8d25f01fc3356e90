"""Findings: what is wrong with the data, where, how often, and what can be done about it."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from proteron.core.errors import SettingsError

Severity = Literal["note", "warning", "error"]
_SHOWN = 20


@dataclass(frozen=True)
class Remedy:
    """Something that can be done: a stable name and what it does in words."""

    name: str
    label: str


LEAVE = Remedy("leave", "leave as it is")


@dataclass(frozen=True)
class Span:
    """Where on a series: key, first and one past the last grid position."""

    key: str
    start: int
    stop: int


@dataclass(frozen=True)
class Finding:
    """One thing found: its rows (from 0, at most 20), count, spans on series, remedies, and the one in force.

    `id` is the code, followed by the column or series it speaks of; remedies are chosen by it. An
    "error" changes or drops values and wants a choice; the first remedy is the proposed one.
    """

    code: str
    severity: Severity
    rows: tuple[int, ...]
    message: str
    count: int = 0
    about: str = ""
    spans: tuple[Span, ...] = ()
    remedies: tuple[Remedy, ...] = ()
    proposed: str = ""
    chosen: str = ""
    settled: bool = True

    @property
    def id(self) -> str:
        return f"{self.code}: {self.about}" if self.about else self.code

    def document(self) -> dict[str, Any]:
        """As plain data."""
        return {
            "id": self.id, "code": self.code, "severity": self.severity, "rows": list(self.rows),
            "message": self.message, "count": self.count, "about": self.about, "proposed": self.proposed,
            "chosen": self.chosen, "settled": self.settled,
            "remedies": [{"name": r.name, "label": r.label} for r in self.remedies],
            "spans": [{"key": s.key, "start": s.start, "stop": s.stop} for s in self.spans],
        }  # fmt: skip


@dataclass
class Ledger:
    """Collects findings in order and tells which remedy is in force for each."""

    choices: Mapping[str, str]
    trusting: bool = False  # the data was checked before: proposals are not applied
    found: list[Finding] = field(default_factory=list)

    def add(
        self,
        code: str,
        severity: Severity,
        message: str,
        rows: NDArray[Any] | Sequence[int] = (),
        count: int | None = None,
        about: str = "",
        spans: Sequence[Span] = (),
        remedies: Sequence[Remedy] = (),
    ) -> str:
        """Record a finding; returns the name of the remedy in force, empty when there is none.

        The first remedy is proposed, and in force where none is chosen.

        Raises `SettingsError` when a remedy was chosen that this finding does not have.
        """
        shown = tuple(int(row) for row in np.asarray(rows[:_SHOWN]))
        total = len(rows) if count is None else count
        draft = Finding(code, severity, shown, message, total, about, tuple(spans[:200]), tuple(remedies))
        proposed = remedies[0].name if remedies else ""
        names = [remedy.name for remedy in remedies]
        chosen = self.choices.get(draft.id) or self.choices.get(code) or proposed
        if names and chosen not in names:
            raise SettingsError(
                f"“{chosen}” is no remedy for “{draft.id}”; there are: {', '.join(names)}.", field="remedies"
            )
        given = draft.id in self.choices or code in self.choices
        settled = severity != "error" or given or len(names) < 2
        self.found.append(replace(draft, proposed=proposed, chosen=chosen, settled=settled))
        return chosen
