"""What a forecast looks at: how much every feature of the window moves it from that of an average window."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from proteron.core.forecasters.pictures import Curve, Picture
from proteron.core.panel import Floats
from proteron.core.timeline import Ints

ALONG = 256  # places on the way from an average window to the one at hand
_LISTED = 12


@dataclass(frozen=True)
class Influence:
    """Shares (n_features,) of one forecast by feature, in flat units: with `average` they add up to `forecast`.

    `lags` (n_features,) tell which features are points before the cutoff, 1 being the last; 0 for all others.
    """

    step: int
    names: tuple[str, ...]
    lags: Ints
    shares: Floats
    average: float
    forecast: float


@dataclass(frozen=True)
class Importance:
    """By how much the mean absolute error grows when a feature is shuffled among windows, flat units.

    `growth` and `spread` (n_features,) are mean and standard deviation over shuffles, of the features by `names`.
    """

    names: tuple[str, ...]
    growth: Floats
    spread: Floats
    error: float


def shuffled(
    predict: Callable[[Floats], Floats], features: Floats, truth: Floats, columns: Ints, seed: int, times: int = 5
) -> tuple[Floats, Floats, float]:
    """Permutation importance (Breiman 2001): growth and its spread by column, and the error without shuffling.

    `predict` takes rows (n_rows, n_features) and gives (n_rows, n_steps), as `truth` is.
    """
    rng = np.random.default_rng(seed)
    error = float(np.abs(predict(features) - truth).mean())
    growth, spread = np.empty(len(columns)), np.empty(len(columns))
    for place, column in enumerate(columns):
        rows = np.tile(features, (times, 1))
        orders = np.concatenate([rng.permutation(len(features)) for _ in range(times)])
        rows[:, column] = features[orders, column]
        off = np.abs(predict(rows) - np.tile(truth, (times, 1))).mean(axis=1).reshape(times, -1).mean(axis=1) - error
        growth[place], spread[place] = off.mean(), off.std(ddof=1)
    return growth, spread, error


def along(gradient: Callable[[Floats], Floats], start: Floats, end: Floats) -> Floats:
    """Integrated gradients (Sundararajan, Taly & Yan 2017): shares (n,) of f(end) - f(start) by input.

    `gradient` takes inputs (n_rows, n) and gives the slopes of f at each; the integral is the mean over middles of even
    pieces of the way.
    """
    share = ((np.arange(ALONG) + 0.5) / ALONG)[:, None]
    slopes = gradient(start + share * (end - start))
    return (end - start) * slopes.mean(axis=0)


def pictures_of(influences: list[Influence]) -> list[Picture]:
    """Influence drawn over the points before the cutoff, one curve a step, and of other features one by one."""
    if not influences:
        return []
    first = influences[0]
    points = first.lags > 0
    order = np.argsort(-first.lags[points])
    at = np.asarray(1.0 - first.lags[points][order], dtype=float)
    holes = np.flatnonzero(np.diff(at) > 1) + 1  # lines end where a point is not read
    along_points = np.insert(at, holes, at[holes] - 1)
    lagged = tuple(
        Curve(_label(each), along_points, np.insert(each.shares[points][order], holes, np.nan)) for each in influences
    )
    found = [Picture("What it looks at: points before the cutoff", "steps from the last known point", lagged)]
    if not points.all():
        sizes = np.max([np.abs(each.shares[~points]) for each in influences], axis=0)
        largest = np.argsort(-sizes, kind="stable")[:_LISTED]
        place = np.arange(len(largest), dtype=float)
        others = tuple(Curve(_label(each), place, each.shares[~points][largest]) for each in influences)
        names = tuple(first.names[index] for index in np.flatnonzero(~points)[largest])
        found.append(Picture("What it looks at: other features, flat units", "feature", others, names=names))
    return found


def over_the_series(influence: Influence, values: Floats) -> Picture:
    """The points that move a forecast most, over those of the series (n_points,) up to the cutoff, flat units."""
    reach = min(int(influence.lags.max(initial=1)), len(values))
    curves = [Curve("series", np.arange(1.0 - reach, 1.0), values[len(values) - reach :])]
    most = np.argsort(-np.abs(np.where(influence.lags > 0, influence.shares, 0.0)), kind="stable")[:_LISTED]
    for label, sign in (("raise it", 1), ("lower it", -1)):
        lags = [lag for lag in influence.lags[most[sign * influence.shares[most] > 0]].tolist() if 0 < lag <= reach]
        curves.append(Curve(label, 1.0 - np.array(lags), np.array([values[-lag] for lag in lags]), "points"))
    title = f"The points that move the forecast {_label(influence)} most, flat units"
    return Picture(title, "steps from the last known point", tuple(curves))


def picture_of(importance: Importance | None) -> list[Picture]:
    """Growth of the error by feature, the largest first, and how far shuffles lie apart."""
    if importance is None:
        return []
    order = np.argsort(-importance.growth, kind="stable")
    place = np.arange(len(order), dtype=float)
    curves = Curve("error grows by", place, importance.growth[order]), Curve("±", place, importance.spread[order])
    names = tuple(importance.names[at] for at in order.tolist())
    return [Picture("What the error gains without it, shuffled among the last windows", "feature", curves, names=names)]


def _label(influence: Influence) -> str:
    return f"{influence.step} ahead"
