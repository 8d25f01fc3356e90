"""What is known of entrants besides their losses: family, cost, and why anything is missing."""

from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class Failure:
    """Why an entrant has no forecast: a cell that failed, or (with `series`) a series it declined; folds from 0."""

    contender: str
    fold: int
    reason: str
    series: str | None = None

    @property
    def place(self) -> str:
        """Where, in words: “name, fold 1”."""
        return f"{self.contender}, fold {self.fold + 1}" + ("" if self.series is None else f", {self.series}")


@dataclass(frozen=True)
class Reason:
    """A reason that stands for missing forecasts: in how many folds (from 0) and of which series; none: of all."""

    text: str
    folds: tuple[int, ...]
    series: tuple[str, ...]


@dataclass(frozen=True)
class EntrantFacts:
    """What the board says of an entrant besides its errors."""

    name: str
    family: str
    cells: int = 0
    failed: int = 0
    seconds: float = 0.0
    cpu_seconds: float = 0.0
    failures: tuple[Failure, ...] = ()


def reasons_of(failures: Sequence[Failure]) -> tuple[Reason, ...]:
    """Failures gathered by their text, the most frequent first."""
    found: dict[str, list[Failure]] = {}
    for each in failures:
        found.setdefault(each.reason, []).append(each)
    ordered = sorted(found.items(), key=lambda item: -len(item[1]))
    return tuple(
        Reason(
            text,
            tuple(sorted({each.fold for each in of_text})),
            tuple(dict.fromkeys(each.series for each in of_text if each.series is not None)),
        )
        for text, of_text in ordered
    )
