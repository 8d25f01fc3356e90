"""Every metric: one line here, one file each."""

from proteron.core.judge.metrics.absolute import MAE
from proteron.core.judge.metrics.coverage import COVERAGE_80, COVERAGE_95
from proteron.core.judge.metrics.metric import Metric
from proteron.core.judge.metrics.percentage import SMAPE
from proteron.core.judge.metrics.quantiles import CRPS, PINBALL
from proteron.core.judge.metrics.scaled import MASE, RMSSE
from proteron.core.judge.metrics.squared import RMSE

METRICS: dict[str, Metric] = {
    metric.name: metric for metric in (MAE, RMSE, MASE, RMSSE, SMAPE, PINBALL, CRPS, COVERAGE_80, COVERAGE_95)
}
DEFAULT_METRICS = ("mase", "rmse", "mae", "smape")
