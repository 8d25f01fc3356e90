"""Judging: folds, metrics, cells and the board."""

from proteron.core.judge.board import make_board
from proteron.core.judge.cells import LEVELS, Cell, CellResult, compute_cell, expand, robust_spread
from proteron.core.judge.folds import Fold, Folds
from proteron.core.judge.metrics import METRICS, Metric, naive_scale
from proteron.core.judge.walk_forward import Report, check_judging, run_cells, walk_forward

__all__ = [
    "LEVELS", "METRICS", "Cell", "CellResult", "Fold", "Folds", "Metric", "Report", "check_judging",
    "compute_cell", "expand", "make_board", "naive_scale", "robust_spread", "run_cells", "walk_forward",
]  # fmt: skip
