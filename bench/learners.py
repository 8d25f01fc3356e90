"""What learning on windows costs beside the least that it could.

OPENBLAS_NUM_THREADS=1 .venv/bin/python bench/learners.py

Boosting: 100,000 rows of 60 features in 255 bins, trees of 31 leaves, beside one compiled pass that adds the slopes of
all rows into the histograms of all features. Networks: an epoch with Adam in single precision beside the bare matrix
products of the same shapes; 20 small ones together beside one after the other.
"""

import statistics
import time
from concurrent.futures import ThreadPoolExecutor

import numpy as np
from numba import njit

from proteron.core.compiled import single_blas_thread
from proteron.core.forecasters.neural.layers import RELU
from proteron.core.forecasters.neural.network import Network
from proteron.core.forecasters.neural.rows import plain_rows
from proteron.core.forecasters.neural.training import Lesson, Recipe, train
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


BATCH = 64
Product = tuple[int, int, int, int, bool]  # rows, inner, columns, how often a batch, whether the rows are data


def products(shapes: list[Product], batches: int) -> float:
    """Seconds that the products of a training take by themselves: forward, by weights, by rows."""
    rng, single = np.random.default_rng(0), np.float32
    ready = [
        (rng.normal(size=(n, i)).astype(single), rng.normal(size=(i, o)).astype(single),
         rng.normal(size=(n, o)).astype(single), np.empty((n, o), single), np.empty((i, o), single),
         np.empty((n, i), single), count, data)
        for n, i, o, count, data in shapes
    ]  # fmt: skip
    begun = time.perf_counter()
    for _ in range(batches):
        for rows, weights, flow, out, by_weights, by_rows, count, data in ready:
            for _ in range(count):
                np.dot(rows, weights, out=out)
                np.dot(rows.T, flow, out=by_weights)
                if not data:
                    np.dot(flow, weights.T, out=by_rows)
    return time.perf_counter() - begun


def dense() -> tuple[Network, list[Product], int]:
    net = Network(48)
    net.dense(net.dense(net.dense(0, 64, RELU), 32, RELU), 1)
    return net, [(BATCH, 48, 64, 1, True), (BATCH, 64, 32, 1, False), (BATCH, 32, 1, 1, False)], 10_000


def dilated() -> tuple[Network, list[Product], int]:
    net, shapes, channels = Network(64), [], 1
    one = net.taken(0, 64)
    for place in range(5):
        one = net.convolution(one, 16, 3, 2**place, activation=RELU)
        shapes.append((64 * BATCH, 3 * channels, 16, 1, place == 0))
        channels = 16
    net.dense(net.last(one), 1)
    return net, shapes, 1280


def recurrent(cell: str, gates: int) -> tuple[Network, list[Product], int]:
    net = Network(48)
    net.dense(net.last(net.recurrent(net.taken(0, 48), 32, cell)), 1)
    return net, [(48 * BATCH, 1, gates * 32, 1, True), (BATCH, 32, gates * 32, 48, False)], 1280


def attention() -> tuple[Network, list[Product], int]:
    net = Network(48)
    net.dense(net.last(net.attention(net.dense(net.taken(0, 48), 32), 4)), 1)
    heads = 4 * BATCH
    return net, [(48 * BATCH, 1, 32, 1, True), (48 * BATCH, 32, 96, 1, False), (48 * BATCH, 32, 32, 1, False),
                 (48, 8, 48, heads, False), (48, 48, 8, heads, False)], 1280  # fmt: skip


def network(name: str, net: Network, shapes: list[Product], rows: int) -> None:
    """Print how many times its bare products an epoch takes."""
    rng = np.random.default_rng(0)
    inputs, targets = (rng.normal(size=(rows, width)).astype(np.float32) for width in (net.width, 1))
    windows = plain_rows(inputs, targets)
    lesson = Lesson(net, net.begin(rng).astype(np.float32), Recipe(batch=BATCH), rng)
    order, ratios = np.arange(rows), []
    for repeat in range(REPEATS + 1):
        begun = time.perf_counter()
        lesson.epoch(windows, order, 1e-3)
        taken = time.perf_counter() - begun
        if repeat:
            ratios.append(taken / products(shapes, rows // BATCH))
    print(f"{name}: {statistics.median(ratios):.2f} × its matrix products")


def together(count: int = 20) -> None:
    """Print how much faster small networks are together than one after the other."""
    rng = np.random.default_rng(0)
    rows = plain_rows(*(rng.normal(size=(10_000, width)).astype(np.float32) for width in (48, 1)))
    recipe = Recipe(epochs=1, rows_per_epoch=10_000)

    def one(seed: int) -> None:
        train(dense()[0], rows, rows, recipe, seed, np.float32)

    ratios = []
    for repeat in range(REPEATS + 1):
        begun = time.perf_counter()
        for seed in range(count):
            one(seed)
        middle = time.perf_counter()
        with ThreadPoolExecutor(2) as pool:
            list(pool.map(one, range(count)))
        if repeat:
            ratios.append((middle - begun) / (time.perf_counter() - middle))
    print(f"{count} dense networks together: {statistics.median(ratios):.2f} × as fast as one after the other")


if __name__ == "__main__":
    with single_blas_thread():
        network("dense 48-64-32-1", *dense())
        network("dilated convolution, 5 layers of 16", *dilated())
        network("LSTM of 32, 48 steps", *recurrent("lstm", 4))
        network("GRU of 32, 48 steps", *recurrent("gru", 3))
        network("attention, 48 steps, 32 wide, 4 heads", *attention())
        together()
    boosting()
