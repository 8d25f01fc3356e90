"""Errors that a contender made out of sample: those of an experiment, or of rehearsals where there are none."""

from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass

import numpy as np

from proteron.core.errors import ProteronError, StoppedError
from proteron.core.forecasters import Contender
from proteron.core.forecasters.forecaster import Work
from proteron.core.forecasters.ranges import ends_from_errors
from proteron.core.judge import CellResult, process_context, without_main
from proteron.core.panel import Floats, Panel
from proteron.core.phases import truths
from proteron.core.timeline import Ints

REHEARSED = 500  # origins at most
_REFITS = 3
_SHARE = 0.5  # of what is known, that rehearsals forecast
_LEAST = 10  # origins under which rehearsals begin earlier
_BLOCKS = 5
_STEPS, _RATE = 20, 0.25  # parts after which the level that is aimed at moves, and by what share of the miss
_AIMS = 0.02, 0.999
_PIECES = 4  # of the series, a worker


@dataclass(frozen=True)
class PastErrors:
    """Flat errors, forecast minus truth, (n_rows, n_series, horizon), NaN where not scored; one row per origin.

    `origins` (n_rows,) are grid positions in order, the same one twice where two folds forecast from it; `how` says
    where they come from.
    """

    flat: Floats
    origins: Ints
    how: str

    @property
    def horizon(self) -> int:
        """Steps ahead that they are known for."""
        return int(self.flat.shape[2])

    def up_to(self, horizon: int) -> "PastErrors":
        """Those of the first steps."""
        return PastErrors(self.flat[:, :, :horizon], self.origins, self.how)

    def before(self, end: int) -> "PastErrors":
        """Those of origins before a grid position."""
        mine = self.origins < end
        return PastErrors(self.flat[mine], self.origins[mine], self.how)

    def counts(self) -> Ints:
        """How many errors each series has at any step, (n_series,)."""
        return np.asarray(np.isfinite(self.flat).any(axis=2).sum(axis=0))

    def held(self, levels: Sequence[float]) -> "tuple[Floats, Ints]":
        """How often ranges from earlier errors held later ones: (n_levels, horizon) shares, and of how many.

        Five parts in time; a range for a part is made of what was known before its first origin. NaN where nothing can
        be said.
        """
        hits, of, _ = self._walked(levels, _BLOCKS, 0.0)
        return hits, of

    def adapted(self, levels: Sequence[float]) -> "tuple[list[float], Floats, Ints]":
        """Levels that ranges are to aim at so as to hold what `levels` say, after how earlier ones held lately; and how
        often ranges that aimed so have held, as `held` tells it.

        Twenty parts in time; after each the level aimed at moves by a quarter of what was missed too often or too
        seldom (adaptive conformal inference, Gibbs & Candès 2021, eq. 2).
        """
        hits, of, aims = self._walked(levels, _STEPS, _RATE)
        return aims, hits, of

    def _walked(self, levels: Sequence[float], parts: int, rate: float) -> "tuple[Floats, Ints, list[float]]":
        """Over parts in time, each held by errors known before its first origin, at levels that move by `rate`."""
        hit, aims = np.zeros((len(levels), self.horizon)), np.array(levels, dtype=float)
        of = np.zeros(self.horizon, dtype=np.int64)
        for part in np.array_split(np.arange(len(self.origins)), parts)[1:]:
            before = self.origins + self.horizon <= self.origins[part[0]] if len(part) else np.zeros(0, dtype=bool)
            if not before.any():
                continue
            seen = self.flat[before]
            ends = ends_from_errors(-seen, np.zeros(seen.shape[1:]), aims.tolist())
            truth = -self.flat[part]
            there = np.isfinite(truth) & np.isfinite(ends[0, 0])
            inside = (truth >= ends[:, 0, None]) & (truth <= ends[:, 1, None]) & there
            hit += inside.sum(axis=(1, 2))
            of += there.sum(axis=(0, 1))
            if there.any():
                held = inside.sum(axis=(1, 2, 3)) / there.sum()
                aims = np.clip(aims + rate * (np.asarray(levels) - held), *_AIMS)
        return np.where(of > 0, hit / np.maximum(of, 1), np.nan), of, aims.tolist()


def share_held(shares: Floats, of: Ints) -> tuple[float | None, int]:
    """One share of those of every step (horizon,), and of how many; None where none is known."""
    known = np.isfinite(shares) & (of > 0)
    return (float(np.average(shares[known], weights=of[known])), int(of[known].sum())) if known.any() else (None, 0)


def walk_forward_errors(panel: Panel, results: Sequence[CellResult]) -> Floats:
    """Flat out-of-sample errors (n_rows, n_series, horizon): one row per fold and origin, NaN where not scored."""
    return errors_of(panel, results).flat


def errors_of(panel: Panel, results: Sequence[CellResult]) -> PastErrors:
    """Those of a contender's walk-forward cells."""
    rows: dict[int, Floats] = {}
    scored = np.isfinite(panel.scorable())
    for result in sorted(results, key=lambda each: (each.cell.fold, each.cell.series)):
        errors = result.flat_mean - result.flat_truth
        for row, index in enumerate(result.cell.series):
            local = (result.origins + result.cell.place.gap - panel.starts[index])[:, None] + np.arange(errors.shape[2])
            inside = (local >= 0) & (local < panel.lengths[index])
            known = np.zeros(local.shape, dtype=bool)
            known[inside] = scored[panel.offsets[index] + local[inside]]
            errors[row][~known] = np.nan
            for origin, row_errors in zip(result.origins.tolist(), errors[row], strict=True):
                if origin not in rows:
                    rows[origin] = np.full((len(panel), errors.shape[2]), np.nan)
                rows[origin][index] = row_errors
    places = np.array(sorted(rows), dtype=np.int64)
    flat = np.stack([rows[origin] for origin in places.tolist()]) if rows else np.empty((0, len(panel), 0))
    return PastErrors(flat, places, "walk-forward")


def rehearsed(
    panel: Panel, contender: Contender, horizon: int, seed: int = 0, most: int = REHEARSED,
    progress: Callable[[float], object] | None = None, stop_asked: Callable[[], bool] = bool, workers: int = 1,
    meanwhile: Callable[[], object] = bool,
) -> PastErrors:  # fmt: skip
    """Errors of forecasts from earlier origins, by the contender as it learned at three earlier cutoffs.

    Everything that `panel` holds is taken as known; each row reads only what lay before its origin. Empty where the
    series are too short to learn from a part of them. Series that are learned alone are shared out over `workers`, and
    `meanwhile` is done here.
    """
    nothing = PastErrors(np.empty((0, len(panel), horizon)), np.empty(0, dtype=np.int64), "rehearsals")
    first, stop = int(panel.starts.min()), panel.end - horizon
    begin = min(panel.end - max(round(_SHARE * (panel.end - first)), 1), stop - _LEAST)
    if begin <= first + 1:
        meanwhile()
        return nothing
    origins = np.unique(np.linspace(begin, stop, most).round().astype(np.int64))
    parts = [part for part in np.array_split(origins, _REFITS) if len(part)]
    pieces = _pieces(panel, contender, workers)
    some = [panel] if len(pieces) == 1 else [panel.select(piece.tolist()) for piece in pieces]
    tasks = [(each, contender, part, horizon, seed) for part in parts for each in some]
    found = []
    for number, each in enumerate(_done(tasks, workers, meanwhile)):
        if stop_asked():
            raise StoppedError("Stopped before the ranges were known.")
        found.append(each)
        if progress is not None:
            progress((number + 1) / len(tasks))
    by_part = [found[at : at + len(pieces)] for at in range(0, len(found), len(pieces))]
    rows = [(_beside(each, pieces, len(part), horizon), part) for each, part in zip(by_part, parts, strict=True)]
    there = [(row, part) for row, part in rows if row is not None]
    if not there:
        return nothing
    flat, places = zip(*there, strict=True)
    return PastErrors(np.concatenate(flat), np.concatenate(places), "rehearsals")


def _pieces(panel: Panel, contender: Contender, workers: int) -> list[Ints]:
    """Places of series that are rehearsed together: all, but for several workers where each is learned alone."""
    together = contender.forecaster.panel_wide or contender.forecaster.joint
    count = 1 if workers <= 1 or together else min(_PIECES * workers, len(panel))
    return [np.asarray(each) for each in np.array_split(np.arange(len(panel)), count)]


def _beside(found: Sequence[Floats | None], pieces: Sequence[Ints], count: int, horizon: int) -> Floats | None:
    """Errors (count, n_series, horizon) of one part from those of pieces of the series; None where none has any."""
    if all(each is None for each in found):
        return None
    unknown = [np.full((count, len(piece), horizon), np.nan) for piece in pieces]
    together = [void if each is None else each for each, void in zip(found, unknown, strict=True)]
    return np.concatenate(together, axis=1)


def _done(
    tasks: Sequence[tuple[Panel, Contender, Ints, int, int]], workers: int, meanwhile: Callable[[], object]
) -> Iterator[Floats | None]:
    """What each task comes to, in order; where there are several, by so many processes while this one does else."""
    if workers <= 1 or len(tasks) < 2:
        meanwhile()
        yield from (_errors_from(*task) for task in tasks)
        return
    pool = ProcessPoolExecutor(min(workers, len(tasks)), process_context())
    try:
        with without_main():
            pending = [pool.submit(_errors_from, *task) for task in tasks]
        meanwhile()
        for each in pending:
            yield each.result()
    finally:
        pool.shutdown(wait=False, cancel_futures=True)


def _errors_from(panel: Panel, contender: Contender, origins: Ints, horizon: int, seed: int) -> Floats | None:
    """Errors (n_origins, n_series, horizon) of what was learned at the first origin; None where nothing can be."""
    scored = panel.with_values(panel.scorable())
    try:
        (fitted,) = contender.fit_many([(panel, int(origins[0]), Work(horizon=horizon, seed=seed))])
        flat = fitted.means(panel, origins, horizon)[1]
    except StoppedError:
        raise
    except ProteronError:
        return None
    errors = flat - truths(fitted.chain.apply(panel), origins, horizon)
    errors[~np.isfinite(truths(scored, origins, horizon))] = np.nan
    return np.asarray(errors.transpose(1, 0, 2))
