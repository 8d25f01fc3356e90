"""Folds: remembered positions of the cutoff, each with learned parts, a gap and scored spans."""

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from proteron.core.panel import Panel, within
from proteron.core.timeline import Ints

Spans = tuple[tuple[int, int], ...]


@dataclass(frozen=True)
class Fold:
    """Grid positions: learned from `learn_start` up to `cutoff`, scored in `score_start` ≤ p < `score_stop`.

    Forecasts start at `cutoff` and every `every` steps after it, `gap` steps are skipped, then `horizon` steps are
    scored. `learned_at` is the earlier cutoff whose parameters are used, where this fold does not learn its own. Where
    `learned` or `scored` name spans (start, stop), only what lies in them is learned from, or scored; what lies in
    `hidden` ones is never known. `steps` are the steps ahead that are scored, counted from the origin; none: all.
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
    hidden: Spans = ()
    steps: tuple[int, ...] = ()

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

    @property
    def chosen(self) -> NDArray[np.bool_]:
        """Which of the steps after the gap are scored, (horizon,)."""
        ahead = self.gap + 1 + np.arange(self.horizon)
        return np.isin(ahead, self.steps) if self.steps else np.ones(self.horizon, dtype=bool)

    def known(self, panel: Panel, origin: int) -> Panel:
        """What this fold knows of `panel` as of `origin`: nothing before it learns, and nothing that is hidden."""
        found = panel.between(self.learn_start, origin)
        found = found.without(self.hidden) if self.hidden else found
        return found.learned_in(self.learned) if self.learned else found

    def inside(self, panel: Panel) -> Panel:
        """What this fold may touch of `panel`: nothing after it scores, either."""
        return self.known(panel, self.score_stop)

    def document(self) -> dict[str, Any]:
        """As plain data; what is not used is not named, so that plain folds keep their hash."""
        return {name: value for name, value in asdict(self).items() if value is not None and value != ()}

    @classmethod
    def from_document(cls, document: dict[str, Any]) -> "Fold":
        """Read what `document` wrote."""
        given = dict(document)
        for name in ("learned", "scored", "hidden"):
            if name in given:
                given[name] = tuple((int(start), int(stop)) for start, stop in given[name])
        if "steps" in given:
            given["steps"] = tuple(int(step) for step in given["steps"])
        return cls(**given)

    def fit_document(self) -> dict[str, Any]:
        """What of a fold its parameters depend on."""
        found: dict[str, Any] = {"learn_start": self.learn_start, "until": self.fit_until, "reach": self.reach}
        spans = {"learned": self.learned, "hidden": self.hidden}
        return found | {name: each for name, each in spans.items() if each}


def learned_by(folds: Sequence[Fold], origin: int) -> int | None:
    """Which fold (its place) had learned last as of `origin` known grid positions; None before the first cutoff."""
    known = [place for place, fold in enumerate(folds) if fold.cutoff <= origin]
    return max(known, key=lambda place: folds[place].cutoff) if known else None


def origins_of(folds: Sequence[Fold]) -> tuple[tuple[Ints, Ints], Ints]:
    """Places (fold, origin) of the origins of all folds in the order of time, and their positions."""
    fold = np.concatenate([np.full(len(each.origins), place) for place, each in enumerate(folds)])
    inside = np.concatenate([np.arange(len(each.origins)) for each in folds])
    origins = np.concatenate([each.origins for each in folds])
    order = np.argsort(origins, kind="stable")
    return (fold[order], inside[order]), origins[order]
