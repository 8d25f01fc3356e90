"""What stands in a report."""

import platform
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

import proteron
from proteron.core.experiment import best_of
from proteron.core.judge import Board, Breakdown, CellResult, Fold, Losses
from proteron.core.judge.deceptions import Deception
from proteron.core.panel import Floats, Panel
from proteron.core.timeline import Instants

_SHOWN = -1.0  # the least skill of an entrant that is drawn
_BEFORE = 3  # horizons of what was known before an example's cutoff


@dataclass(frozen=True)
class Provenance:
    """What made the numbers: the data by name and hash, the settings as an experiment file, the seed."""

    name: str
    dataset: str
    hash: str
    settings: str
    seed: int
    version: str = f"{proteron.__version__}, NumPy {np.__version__}, Python {platform.python_version()}"


@dataclass(frozen=True)
class Example:
    """Forecasts of one series from one origin against what happened, in local time."""

    key: str
    times: Instants
    truth: Floats
    ahead: Instants
    means: dict[str, Floats]
    range_of: str | None
    level: float
    low: Floats | None
    high: Floats | None


@dataclass(frozen=True)
class ReportContent:
    """The board with its verdict, what deceives, errors by step ahead, an example, and how it was made."""

    board: Board
    deceptions: Sequence[Deception]
    caution: str
    by_step: Breakdown
    folds: Sequence[str]
    example: Example | None
    provenance: Provenance
    seal: str = ""


def report_content(
    panel: Panel, folds: Sequence[Fold], board: Board, deceptions: Sequence[Deception], caution: str, told: Losses,
    results: Sequence[CellResult], made: Provenance, seal: str = "",
) -> ReportContent:  # fmt: skip
    """Put together what is said of `board`; `told` are the losses that skill is told by, `results` those to show."""
    moments = panel.axis.local(np.array([fold.cutoff - 1 for fold in folds])).astype("datetime64[m]")
    known = [str(moment).replace("T", " ").removesuffix(" 00:00") for moment in moments]
    step = _close(told.by("step", panel, folds), board)
    example = example_of(panel, folds, results, best_of(board))
    return ReportContent(board, deceptions, caution, step, known, example, made, seal)


def _close(step: Breakdown, board: Board) -> Breakdown:
    """Without entrants that err more than twice as much as the baseline: their lines would flatten the others."""
    names = [name for name in step.names if (skill := board.row(name).skill) is None or skill >= _SHOWN]
    return Breakdown(tuple(names), step.labels, step.values[[step.names.index(name) for name in names]])


def example_of(panel: Panel, folds: Sequence[Fold], results: Sequence[CellResult], best: str) -> Example | None:
    """From the last fold's first origin, of the first series that `best` forecast there; None where there is none."""
    of_last = [each for each in results if each.cell.fold == len(folds) - 1]
    chosen = next((each for each in of_last if each.cell.name == best and np.isfinite(each.mean[0, 0]).any()), None)
    if chosen is None:
        return None
    series, place = chosen.cell.series[0], chosen.cell.place
    origin = int(chosen.origins[0])
    ahead = origin + place.gap + np.arange(place.horizon)
    shown = np.arange(max(origin - _BEFORE * place.reach, 0), min(ahead[-1] + 1, panel.end))
    at, values = panel.positions(series), panel.series(series)
    truth = np.full(len(shown), np.nan)
    there = np.isin(shown, at)
    truth[there] = values[np.searchsorted(at, shown[there])]
    means = {
        each.cell.name: each.mean[each.cell.series.index(series), 0] for each in of_last if series in each.cell.series
    }
    levels = chosen.cell.levels
    low, high = (chosen.ranges[-1, end, 0, 0] if levels else None for end in (0, 1))
    local = panel.axis.local
    return Example(
        panel.keys[series], local(shown), truth, local(ahead), means, best if levels else None,
        levels[-1] if levels else 0.0, low, high,
    )  # fmt: skip
