"""Cells: entrant × fold × group of series, each a pure function with a key of its own."""

import time
from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from proteron.core.documents import content_hash
from proteron.core.errors import InputError
from proteron.core.forecasters import Contender, FittedContender, Work
from proteron.core.forecasters.forecaster import Progress
from proteron.core.judge.blending import blended_cell, member_cells
from proteron.core.judge.cell import LEVELS, Cell, CellResult, Fit
from proteron.core.judge.conformal import FoldRanges, corrected
from proteron.core.judge.density import log_density
from proteron.core.judge.folds import Fold
from proteron.core.judge.metrics import Scored, kept_losses
from proteron.core.judge.yardsticks import last_known, scored_truth
from proteron.core.panel import Floats, Panel
from proteron.core.phases import naive_scale, truths

_WORK_PER_CELL = 4e6  # points × cost: about a second
_VERSION = 7  # of how cells are computed; raised when their results change
FLAT_SQUARE = "flat_square"  # the loss of flat-unit errors, kept beside the metrics


def expand(
    panel: Panel,
    contenders: Mapping[str, Contender],
    folds: Sequence[Fold],
    seed: int,
    dataset: str | None = None,
    levels: Sequence[float] = LEVELS,
    first: int = 0,
    before: Sequence[Cell] = (),
    series: Sequence[int] = (),
) -> list[Cell]:
    """All cells of an experiment, folds outermost so that partial boards fill evenly; `first` numbers the first fold.

    `before` are cells of earlier folds that are there already, which ranges may be corrected by. Only some `series`
    take part where they are named. The seed of a fit is derived from the experiment's and its key, so order never
    changes a number.
    """
    dataset = dataset or panel.hash
    hashes = {name: contender.learns_as.hash for name, contender in contenders.items()}
    cells, seen = [], list(before)
    blends_last = sorted(contenders.items(), key=lambda each: each[1].is_blend)
    for index, fold in enumerate(folds, start=first):
        for name, contender in blends_last:
            for group in _groups(tuple(series) or tuple(range(len(panel))), contender, fold):
                learned = {
                    "dataset": dataset, "contender": hashes[name], "fold": fold.fit_document(),
                    "series": group, "seed": seed, "version": _VERSION,
                }  # fmt: skip
                if contender.forecaster.learns_levels:
                    learned["levels"] = tuple(levels)
                needs: tuple[str, ...] = ()
                if contender.is_blend:
                    needs = learned["members"] = member_cells(contender, seen)
                fit_key = content_hash(learned)
                told = {"fit": fit_key, "fold": fold.document(), "levels": tuple(levels)}
                if contender.ranges != "own":
                    needs += _earlier(seen, name, group)
                told |= contender.unusual | ({"needs": needs} if needs or contender.ranges != "own" else {})
                cell = Cell(name, contender, index, fold, group, content_hash(told), fit_key, needs, tuple(levels))
                cells.append(cell)
                seen.append(cell)
    return cells


def _earlier(seen: Sequence[Cell], name: str, series: tuple[int, ...]) -> tuple[str, ...]:
    """Keys of a contender's cells of earlier folds that hold any of these series."""
    return tuple(each.key for each in seen if each.name == name and not set(series).isdisjoint(each.series))


def _groups(everyone: tuple[int, ...], contender: Contender, fold: Fold) -> list[tuple[int, ...]]:
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
    wanted = {cell.fit_key: cell for cell in cells if cell.fit_key not in there and not cell.contender.is_blend}
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
            kept = Fit.of(cell, *fresh[cell.fit_key])
            seconds, cpu = clock.taken()
            there[cell.fit_key] = replace(kept, seconds=share[0] + seconds, cpu_seconds=share[1] + cpu)
    results, read = [], dict(earlier or {})
    for cell in cells:
        if cell.contender.is_blend:
            clock = Clock()
            found = _finished(panel, cell, *blended_cell(panel, cell, _needed(cell, read), there), _needed(cell, read))
            seconds, cpu = clock.taken()
            read[cell.key] = replace(found, seconds=seconds, cpu_seconds=cpu)
            results.append(read[cell.key])
            continue
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
        raise InputError("It reads what other cells found, of earlier folds or of members, and one has no result.")
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


def _forecast(
    panel: Panel, cell: Cell, fit: Fit, fresh: tuple[FittedContender, Floats] | None, earlier: Sequence[CellResult]
) -> CellResult:
    place = cell.place
    inside = place.inside(_series(panel, cell))
    if fresh is None:
        fitted = fit.fitted(cell.contender, inside.cut_at(place.fit_until), place.fit_until)
        fresh = (fitted, fitted.flat_errors(place.reach))
    fitted, errors = replace(fresh[0], contender=cell.contender), fresh[1]
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
    return _finished(panel, cell, found, fitted, earlier)


def _finished(
    panel: Panel, cell: Cell, found: CellResult, fitted: FittedContender, earlier: Sequence[CellResult]
) -> CellResult:
    """With ranges corrected, where they are to be, and its losses."""
    if cell.contender.ranges != "own" and cell.levels:
        own = [each for each in earlier if each.cell.contender.hash == cell.contender.hash]
        now, past = (cell.place, found.ranges), _earlier_ranges(cell, own)
        ranges = corrected(_series(panel, cell), cell.contender.ranges, cell.levels, now, past)
        found = replace(found, ranges=ranges)
    density = None
    if cell.contender.ranges == "own" and fitted.has_theory:
        density = log_density(fitted.chain, found.ranges, cell.levels, scored_truth(_series(panel, cell), cell.place))
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
