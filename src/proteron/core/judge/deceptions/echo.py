"""Echo: a forecast that follows the truth late."""

import numpy as np

from proteron.core.judge.deceptions.case import Case, Deception
from proteron.core.judge.folds import origins_of
from proteron.core.panel import Floats
from proteron.core.words import counted

_FEWEST = 20  # pairs of neighbouring origins
_LONGEST = 400
_LIKE = 0.95
_MARGIN = 0.1
_WHOLE = 0.9
_NO_BETTER = 0.97


def echo(case: Case) -> Deception | None:
    """Its forecasts move from origin to origin as the truth did some steps earlier, by as much, and are no better.

    Correlations are those of the changes between neighbouring origins at the same step ahead, with the changes of the
    truth shifted by every lag up to what one origin reaches.
    """
    if case.naive or case.outcome is None:
        return None
    grid = case.told.yardsticks.grid
    changes, truths = _changes(case, grid)
    alike = np.array([_correlation(changes, each) for each in truths])
    if not np.isfinite(alike[0]) or not np.isfinite(alike[1:]).any():
        return None
    lag = int(np.nanargmax(alike[1:])) + 1
    if alike[lag] < _LIKE or alike[lag] < alike[0] + _MARGIN or _share(changes, truths[lag]) < _WHOLE:
        return None
    error, late = _errors(case, grid, lag)
    if not error >= _NO_BETTER * late:
        return None
    return case.says(
        "echo", "an echo",
        f"Its forecasts follow the truth {counted(lag, 'step')} late (correlation of changes {alike[lag]:.2f}, "
        f"{alike[0]:.2f} with the truth itself); its error is {error / late:.2f} times that of the value then.",
    )  # fmt: skip


def _changes(case: Case, grid: Floats) -> tuple[Floats, Floats]:
    """Changes of forecasts between neighbouring origins (n,), and of the truth at every lag (n_lags, n)."""
    assert case.outcome is not None
    (fold, place), origin = origins_of(case.folds)
    forecast = case.outcome.mean[fold, :, place]  # (n_origins, n_series, horizon)
    gap, horizon = case.folds[0].gap, forecast.shape[2]
    apart = int(np.median(np.diff(origin))) if len(origin) > 1 else 1
    most = min(gap + horizon + apart, _LONGEST)
    target = origin[:, None] + gap + np.arange(horizon)
    mine = np.diff(forecast, axis=0)
    shifted = []
    for lag in range(most + 1):
        at = target - lag
        there = (at >= 0) & (at < grid.shape[1])
        truth = np.where(there, grid[:, np.clip(at, 0, grid.shape[1] - 1)], np.nan)  # (n_series, n_origins, horizon)
        shifted.append(np.diff(np.moveaxis(truth, 0, 1), axis=0))
    return mine.reshape(-1), np.array(shifted).reshape(most + 1, -1)


def _correlation(mine: Floats, truth: Floats) -> float:
    known = np.isfinite(mine) & np.isfinite(truth)
    if known.sum() < _FEWEST:
        return float("nan")
    one, other = mine[known], truth[known]
    scale = np.sqrt((one**2).sum() * (other**2).sum())
    return float((one * other).sum() / scale) if scale > 0 else float("nan")


def _share(mine: Floats, truth: Floats) -> float:
    """How much of a change of the truth is repeated: less than the whole is a forecast's own choice."""
    known = np.isfinite(mine) & np.isfinite(truth)
    return float((mine[known] * truth[known]).sum() / (truth[known] ** 2).sum())


def _errors(case: Case, grid: Floats, lag: int) -> tuple[float, float]:
    """Root mean squared error of the forecasts, and of the truth that many steps earlier, over the same points."""
    mine, theirs = [], []
    for place, fold in enumerate(case.folds):
        target = fold.origins[:, None] + fold.gap + np.arange(fold.horizon)
        inside = np.clip(target, 0, grid.shape[1] - 1)
        late = grid[:, np.clip(inside - lag, 0, None)]
        square = case.squares[place][:, : target.shape[0], : target.shape[1]]
        away = (grid[:, inside] - late) ** 2
        known = np.isfinite(square) & np.isfinite(away)
        mine.append(square[known])
        theirs.append(away[known])
    error, other = (float(np.sqrt(np.concatenate(each).mean())) for each in (mine, theirs))
    return error, other
