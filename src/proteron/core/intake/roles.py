"""Roles: what each column is for, guessed with a reason and changed by the user."""

from dataclasses import dataclass
from typing import Literal

import numpy as np
import pyarrow.compute as pc

from proteron.core.intake.columns import as_numbers, as_times
from proteron.core.intake.delimited import RawTable

Role = Literal["time", "key", "target", "observed", "known_ahead", "static", "ignore"]
ROLES: tuple[Role, ...] = ("time", "key", "target", "observed", "known_ahead", "static", "ignore")
_SAMPLE = 2000
_TIME_WORDS = ("time", "date", "when", "day", "month", "year", "hour", "stamp")


@dataclass(frozen=True)
class RoleGuess:
    """A column's role with the reason in words."""

    column: str
    role: Role
    reason: str


def guess_roles(raw: RawTable) -> list[RoleGuess]:
    """One role per column: the most time-like is the time, repeated text a key, the first number the target."""
    sample = raw.columns.slice(0, _SAMPLE)
    time = _time_column(raw)
    guesses = []
    target_found = False
    for name in raw.names:
        if name == time:
            guesses.append(RoleGuess(name, "time", "reads as a time in every row sampled"))
            continue
        numbers, left_over = as_numbers(sample[name])
        share = float(np.isfinite(numbers).mean())
        if not left_over.any() and share > 0:
            role: Role = "observed" if target_found else "target"
            reason = "numbers; the first such column" if not target_found else "numbers beside the target"
            target_found = True
            guesses.append(RoleGuess(name, role, reason))
        elif share == 0 and not left_over.any():
            guesses.append(RoleGuess(name, "ignore", "nothing in it"))
        else:
            distinct = len(pc.unique(sample[name]))
            repeated = distinct <= max(1, sample.num_rows // 2)
            reason = f"text with {distinct} different values" + ("" if repeated else ", hardly repeated")
            guesses.append(RoleGuess(name, "key" if repeated else "ignore", reason))
    return guesses


def _time_column(raw: RawTable) -> str | None:
    """The column that reads as times throughout; a fitting name breaks ties, bare numbers need one."""
    best: tuple[tuple[bool, int], str] | None = None
    sample = raw.columns.slice(0, _SAMPLE)
    for position, name in enumerate(raw.names):
        times, left_over = as_times(sample[name])
        if left_over.any() or np.isnat(times).mean() > 0.5:
            continue
        named = any(word in name.lower() for word in _TIME_WORDS)
        if not named and np.isfinite(as_numbers(sample[name])[0]).any():
            continue
        rank = (named, -position)
        if best is None or rank > best[0]:
            best = (rank, name)
    return best[1] if best else None
