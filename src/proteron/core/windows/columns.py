"""What the columns of a window table hold: distribution, link with the target, and which say the same."""

from dataclasses import dataclass

import numpy as np
from scipy import special
from scipy.spatial import cKDTree

from proteron.core.panel import Floats
from proteron.core.windows.table import Table

_ROWS = 10_000
_ROWS_OF_INFORMATION = 2_000
_NEIGHBOURS = 4
BINS = 16


@dataclass(frozen=True)
class ColumnFacts:
    """One column over the rows looked at.

    `counts` (16,) of values between `low` and `high`, the smallest and largest; `missing` the share of missing
    cells; `correlation` (Pearson) and `information` (mutual information in nats) with the target, NaN where
    undefined; `nearest` the other column it is most like, with `likeness`, the correlation of the two.
    """

    name: str
    counts: tuple[int, ...]
    low: float
    high: float
    missing: float
    correlation: float
    information: float
    nearest: str | None
    likeness: float


def column_facts(table: Table, target: int = 0) -> list[ColumnFacts]:
    """Facts of every feature, then of every target, against target column `target`.

    At most 10,000 evenly spaced rows are looked at, 2,000 for the mutual information, which features alone have.
    """
    if not len(table):
        return []
    rows = _spaced(len(table), _ROWS)
    cells = np.concatenate([table.features[rows], table.targets[rows]], axis=1)
    goal = table.targets[rows, target]
    width = table.features.shape[1]
    linked = correlations(cells)
    likeness = linked[:width, :width].copy()
    np.fill_diagonal(likeness, 0.0)
    names = (*table.names, *table.target_names)
    few = _spaced(len(rows), _ROWS_OF_INFORMATION)
    facts = []
    for column, name in enumerate(names):
        values = cells[:, column]
        present = values[np.isfinite(values)]
        low, high = (float(present.min()), float(present.max())) if len(present) else (np.nan, np.nan)
        counts = np.histogram(present, BINS, (low, high))[0] if len(present) and high > low else np.zeros(BINS, int)
        if len(present) and high == low:
            counts[BINS // 2] = len(present)
        nearest = int(np.abs(likeness[column]).argmax()) if column < width > 1 else -1
        like = float(likeness[column, nearest]) if nearest >= 0 else np.nan
        facts.append(
            ColumnFacts(
                name, tuple(counts.tolist()), low, high, 1 - len(present) / len(rows),
                float(linked[column, width + target]) if len(present) else np.nan,
                mutual_information(values[few], goal[few]) if column < width else np.nan,
                names[nearest] if nearest >= 0 and like else None, like,
            )
        )  # fmt: skip
    return facts


def _spaced(count: int, most: int) -> np.ndarray:
    return np.unique(np.linspace(0, count - 1, min(count, most)).round().astype(np.int64))


def correlations(cells: Floats) -> Floats:
    """Pearson correlations (n_columns, n_columns) over rows where both are known; 0 where either does not vary."""
    known = np.isfinite(cells)
    counts = np.maximum(known.sum(axis=0), 1)
    centre = np.where(known, cells, 0.0).sum(axis=0) / counts
    apart = np.where(known, cells - centre, 0.0)
    spread = np.sqrt((apart**2).sum(axis=0) / counts)
    flat = spread <= 1e-12 * np.where(known, np.abs(cells), 0.0).max(axis=0, initial=0.0)
    apart /= np.where(flat, np.inf, spread)
    present = known.astype(np.float64)
    both = present.T @ present
    sums, squares = apart.T @ present, (apart**2).T @ present
    shared = both * (apart.T @ apart) - sums * sums.T
    varying = np.maximum(both * squares - sums**2, 0.0)
    product = np.sqrt(varying * varying.T)
    usable = product > 1e-12 * np.maximum(both, 1) ** 2
    return np.where(usable, shared / np.where(usable, product, 1.0), 0.0).clip(-1, 1)


def mutual_information(x: Floats, y: Floats) -> float:
    """Mutual information of two columns in nats, from nearest neighbours (Kraskov, Stögbauer & Grassberger 2004).

    Over rows where both are known, each column scaled to unit spread; equal values are parted by a
    seeded jitter a billionth of the spread wide. Never below zero; NaN for fewer than 20 rows.
    """
    both = np.isfinite(x) & np.isfinite(y)
    count = int(both.sum())
    if count < 20:
        return float("nan")
    pair = np.stack([x[both], y[both]], axis=1)
    spread = pair.std(axis=0)
    if not (spread > 1e-12 * np.maximum(np.abs(pair).max(axis=0), 1e-300)).all():
        return 0.0
    pair = (pair - pair.mean(axis=0)) / spread + 1e-9 * np.random.default_rng(0).normal(size=pair.shape)
    reach = cKDTree(pair).query(pair, _NEIGHBOURS + 1, p=np.inf)[0][:, -1]
    within = np.zeros(count)
    for column in pair.T:
        order = np.sort(column)
        near = np.nextafter(column + reach, -np.inf), np.nextafter(column - reach, np.inf)
        around = np.searchsorted(order, near[0], "right") - np.searchsorted(order, near[1], "left")
        within += special.digamma(np.maximum(around, 1))
    estimate = special.digamma(_NEIGHBOURS) + special.digamma(count) - within.mean()
    return max(float(estimate), 0.0)
