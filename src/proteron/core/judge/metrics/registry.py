"""Every metric: one line here; and those of ranges, for any level."""

from proteron.core.judge.metrics.absolute import LARGEST, MAE, MEDIAN_ABSOLUTE, WAPE
from proteron.core.judge.metrics.bias import BIAS
from proteron.core.judge.metrics.density import LOG_SCORE
from proteron.core.judge.metrics.metric import Loss, Metric
from proteron.core.judge.metrics.percentage import MAPE, SMAPE
from proteron.core.judge.metrics.quantiles import CRPS, PINBALL
from proteron.core.judge.metrics.ranges import INTERVAL, coverage, width
from proteron.core.judge.metrics.scaled import MASE, RELATIVE, RMSSE
from proteron.core.judge.metrics.signs import SIGN, SIGN_OF_CHANGE
from proteron.core.judge.metrics.squared import MSE, NRMSE, R2, RMSE

METRICS: dict[str, Metric] = {
    metric.name: metric
    for metric in (
        MAE, RMSE, MASE, RMSSE, SMAPE, PINBALL, CRPS, MSE, NRMSE, BIAS, MEDIAN_ABSOLUTE, LARGEST, MAPE, WAPE, R2,
        RELATIVE, INTERVAL, LOG_SCORE, SIGN, SIGN_OF_CHANGE, coverage(0.8), coverage(0.95), width(0.8), width(0.95),
    )
}  # fmt: skip
DEFAULT_METRICS = ("mase", "rmse", "mae", "smape")
_OF_LEVELS = {"coverage": coverage, "width": width}


def metric_of(name: str) -> Metric | None:
    """A metric by its name, “coverage_60” or “width_99.5” too; None where there is none."""
    if name in METRICS:
        return METRICS[name]
    kind, _, percent = name.partition("_")
    try:
        level = round(float(percent) / 100, 10)
    except ValueError:
        return None
    found = _OF_LEVELS[kind](level) if kind in _OF_LEVELS and 0 < level < 1 else None
    return found if found is not None and found.name == name else None


def kept_losses(levels: tuple[float, ...]) -> list[Loss]:
    """Every loss that is kept of a cell with ranges at `levels`, each once."""
    at_levels = [make(level) for level in levels for make in _OF_LEVELS.values()]
    found = [metric.loss for metric in METRICS.values() if metric.name.partition("_")[0] not in _OF_LEVELS]
    return list({loss.name: loss for loss in [*found, *(metric.loss for metric in at_levels)]}.values())
