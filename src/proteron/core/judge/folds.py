"""Folds: remembered positions of the cutoff, each with a learned part, a gap and a scored span."""

from dataclasses import asdict, dataclass
from typing import Any, Literal

import numpy as np
from pydantic import Field

from proteron.core.documents import Settings
from proteron.core.errors import TooShortError
from proteron.core.panel import Panel
from proteron.core.timeline import Ints


@dataclass(frozen=True)
class Fold:
    """Grid positions: learned from `learn_start` up to `cutoff`, scored in `score_start` ≤ p < `score_stop`.

    Forecasts start at `cutoff` and every `every` steps after it, `gap` steps are skipped, then
    `horizon` steps are scored.
    """

    learn_start: int
    cutoff: int
    gap: int
    horizon: int
    every: int
    score_stop: int

    @property
    def score_start(self) -> int:
        return self.cutoff + self.gap

    @property
    def origins(self) -> Ints:
        """Origins whose first scored step lies in the span."""
        return np.arange(self.cutoff, max(self.score_stop - self.gap, self.cutoff + 1), self.every, dtype=np.int64)

    def document(self) -> dict[str, int]:
        return asdict(self)


class Folds(Settings):
    """How the cutoff walks forward; by default the scored spans lie end to end and reach the last point."""

    kind: Literal["expanding", "sliding"] = Field("expanding", title="Learned part")
    count: int = Field(8, ge=1, le=1000, title="Folds")
    horizon: int = Field(24, ge=1, title="Horizon", description="Steps ahead that are scored.")
    gap: int = Field(0, ge=0, title="Gap", description="Steps between the cutoff and the first scored one.")
    span: int | None = Field(None, ge=1, title="Scored span", description="Steps; empty: the horizon.")
    every: int | None = Field(None, ge=1, title="Origin every", description="Steps; empty: the horizon.")
    spacing: int | None = Field(None, ge=1, title="Fold every", description="Steps; empty: the scored span.")
    length: int | None = Field(None, ge=2, title="Learned length", description="Sliding only: steps learned from.")

    @classmethod
    def expanding(cls, count: int = 8, horizon: int = 24, gap: int = 0, **rest: Any) -> "Folds":
        """Each fold learns from the start of the data up to its cutoff."""
        return cls.parse({"kind": "expanding", "count": count, "horizon": horizon, "gap": gap, **rest})

    @classmethod
    def sliding(
        cls, count: int = 8, horizon: int = 24, gap: int = 0, length: int | None = None, **rest: Any
    ) -> "Folds":
        """Each fold learns from the last `length` steps before its cutoff."""
        return cls.parse(
            {"kind": "sliding", "count": count, "horizon": horizon, "gap": gap, "length": length, **rest}
        )  # fmt: skip

    def resolve(self, panel: Panel) -> list[Fold]:
        """Positions on this panel, earliest first; raises `TooShortError` when they do not fit."""
        span = self.span or self.horizon
        spacing = self.spacing or span
        last = panel.end - self.gap - span
        first = last - (self.count - 1) * spacing
        earliest = int(panel.starts.min())
        if first - earliest < 2:
            raise TooShortError(
                f"{self.count} folds of {span} steps every {spacing}, with a gap of {self.gap}, need more than "
                f"{panel.end - earliest} steps: the first would have nothing to learn from.",
                field="folds",
            )
        length = self.length or (first - earliest)
        return [
            Fold(
                learn_start=max(cutoff - length, earliest) if self.kind == "sliding" else earliest,
                cutoff=cutoff,
                gap=self.gap,
                horizon=self.horizon,
                every=self.every or self.horizon,
                score_stop=cutoff + self.gap + span,
            )
            for cutoff in range(first, last + 1, spacing)
        ]
