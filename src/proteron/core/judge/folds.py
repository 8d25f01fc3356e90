"""Folds: remembered positions of the cutoff, each with learned parts, a gap and scored spans."""

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from proteron.core.documents import Settings
from proteron.core.errors import TooShortError
from proteron.core.panel import Panel
from proteron.core.timeline import Ints

Spans = tuple[tuple[int, int], ...]
_STEPS: dict[str, Any] = {"unit": "steps"}


@dataclass(frozen=True)
class Fold:
    """Grid positions: learned from `learn_start` up to `cutoff`, scored in `score_start` ≤ p < `score_stop`.

    Forecasts start at `cutoff` and every `every` steps after it, `gap` steps are skipped, then `horizon` steps are
    scored. `learned_at` is the earlier cutoff whose parameters are used, where this fold does not learn its own. Where
    `learned` or `scored` name spans (start, stop), only what lies in them is learned from, or scored.
    """

    learn_start: int
    cutoff: int
    gap: int
    horizon: int
    every: int
    score_stop: int
    learned_at: int | None = None
    learned: Spans = ()
    scored: Spans = ()

    @property
    def score_start(self) -> int:
        """The first grid position that may be scored."""
        return self.cutoff + self.gap

    @property
    def fit_until(self) -> int:
        """The cutoff whose parameters are used."""
        return self.cutoff if self.learned_at is None else self.learned_at

    @property
    def reach(self) -> int:
        """Steps after an origin up to the last one scored."""
        return self.gap + self.horizon

    @property
    def origins(self) -> Ints:
        """Origins whose first scored step lies in a scored span."""
        stop = max(self.score_stop - self.gap, self.cutoff + 1)
        origins = np.arange(self.cutoff, stop, self.every, dtype=np.int64)
        if not self.scored:
            return origins
        return origins[self.is_scored(origins + self.gap)]

    def is_scored(self, positions: Ints) -> NDArray[np.bool_]:
        """Which grid positions (any shape) are scored in this fold."""
        inside = (positions >= self.score_start) & (positions < self.score_stop)
        return inside & within(positions, self.scored) if self.scored else inside

    def inside(self, panel: Panel) -> Panel:
        """What this fold may touch of `panel`: nothing before it learns or after it scores."""
        found = panel.between(self.learn_start, self.score_stop)
        return found.learned_in(self.learned) if self.learned else found

    def document(self) -> dict[str, Any]:
        """As plain data; what is not used is not named, so that plain folds keep their hash."""
        return {name: value for name, value in asdict(self).items() if value is not None and value != ()}

    @classmethod
    def from_document(cls, document: dict[str, Any]) -> "Fold":
        """Read what `document` wrote."""
        given = dict(document)
        for name in ("learned", "scored"):
            if name in given:
                given[name] = tuple((int(start), int(stop)) for start, stop in given[name])
        return cls(**given)

    def fit_document(self) -> dict[str, Any]:
        """What of a fold its parameters depend on."""
        found: dict[str, Any] = {"learn_start": self.learn_start, "until": self.fit_until, "reach": self.reach}
        return found | ({"learned": self.learned} if self.learned else {})


def within(positions: Ints, spans: Spans) -> NDArray[np.bool_]:
    """Which positions (any shape) lie in one of the spans (start, stop)."""
    found = np.zeros(np.shape(positions), dtype=bool)
    for start, stop in spans:
        found |= (positions >= start) & (positions < stop)
    return found


def learned_by(folds: Sequence[Fold], origin: int) -> int | None:
    """Which fold (its place) had learned last as of `origin` known grid positions; None before the first cutoff."""
    known = [place for place, fold in enumerate(folds) if fold.cutoff <= origin]
    return max(known, key=lambda place: folds[place].cutoff) if known else None


class Folds(Settings):
    """How the cutoff walks forward; by default the scored spans lie end to end and reach the last point."""

    kind: Literal["expanding", "sliding"] = Field("expanding", title="Learned part")
    count: int = Field(8, ge=1, le=1000, title="Folds")
    horizon: int = Field(24, ge=1, title="Horizon", description="How far ahead is scored.", json_schema_extra=_STEPS)
    gap: int = Field(
        0, ge=0, title="Gap", description="Between the cutoff and the first that is scored.", json_schema_extra=_STEPS
    )
    span: int | None = Field(
        None, ge=1, title="Scored span", description="Empty: the horizon.", json_schema_extra=_STEPS
    )
    every: int | None = Field(
        None, ge=1, title="Origin every", description="Empty: the horizon.", json_schema_extra=_STEPS
    )
    spacing: int | None = Field(
        None, ge=1, title="Fold every", description="Empty: the scored span.", json_schema_extra=_STEPS
    )
    length: int | None = Field(
        None, ge=2, title="Learned length", description="Sliding only: how much is learned from.",
        json_schema_extra=_STEPS,
    )  # fmt: skip
    refit: int = Field(
        1, ge=1, title="Learn anew every", description="In between the state moves on with the data, unlearned.",
        json_schema_extra={"unit": "folds", "advanced": True},
    )  # fmt: skip

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
        cutoffs = range(first, last + 1, spacing)
        folds = []
        for place, cutoff in enumerate(cutoffs):
            learned_at = cutoffs[place - place % self.refit]
            sliding = max(learned_at - length, earliest)
            folds.append(
                Fold(
                    learn_start=sliding if self.kind == "sliding" else earliest,
                    cutoff=cutoff,
                    gap=self.gap,
                    horizon=self.horizon,
                    every=self.every or self.horizon,
                    score_stop=cutoff + self.gap + span,
                    learned_at=None if learned_at == cutoff else learned_at,
                )
            )
        return folds
