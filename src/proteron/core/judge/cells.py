"""Cells: contender × fold × group of series, each a pure function with a key of its own."""

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from proteron.core.documents import content_hash
from proteron.core.flatten import FittedChain
from proteron.core.forecasters import Contender, FittedContender, ForecasterState, Work, truths
from proteron.core.forecasters.forecast import quantile_rows
from proteron.core.judge.folds import Fold
from proteron.core.judge.metrics import naive_scale
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints

LEVELS = (0.5, 0.8, 0.95)
_WORK_PER_CELL = 4e6  # points × cost: about a second


@dataclass(frozen=True)
class Cell:
    """One unit of work; `key` is a hash of everything its result depends on."""

    name: str
    contender: Contender
    fold: int
    place: Fold
    series: tuple[int, ...]
    seed: int
    key: str


@dataclass(frozen=True)
class CellResult:
    """What a cell found; arrays are (n_series, n_origins, horizon) unless said otherwise."""

    cell: Cell
    origins: Ints
    mean: Floats
    flat_mean: Floats
    flat_truth: Floats
    ranges: Floats  # (n_levels, 2, n_series, horizon) at the first origin
    scale: Floats  # (n_series,) of MASE, as of the cutoff
    spread: Floats  # (n_series,) robust spread of one-step flat errors inside the learned span
    state_arrays: dict[str, NDArray[Any]] = field(default_factory=dict)
    state_facts: dict[str, Any] = field(default_factory=dict)
    seconds: float = 0.0
    memory: int | None = None  # bytes by which the process that computed it grew at most

    def fitted(self, known: Panel) -> FittedContender:
        """The contender as it stood at the fold's cutoff, ready to forecast series of `known` from later origins."""
        chain = FittedChain.from_document(self.state_facts["chain"], known.axis, known.occasions)
        state = ForecasterState(chain.keys, self.state_arrays, self.state_facts["forecaster"])
        return FittedContender(self.cell.contender, known, self.cell.place.cutoff, chain, state)


def expand(
    panel: Panel, contenders: dict[str, Contender], folds: Sequence[Fold], seed: int, dataset: str | None = None
) -> list[Cell]:
    """All cells of an experiment, folds outermost so that partial boards fill evenly.

    A cell's seed is derived from the experiment's and its key, so order never changes a number.
    """
    dataset = dataset or panel.hash
    cells = []
    for index, fold in enumerate(folds):
        for name, contender in contenders.items():
            for group in _groups(panel, contender, fold):
                identity = {
                    "dataset": dataset,
                    "contender": contender.document(),
                    "fold": fold.document(),
                    "series": list(group),
                    "seed": seed,
                    "version": 1,
                }
                key = content_hash(identity)
                cells.append(Cell(name, contender, index, fold, group, int(key[:8], 16), key))
    return cells


def _groups(panel: Panel, contender: Contender, fold: Fold) -> list[tuple[int, ...]]:
    everyone = tuple(range(len(panel)))
    if contender.forecaster.panel_wide:
        return [everyone]
    points = max(1, fold.score_stop - fold.learn_start)
    size = max(1, int(_WORK_PER_CELL / (points * contender.forecaster.cost)))
    return [everyone[start : start + size] for start in range(0, len(everyone), size)]


def compute_cell(panel: Panel, cell: Cell, stop_asked: Callable[[], bool] = lambda: False) -> CellResult:
    """Fit at the fold's cutoff and forecast from each of its origins.

    Nothing after the scored span is present; raises what the contender finds wrong.
    """
    begun = time.perf_counter()
    place = cell.place
    inside = panel.select(cell.series).between(place.learn_start, place.score_stop)
    reach = place.gap + place.horizon
    work = Work(horizon=reach, seed=cell.seed, stop_asked=stop_asked)
    fitted = cell.contender.fit(inside, until=place.cutoff, work=work)
    mean, flat = fitted.means(inside, place.origins, reach)
    flat_inside = fitted.chain.apply(inside)
    flat_errors = fitted.flat_errors(reach)
    first = fitted.forecast(reach, LEVELS, flat_errors=None if fitted.has_theory else flat_errors)
    ranges = np.array([[first.lower[level], first.upper[level]] for level in LEVELS])
    season = panel.axis.step.season
    scale = [naive_scale(fitted.known.series(i), season) for i in range(len(inside))]
    scored = slice(place.gap, reach)
    return CellResult(
        cell=cell,
        origins=place.origins,
        mean=mean[:, :, scored],
        flat_mean=flat[:, :, scored],
        flat_truth=truths(flat_inside, place.origins, reach)[:, :, scored],
        ranges=ranges[..., scored],
        scale=np.array(scale),
        spread=robust_spread(flat_errors[:, :, 0]),
        state_arrays=fitted.state.arrays,
        state_facts={"chain": fitted.chain.document(), "forecaster": fitted.state.facts},
        seconds=time.perf_counter() - begun,
    )


def robust_spread(errors: Floats) -> Floats:
    """1.4826 × the median absolute deviation over the first axis, NaN where nothing is known."""
    if not len(errors):
        return np.full(errors.shape[1:], np.nan)
    centre = quantile_rows(errors, 0.5)
    return 1.4826 * quantile_rows(np.abs(errors - centre), 0.5)
