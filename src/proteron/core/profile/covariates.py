"""How columns go with the target, and which of them say the same."""

from dataclasses import dataclass

import numpy as np
from scipy import special

from proteron.core.errors import ProteronError
from proteron.core.panel import Floats, Panel
from proteron.core.profile.correlogram import cross_correlation

_SAME = 0.9


@dataclass(frozen=True)
class CovariateLink:
    """One column's pre-whitened correlation with the target: at every lag, and where it is largest.

    A positive lag means that the column leads. `bound` is the 95 % bound of no link at one lag; `found` says
    whether the largest exceeds that of all lags together.
    """

    name: str
    role: str
    lags: Floats
    correlations: Floats
    best_lag: int
    best: float
    bound: float
    found: bool
    group: int


def covariate_links(panel: Panel, index: int, lags: int) -> list[CovariateLink]:
    """Links of every column that varies, (n_columns,), with the number of its redundancy group."""
    target = panel.series(index)
    columns = [column for column in panel.covariates if column.role != "static" and not column.labels]
    values = [column.series(index)[: len(target)] for column in columns]
    groups = redundancy_groups(values)
    links = []
    for column, of_column, group in zip(columns, values, groups, strict=True):
        try:
            at, correlations = cross_correlation(of_column, target, lags)
        except ProteronError:
            continue
        if not np.isfinite(correlations).any():
            continue
        best = int(np.nanargmax(np.abs(correlations)))
        both = int((np.isfinite(of_column) & np.isfinite(target)).sum())
        links.append(
            CovariateLink(
                column.name, column.role, at, correlations, int(at[best]), float(correlations[best]),
                1.96 / np.sqrt(max(both, 1)),
                abs(correlations[best]) > _bound_of_all(len(at)) / np.sqrt(max(both, 1)), group,
            )
        )  # fmt: skip
    return links


def _bound_of_all(lags: int) -> float:
    """Normal quantile that the largest of so many correlations exceeds once in twenty, without any link."""
    return float(special.ndtri(1 - 0.025 / max(lags, 1)))


def redundancy_groups(columns: list[Floats], same: float = _SAME) -> list[int]:
    """A group number per column; columns correlated above `same`, either sign, share it (single linkage)."""
    groups = list(range(len(columns)))
    for i in range(len(columns)):
        for j in range(i):
            if groups[i] != groups[j] and abs(correlation(columns[i], columns[j])) >= same:
                old, new = max(groups[i], groups[j]), min(groups[i], groups[j])
                groups = [new if each == old else each for each in groups]
    numbers = {group: number for number, group in enumerate(sorted(set(groups)))}
    return [numbers[group] for group in groups]


def correlation(left: Floats, right: Floats) -> float:
    """Correlation over the points both know; 0 where one of them does not vary."""
    both = np.isfinite(left) & np.isfinite(right)
    if both.sum() < 3:
        return 0.0
    x, y = left[both] - left[both].mean(), right[both] - right[both].mean()
    size = float(np.sqrt((x @ x) * (y @ y)))
    return float(x @ y) / size if size > 1e-300 else 0.0
