"""Whether forecasts lie above or below the truth on the whole."""

from proteron.core.judge.metrics.metric import Loss, Metric

BIAS = Metric(
    "bias", "bias", "series", Loss("bias", lambda scored: scored.error), "mean of f - y", "Hyndman & Koehler 2006",
    nominal=0.0,
)  # fmt: skip
