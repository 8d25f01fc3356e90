"""Judging: folds, metrics, cells, losses and the board."""

from proteron.core.judge.blending import blend_of, fits_read, weights_of, with_members, with_members_of
from proteron.core.judge.board import Board, BoardRow, make_board, metric_of_skill, skill_metric_of
from proteron.core.judge.breakdowns import ErrorsInTime, errors_in_time, skills_by
from proteron.core.judge.calibration import Calibration, calibrate
from proteron.core.judge.cell import LEVELS, Cell, CellResult, Fit, robust_spread
from proteron.core.judge.cells import FLAT_SQUARE, compute_cell, compute_cells, expand, losses_of
from proteron.core.judge.criteria import Ranked, rank_by_criteria
from proteron.core.judge.designs import Folds
from proteron.core.judge.duel import Duel, duel, savings
from proteron.core.judge.entrants import EntrantFacts, Failure
from proteron.core.judge.evidence import DifferenceTest
from proteron.core.judge.folds import Fold, learned_by
from proteron.core.judge.folds_text import duration, duration_text, folds_text, read_folds
from proteron.core.judge.forecast_table import forecast_table
from proteron.core.judge.losses import Breakdown, Losses, Told, View, Weighting, losses_at
from proteron.core.judge.metrics import DEFAULT_METRICS, METRICS, Metric, Scored, metric_of, sign_table
from proteron.core.judge.variants import vary
from proteron.core.judge.walk_forward import (
    Report,
    check_judging,
    declined_in,
    gather_losses,
    optimism,
    process_context,
    reason_of,
    run_cells,
    walk_forward,
    without_main,
)
from proteron.core.judge.yardsticks import Yardsticks

__all__ = [
    "DEFAULT_METRICS",
    "FLAT_SQUARE",
    "LEVELS",
    "METRICS",
    "Board",
    "BoardRow",
    "Breakdown",
    "Calibration",
    "Cell",
    "CellResult",
    "DifferenceTest",
    "Duel",
    "EntrantFacts",
    "ErrorsInTime",
    "Failure",
    "Fit",
    "Fold",
    "Folds",
    "Losses",
    "Metric",
    "Ranked",
    "Report",
    "Scored",
    "Told",
    "View",
    "Weighting",
    "Yardsticks",
    "blend_of",
    "calibrate",
    "check_judging",
    "compute_cell",
    "compute_cells",
    "declined_in",
    "duel",
    "duration",
    "duration_text",
    "errors_in_time",
    "expand",
    "fits_read",
    "folds_text",
    "forecast_table",
    "gather_losses",
    "learned_by",
    "losses_at",
    "losses_of",
    "make_board",
    "metric_of",
    "metric_of_skill",
    "optimism",
    "process_context",
    "rank_by_criteria",
    "read_folds",
    "reason_of",
    "robust_spread",
    "run_cells",
    "savings",
    "sign_table",
    "skill_metric_of",
    "skills_by",
    "vary",
    "walk_forward",
    "weights_of",
    "with_members",
    "with_members_of",
    "without_main",
]  # fmt: skip
