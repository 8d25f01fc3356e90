"""What learning on windows costs beside the least that it could.

OPENBLAS_NUM_THREADS=1 .venv/bin/python bench/learners.py

Boosting: 100,000 rows of 60 features in 255 bins, trees of 31 leaves, beside one compiled pass that adds the slopes of
all rows into the histograms of all features.
"""

import statistics
import time

import numpy as np
from numba import njit

from proteron.core.forecasters.trees.binning import Bins
from proteron.core.forecasters.trees.boosting import Boosting, Rows
from proteron.core.forecasters.trees.losses import Squared
from proteron.core.forecasters.trees.tree import Shape

ROWS, FEATURES, TREES, REPEATS = 100_000, 60, 10, 5


@njit(error_model="numpy")
def one_pass(bins, rows, slopes, curves, sums):
    for feature in range(len(bins)):
        column, mine = bins[feature], sums[feature]
        mine[:] = 0.0
        for i in range(len(rows)):
            at = column[rows[i]]
            mine[at, 0] += slopes[i]
            mine[at, 1] += curves[i]


def boosting() -> None:
    """Print how many passes a tree costs."""
    rng = np.random.default_rng(0)
    features = rng.normal(size=(ROWS, FEATURES))
    targets = np.sin(2 * features[:, 0]) + features[:, 1] * features[:, 2] + 0.3 * rng.normal(size=ROWS)
    bins, ones = Bins.learn(features), np.ones(ROWS)
    binned, every = bins.apply(features), np.arange(ROWS, dtype=np.int32)
    sums, model = np.empty((FEATURES, 256, 2)), Boosting(Shape(leaves=31), Squared(), TREES)
    learned, ratios = Rows(binned, targets, ones), []
    for repeat in range(REPEATS + 1):
        begun = time.perf_counter()
        model.fit(bins, learned, None, rng)
        middle = time.perf_counter()
        for _ in range(TREES):
            one_pass(binned, every, targets, ones, sums)
        if repeat:
            ratios.append((middle - begun) / (time.perf_counter() - middle))
    print(f"boosting, a tree of 31 leaves: {statistics.median(ratios):.2f} × one pass over all histograms")


if __name__ == "__main__":
    boosting()
