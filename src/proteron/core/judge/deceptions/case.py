"""What is looked at when one asks whether an entrant's numbers deceive."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from proteron.core.judge.cell import CellResult
from proteron.core.judge.compared import Pair
from proteron.core.judge.evidence import Sample, sample_of
from proteron.core.judge.folds import Fold
from proteron.core.judge.losses import Losses, Told
from proteron.core.panel import Floats, Panel


@dataclass(frozen=True)
class Deception:
    """A way in which `contender`'s numbers deceive: its `kind`, a title of a few words, and a sentence with figures."""

    contender: str
    kind: str
    title: str
    text: str


@dataclass(frozen=True)
class Outcome:
    """What an entrant forecast: `mean`, `flat_mean` and `flat_truth` are (n_folds, n_series, n_origins, horizon), NaN
    where there is nothing; `spread` (n_folds, n_series) is that of one-step flat errors inside what was learned."""

    mean: Floats
    flat_mean: Floats
    flat_truth: Floats
    spread: Floats

    @classmethod
    def empty(cls, folds: Sequence[Fold], series: int) -> "Outcome":
        """Nothing forecast yet."""
        shape = Losses.empty("", ("",), folds, series).values.shape[1:]
        mean, flat_mean, flat_truth = (np.full(shape, np.nan) for _ in range(3))
        return cls(mean, flat_mean, flat_truth, np.full(shape[:2], np.nan))

    def put(self, fold: int, series: Sequence[int], result: "Outcome") -> None:
        """Take in what one cell forecast (n_series, n_origins, horizon), while the whole is being gathered."""
        for whole, part in (
            (self.mean, result.mean), (self.flat_mean, result.flat_mean), (self.flat_truth, result.flat_truth)
        ):  # fmt: skip
            whole[fold][list(series), : part.shape[1], : part.shape[2]] = part
        self.spread[fold, list(series)] = result.spread


def gather_outcomes(results: Iterable[CellResult], folds: Sequence[Fold], series: int) -> dict[str, Outcome]:
    """What every entrant forecast, by name."""
    found: dict[str, Outcome] = {}
    for each in results:
        part = Outcome(each.mean, each.flat_mean, each.flat_truth, each.spread)
        if each.cell.name not in found:
            found[each.cell.name] = Outcome.empty(folds, series)
        found[each.cell.name].put(each.cell.fold, each.cell.series, part)
    return found


@dataclass(frozen=True)
class Case:
    """An entrant and the baseline it is held against, by all losses; skill is told by `metric`.

    What was made `elsewhere` was brought as a table of forecasts.
    """

    name: str
    naive: bool
    baseline: str
    metric: str
    told: Told
    folds: tuple[Fold, ...]
    panel: Panel
    outcome: Outcome | None = None
    levels: tuple[float, ...] = ()
    elsewhere: bool = False

    @property
    def compared(self) -> Losses:
        return self.told[self.metric]

    @cached_property
    def pair(self) -> Pair:
        return Pair.of(self.compared, self.name, self.baseline)

    @cached_property
    def skill(self) -> float:
        """Over common points; NaN where there is none."""
        return float(self.pair.skill(0, 1, 2))

    @cached_property
    def sample(self) -> Sample:
        """Its losses and the baseline's by block."""
        return sample_of(self.compared, [self.name, self.baseline], self.folds)

    @cached_property
    def squares(self) -> Floats:
        """Squared errors (n_folds, n_series, n_origins, horizon), NaN where nothing is scored."""
        return self.told.kept("rmse").of(self.name)

    def says(self, kind: str, title: str, text: str) -> Deception:
        return Deception(self.name, kind, title, text)
