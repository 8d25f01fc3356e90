"""Cells: entrant × fold × group of series, each a pure function with a key of its own."""

import time
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from proteron.core.documents import content_hash
from proteron.core.errors import InputError, OutdatedError
from proteron.core.flatten import FittedChain
from proteron.core.forecasters import Contender, FittedContender, ForecasterState, Work, truths
from proteron.core.forecasters.forecast import quantile_rows
from proteron.core.forecasters.forecaster import Progress
from proteron.core.judge.conformal import FoldRanges, corrected
from proteron.core.judge.density import log_density
from proteron.core.judge.folds import Fold
from proteron.core.judge.metrics import Scored, kept_losses, naive_scale
from proteron.core.judge.yardsticks import last_known, scored_truth
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints

LEVELS = (0.5, 0.8, 0.95)
_WORK_PER_CELL = 4e6  # points × cost: about a second
_VERSION = 6  # of how cells are computed; raised when their results change
_ROUNDING = 1e-9  # of the largest value known: a spread below it is what rounding leaves
FLAT_SQUARE = "flat_square"  # the loss of flat-unit errors, kept beside the metrics


@dataclass(frozen=True)
class Cell:
    """One unit of work; `key` is a hash of everything its result depends on, `fit_key` of what is learned in it.

    `needs` are keys of cells whose results it reads: those of earlier folds, where they correct its ranges. `levels`
    are the ranges that are asked for at every origin. Cells of one `batch` gain by being computed together.
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
        return contender.hash if contender.forecaster.batched or contender.ranges != "own" else self.fit_key

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
        chain = FittedChain.from_document(dict(self.chain), known.axis, known.occasions)
        state = ForecasterState(chain.keys, dict(self.arrays), dict(self.facts))
        return FittedContender(contender, known, until, chain, state)


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


def expand(
    panel: Panel,
    contenders: Mapping[str, Contender],
    folds: Sequence[Fold],
    seed: int,
    dataset: str | None = None,
    levels: Sequence[float] = LEVELS,
    first: int = 0,
    before: Sequence[Cell] = (),
) -> list[Cell]:
    """All cells of an experiment, folds outermost so that partial boards fill evenly; `first` numbers the first fold.

    `before` are cells of earlier folds that are there already, which ranges may be corrected by. The seed of a fit is
    derived from the experiment's and its key, so order never changes a number.
    """
    dataset = dataset or panel.hash
    hashes = {name: contender.learns_as.hash for name, contender in contenders.items()}
    cells, seen = [], list(before)
    for index, fold in enumerate(folds, start=first):
        for name, contender in contenders.items():
            for group in _groups(panel, contender, fold):
                learned = {
                    "dataset": dataset, "contender": hashes[name], "fold": fold.fit_document(),
                    "series": group, "seed": seed, "version": _VERSION,
                }  # fmt: skip
                if contender.forecaster.learns_levels:
                    learned["levels"] = tuple(levels)
                fit_key = content_hash(learned)
                told = {"fit": fit_key, "fold": fold.document(), "levels": tuple(levels)}
                needs = _earlier(seen, name, group) if contender.ranges != "own" else ()
                told |= {"ranges": contender.ranges, "needs": needs} if contender.ranges != "own" else {}
                cell = Cell(name, contender, index, fold, group, content_hash(told), fit_key, needs, tuple(levels))
                cells.append(cell)
                seen.append(cell)
    return cells


def _earlier(seen: Sequence[Cell], name: str, series: tuple[int, ...]) -> tuple[str, ...]:
    """Keys of a contender's cells of earlier folds that hold any of these series."""
    return tuple(each.key for each in seen if each.name == name and not set(series).isdisjoint(each.series))


def _groups(panel: Panel, contender: Contender, fold: Fold) -> list[tuple[int, ...]]:
    everyone = tuple(range(len(panel)))
    if contender.forecaster.panel_wide:
        return [everyone]
    points = max(1, fold.score_stop - fold.learn_start)
    size = max(1, int(_WORK_PER_CELL / (points * contender.forecaster.cost)))
    return [everyone[start : start + size] for start in range(0, len(everyone), size)]


def compute_cell(panel: Panel, cell: Cell, work: Work | None = None, fit: Fit | None = None) -> CellResult:
    """Fit at the fold's cutoff, unless that `fit` is there already, and forecast from each of the fold's origins.

    Nothing after the scored span is present; raises what the contender finds wrong. `work` says when to stop and whom
    to tell; what else a fit needs follows from the cell.
    """
    (result,) = compute_cells(panel, [cell], work, {} if fit is None else {fit.key: fit})
    return result


def compute_cells(
    panel: Panel, cells: Sequence[Cell], work: Work | None = None, fits: Mapping[str, Fit] | None = None,
    earlier: Mapping[str, CellResult] | None = None,
) -> list[CellResult]:  # fmt: skip
    """As `compute_cell` for each, to the bit; fits of one contender whose family gains by it are learned together.

    `earlier` are results by key that cells need; those of `cells` themselves need not be among them.
    Raises `InputError` where one that is needed is in neither.
    """
    there, fresh = dict(fits or {}), {}
    wanted = {cell.fit_key: cell for cell in cells if cell.fit_key not in there}
    batches: dict[str, list[Cell]] = {}
    for cell in wanted.values():
        batches.setdefault(cell.batch, []).append(cell)
    for group in batches.values():
        asked = [(cell.place.inside(_series(panel, cell)), _work_of(cell, work)) for cell in group]
        insides = [(inside, cell.place.fit_until, each) for (inside, each), cell in zip(asked, group, strict=True)]
        clock = Clock()
        fitted = group[0].contender.fit_many(insides)
        share = [each / len(group) for each in clock.taken()]
        for cell, each in zip(group, fitted, strict=True):
            clock = Clock()
            fresh[cell.fit_key] = (each, each.flat_errors(cell.place.reach))
            kept = _kept(cell, *fresh[cell.fit_key])
            seconds, cpu = clock.taken()
            there[cell.fit_key] = replace(kept, seconds=share[0] + seconds, cpu_seconds=share[1] + cpu)
    results, read = [], dict(earlier or {})
    for cell in cells:
        fit = there[cell.fit_key]
        clock = Clock()
        found = _forecast(panel, cell, fit, fresh.get(cell.fit_key), _needed(cell, read))
        seconds, cpu = clock.taken()
        if cell is wanted.get(cell.fit_key):  # learning counts once, for the cell it was done for
            seconds, cpu = seconds + fit.seconds, cpu + fit.cpu_seconds
        read[cell.key] = replace(found, seconds=seconds, cpu_seconds=cpu)
        results.append(read[cell.key])
    return results


def _needed(cell: Cell, read: Mapping[str, CellResult]) -> list[CellResult]:
    """What a cell reads of others; without all of it, what it says would depend on what happened to be there."""
    if any(key not in read for key in cell.needs):
        raise InputError("Its ranges are corrected by those of earlier folds, and one of these has no result.")
    return [read[key] for key in cell.needs]


class Clock:
    """Seconds that pass, and those of them that this process computes in, from when it is made."""

    def __init__(self) -> None:
        self._begun = time.perf_counter(), time.process_time()

    def taken(self) -> tuple[float, float]:
        """Both since then."""
        return time.perf_counter() - self._begun[0], time.process_time() - self._begun[1]


def _series(panel: Panel, cell: Cell) -> Panel:
    return panel if len(cell.series) == len(panel) else panel.select(cell.series)


def _work_of(cell: Cell, work: Work | None) -> Work:
    given = work or Work()

    def report(told: Progress) -> None:
        given.report(replace(told, contender=cell.name, fold=cell.fold))

    return replace(given, horizon=cell.place.reach, seed=cell.seed, levels=cell.levels, report=report)


def _kept(cell: Cell, fitted: FittedContender, errors: Floats) -> Fit:
    flat = fitted.chain.apply(fitted.known)
    largest = [np.abs(values[np.isfinite(values)]).max(initial=1.0) for values in map(flat.series, range(len(flat)))]
    spread = np.maximum(robust_spread(errors[:, :, 0]), _ROUNDING * np.array(largest))
    return Fit(cell.fit_key, fitted.chain.document(), fitted.state.facts, fitted.state.arrays, spread)


def _forecast(
    panel: Panel, cell: Cell, fit: Fit, fresh: tuple[FittedContender, Floats] | None, earlier: Sequence[CellResult]
) -> CellResult:
    place = cell.place
    inside = place.inside(_series(panel, cell))
    if fresh is None:
        fitted = fit.fitted(cell.contender, inside.cut_at(place.fit_until), place.fit_until)
        fresh = (fitted, fitted.flat_errors(place.reach))
    fitted, errors = fresh
    mean, flat = fitted.means(inside, place.origins, place.reach)
    ranges = np.empty((0, 2, *mean.shape))
    if cell.levels:
        ranges = fitted.ranges(inside, place.origins, flat, cell.levels, errors)
    scored = slice(place.gap, place.reach)
    flat_truth = truths(fitted.chain.apply(inside), place.origins, place.reach)[:, :, scored]
    found = CellResult(
        cell=cell,
        origins=place.origins,
        mean=mean[:, :, scored],
        flat_mean=flat[:, :, scored],
        flat_truth=flat_truth,
        ranges=ranges[..., scored],
        losses={},
        spread=fit.spread,
        fit=fit,
        declined=cell.contender.forecaster.declined(fitted.state),
    )
    if cell.contender.ranges != "own" and cell.levels:
        now, past = (place, found.ranges), _earlier_ranges(cell, earlier)
        ranges = corrected(_series(panel, cell), cell.contender.ranges, cell.levels, now, past)
        found = replace(found, ranges=ranges)
    density = None
    if cell.contender.ranges == "own" and fitted.has_theory:
        density = log_density(fitted.chain, found.ranges, cell.levels, scored_truth(_series(panel, cell), place))
    return replace(found, losses=losses_of(panel, found, density))


def _earlier_ranges(cell: Cell, earlier: Sequence[CellResult]) -> list[FoldRanges]:
    """Ranges of earlier folds for a cell's series, which may have come from cells of other groups."""
    found: dict[int, FoldRanges] = {}
    for each in earlier:
        shape = (len(cell.levels), 2, len(cell.series), *each.mean.shape[1:])
        if each.cell.place.cutoff not in found:
            found[each.cell.place.cutoff] = (each.cell.place, np.full(shape, np.nan))
        ranges = found[each.cell.place.cutoff][1]
        mine = [place for place, series in enumerate(cell.series) if series in each.cell.series]
        theirs = [each.cell.series.index(cell.series[place]) for place in mine]
        ranges[:, :, mine] = each.ranges[:, :, theirs]
    return list(found.values())


def losses_of(panel: Panel, result: CellResult, log_density: Floats | None = None) -> dict[str, Floats]:
    """Every kept loss of every scored point, and of flat units where there is a chain; NaN where not scored.

    Scales of metrics are those of the naive forecast as of the fold's cutoff. `log_density` (n_series, n_origins,
    horizon) is that at the truth, where there is one.
    """
    cell, place = result.cell, result.cell.place
    alone = _series(panel, cell)
    truth, inside = scored_truth(alone, place), place.inside(alone)
    known, season = inside.cut_at(place.cutoff), panel.axis.step.season
    scale, square = (
        np.array([naive_scale(known.series(i), season, power) for i in range(len(alone))])[:, None, None]
        for power in (1, 2)
    )
    lower, upper = (result.ranges[:, 0], result.ranges[:, 1]) if cell.levels else (None, None)
    last = np.full((len(alone), len(result.origins), 1), np.nan)
    for i in range(len(alone)):
        at = last_known(inside.series(i), np.maximum(result.origins - inside.starts[i], 0))
        last[i, at >= 0, 0] = inside.series(i)[at[at >= 0]]
    scored = Scored(result.mean, truth, scale, square, cell.levels, lower, upper, result.paths, last, log_density)
    wanted = [loss for loss in kept_losses(cell.levels) if all(scored.has(need) for need in loss.needs)]
    found = {loss.name: loss.of(scored) for loss in wanted}
    if cell.contender.chain.active:
        found[FLAT_SQUARE] = np.where(np.isnan(truth), np.nan, result.flat_mean - result.flat_truth) ** 2
    return found


def robust_spread(errors: Floats) -> Floats:
    """1.4826 × the median absolute deviation over the first axis, NaN where nothing is known."""
    if not len(errors):
        return np.full(errors.shape[1:], np.nan)
    centre = quantile_rows(errors, 0.5)
    return 1.4826 * quantile_rows(np.abs(errors - centre), 0.5)
