"""One training epoch of a dense network against its matrix products alone.

OPENBLAS_NUM_THREADS=1 .venv/bin/python bench/network.py
"""

import itertools
import statistics
import time

import numpy as np

from proteron.core.compiled import single_blas_thread
from proteron.core.forecasters.neural import engine, layers

SIZES = np.array([48, 64, 32, 1])
ROWS, BATCH, REPEATS = 10_000, 64, 15


def products(inputs: np.ndarray, weights: list[np.ndarray]) -> None:
    """The forward and backward products of one epoch, nothing else."""
    for start in range(0, ROWS, BATCH):
        flows = [inputs[start : start + BATCH]]
        for weight in weights:
            flows.append(flows[-1] @ weight)
        for layer in range(len(weights) - 1, -1, -1):
            flows[layer].T @ flows[layer + 1]
            if layer:
                flows[layer + 1] @ weights[layer].T


def main() -> None:
    rng = np.random.default_rng(0)
    inputs, targets = (rng.normal(size=(ROWS, width)).astype(np.float32) for width in (48, 1))
    weights = [rng.normal(size=(a, b)).astype(np.float32) for a, b in itertools.pairwise(SIZES)]
    parameters = engine.initial_parameters(SIZES, rng, np.float32)
    moments, gradient = np.zeros((2, len(parameters)), np.float32), np.empty_like(parameters)
    ratios = []
    with single_blas_thread():
        for repeat in range(REPEATS + 1):
            order = rng.permutation(ROWS)
            begun = time.perf_counter()
            engine.train_epoch(
                parameters, moments, gradient, inputs, targets, order, SIZES, layers.RELU, BATCH, 1e-3, 0.0, 0
            )
            middle = time.perf_counter()
            products(inputs, weights)
            if repeat:
                ratios.append((middle - begun) / (time.perf_counter() - middle))
    print(f"epoch of 48-64-32-1, batch 64, float32: {statistics.median(ratios):.2f} × the products alone")


if __name__ == "__main__":
    main()
