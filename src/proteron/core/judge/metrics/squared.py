"""Root mean squared error."""

import numpy as np

from proteron.core.judge.metrics.metric import Metric

RMSE = Metric("rmse", "RMSE", "series", lambda scored: scored.error**2, report=np.sqrt)
