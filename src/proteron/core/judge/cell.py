"""What a cell is, what was learned in it, and what it found."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from proteron.core.errors import OutdatedError
from proteron.core.forecasters import Contender, FittedContender
from proteron.core.forecasters.forecast import quantile_rows
from proteron.core.judge.folds import Fold
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints

LEVELS = (0.5, 0.8, 0.95)
_ROUNDING = 1e-9  # of the largest value known: a spread below it is what rounding leaves


@dataclass(frozen=True)
class Cell:
    """One unit of work; `key` is a hash of everything its result depends on, `fit_key` of what is learned in it.

    `needs` are keys of cells whose results it reads: its own of earlier folds, where they correct its ranges, and those
    of members, where it is a blend. `levels` are the ranges that are asked for at every origin. Cells of one `batch`
    gain by being computed together.
    """

    name: str
    contender: Contender
    fold: int
    place: Fold
    series: tuple[int, ...]
    key: str
    fit_key: str
    needs: tuple[str, ...] = ()
    levels: tuple[float, ...] = LEVELS

    @property
    def seed(self) -> int:
        """Derived from what is learned, so that order and parallelism never change a number."""
        return int(self.fit_key[:8], 16)

    @property
    def batch(self) -> str:
        """What cells share that gain by being computed together."""
        contender = self.contender
        together = contender.forecaster.batched or contender.ranges != "own" or contender.is_blend
        return contender.hash if together else self.fit_key

    @property
    def work(self) -> float:
        """Roughly how much there is to do: points times what a point costs."""
        points = max(1, self.place.score_stop - self.place.learn_start)
        return len(self.series) * points * self.contender.forecaster.cost


@dataclass(frozen=True)
class Fit:
    """What a contender learned at a cutoff, shared by every cell that forecasts with it.

    `spread` (n_series,) is the robust spread of one-step flat errors inside what was learned, at least what rounding
    leaves.
    """

    key: str
    chain: Mapping[str, Any]
    facts: Mapping[str, Any]
    arrays: Mapping[str, NDArray[Any]]
    spread: Floats
    seconds: float = 0.0
    cpu_seconds: float = 0.0

    @classmethod
    def of(cls, cell: Cell, fitted: FittedContender, errors: Floats) -> "Fit":
        """What is kept of a fitted contender with its flat in-sample errors (n_origins, n_series, n_steps)."""
        flat = fitted.chain.apply(fitted.known)
        largest = [
            np.abs(values[np.isfinite(values)]).max(initial=1.0) for values in map(flat.series, range(len(flat)))
        ]
        spread = np.maximum(robust_spread(errors[:, :, 0]), _ROUNDING * np.array(largest))
        kept = fitted.kept
        return cls(cell.fit_key, kept.chain, kept.facts, kept.arrays, spread)

    def read_by(self, contender: Contender) -> bool:
        """Whether the contender can still read this; an earlier version may have learned in another form."""
        return bool(self.facts.get("form", 1) == contender.forecaster.form)

    def fitted(self, contender: Contender, known: Panel, until: int) -> FittedContender:
        """The contender as it stood then, ready to forecast series of `known` from later origins.

        Raises `OutdatedError` where an earlier version learned it in another form.
        """
        if not self.read_by(contender):
            raise OutdatedError(
                f"What {contender.forecaster.title} learned here was kept by an earlier version, which this one cannot "
                "read. Its forecasts and errors stay; run a copy of the experiment to compute it anew.",
            )
        return contender.restored(known, until, self.chain, self.facts, self.arrays)


@dataclass(frozen=True)
class CellResult:
    """What a cell found; arrays are (n_series, n_origins, horizon) unless said otherwise.

    `ranges` (n_levels, 2, …) are the ends at the cell's levels from every origin, `paths` (n_paths, …) joint futures
    where there are any, `losses` the loss of every point by metric, `spread` (n_series,) that of one-step flat errors
    inside what was learned, `declined` the reasons by key of series without a forecast. Read back from records, it may
    come without what was learned, and without losses.
    """

    cell: Cell
    origins: Ints
    mean: Floats
    flat_mean: Floats
    flat_truth: Floats
    ranges: Floats
    losses: Mapping[str, Floats]
    spread: Floats
    fit: Fit | None = None
    paths: Floats | None = None
    declined: Mapping[str, str] = field(default_factory=dict)
    seconds: float = 0.0  # that passed
    cpu_seconds: float = 0.0  # of the processor's time
    memory: int | None = None  # bytes by which the process that computed it grew at most

    def fitted(self, known: Panel) -> FittedContender:
        """The contender as it stood at the fold's cutoff, ready to forecast series of `known` from later origins."""
        assert self.fit is not None, "read without what was learned"
        return self.fit.fitted(self.cell.contender, known, self.cell.place.fit_until)


def robust_spread(errors: Floats) -> Floats:
    """1.4826 × the median absolute deviation over the first axis, NaN where nothing is known."""
    if not len(errors):
        return np.full(errors.shape[1:], np.nan)
    centre = quantile_rows(errors, 0.5)
    return 1.4826 * quantile_rows(np.abs(errors - centre), 0.5)
