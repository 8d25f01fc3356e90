"""Mean absolute error."""

import numpy as np

from proteron.core.judge.metrics.metric import Metric

MAE = Metric("mae", "MAE", "series", lambda scored: np.abs(scored.error))
