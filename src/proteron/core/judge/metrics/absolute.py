"""Told from the size of errors: its mean, its median, its largest, and beside the size of the truth."""

import numpy as np

from proteron.core.judge.metrics.metric import Loss, Metric

ABSOLUTE = Loss("mae", lambda scored: np.abs(scored.error))
NOTHING_TO_MEASURE_BY = "the truth is zero there"

MAE = Metric("mae", "MAE", "series", ABSOLUTE, "mean of |f - y|", "Hyndman & Koehler 2006")
MEDIAN_ABSOLUTE = Metric(
    "median_absolute", "median |error|", "series", ABSOLUTE, "median of |f - y|", "Hyndman & Koehler 2006",
    pooling="median",
)  # fmt: skip
LARGEST = Metric(
    "largest", "largest |error|", "series", ABSOLUTE, "largest |f - y|", "the maximum norm of errors", pooling="largest"
)
WAPE = Metric(
    "wape", "WAPE", "percent", ABSOLUTE, "100 Σ|f - y| / Σ|y|", "Kolassa & Schütz 2007", yardstick="size",
    relate=lambda mean, size: 100 * mean / size, undefined=NOTHING_TO_MEASURE_BY,
)  # fmt: skip
