"""Errors and skill by fold, step ahead, series or slot of the calendar; and every error by the time it was made at."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from proteron.core.judge.cell import CellResult
from proteron.core.judge.folds import Fold
from proteron.core.judge.losses import Breakdown, Losses, View
from proteron.core.judge.yardsticks import scored_truth
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Ints


def skills_by(losses: Losses, baseline: str, view: View, panel: Panel, folds: Sequence[Fold]) -> Breakdown:
    """1 − error / the baseline's error on common points (n_entrants, n_labels); NaN where the baseline has none."""
    labels = losses.by(view, panel, folds).labels
    values = np.full((len(losses.names), len(labels)), np.nan)
    for row, name in zip(values, losses.names, strict=True):
        found = losses.common(list(dict.fromkeys([name, baseline]))).by(view, panel, folds)
        places = [labels.index(label) for label in found.labels]
        own, base = found.values[0], found.values[-1]
        with np.errstate(invalid="ignore", divide="ignore"):
            row[places] = np.where(base > 0, 1 - own / base, np.nan)
    return Breakdown(losses.names, labels, values)


@dataclass(frozen=True)
class ErrorsInTime:
    """Errors of one entrant on one series, forecast minus truth: grid positions, steps ahead, errors, each (n,)."""

    positions: Ints
    ahead: Ints
    errors: Floats


def errors_in_time(
    panel: Panel, results: Iterable[CellResult], series: int, ahead: int | None = None
) -> dict[str, ErrorsInTime]:
    """By entrant, of every scored point in the order of time: that of the forecast made last before it.

    With `ahead`, of the forecasts that many steps ahead instead.
    """
    gathered: dict[str, list[tuple[Ints, Ints, Floats]]] = {}
    for result in results:
        if series not in result.cell.series:
            continue
        place, at = result.cell.place, result.cell.series.index(series)
        truth = scored_truth(panel.select([series]), place)[0]
        steps = np.broadcast_to(place.gap + 1 + np.arange(place.horizon), truth.shape)
        positions = result.origins[:, None] + steps - 1
        errors = result.mean[at] - truth
        wanted = np.isfinite(errors) & (True if ahead is None else steps == ahead)
        gathered.setdefault(result.cell.name, []).append((positions[wanted], steps[wanted], errors[wanted]))
    return {name: _latest(parts) for name, parts in gathered.items()}


def _latest(parts: Sequence[tuple[Ints, Ints, Floats]]) -> ErrorsInTime:
    positions, ahead, errors = (np.concatenate(each) for each in zip(*parts, strict=True))
    order = np.lexsort((ahead, positions))
    positions, ahead, errors = positions[order], ahead[order], errors[order]
    first = np.concatenate([[True], positions[1:] != positions[:-1]]) if len(positions) else np.empty(0, dtype=bool)
    return ErrorsInTime(positions[first], ahead[first], errors[first])
