"""Told from squared errors: their mean, its root, beside the size of the truth, beside how much there is to explain."""

import numpy as np

from proteron.core.judge.metrics.metric import Loss, Metric

SQUARED = Loss("rmse", lambda scored: scored.error**2)

RMSE = Metric("rmse", "RMSE", "series", SQUARED, "√ mean of (f - y)²", "Hyndman & Koehler 2006", report=np.sqrt)
MSE = Metric("mse", "MSE", "square", SQUARED, "mean of (f - y)²", "Hyndman & Koehler 2006")
NRMSE = Metric(
    "nrmse", "normalised RMSE", "none", SQUARED, "√ mean of (f - y)² / mean of |y|", "Salinas et al. 2020, section 4",
    yardstick="size", relate=lambda mean, size: np.sqrt(mean) / size, undefined="the truth is zero there",
)  # fmt: skip
R2 = Metric(
    "r2", "R² out of sample", "none", SQUARED, "1 - Σ(f - y)² / Σ(y - m)², m the mean of what was known by the cutoff",
    "Campbell & Thompson 2008, eq. 1", larger=True, yardstick="spread", relate=lambda mean, spread: 1 - mean / spread,
    undefined="the truth stays at the mean of what was known",
)  # fmt: skip
