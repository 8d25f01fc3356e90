"""Compile, or load from the cache, every kernel a first request would otherwise wait for."""

import numpy as np

from proteron.api.lines import extremes
from proteron.core.flatten import Chain, Log, PeriodMeans, SeasonalDifference
from proteron.core.forecasters import forecaster
from proteron.core.panel import Panel
from proteron.core.windows import Rolling, WindowPlan


def warm_kernels() -> None:
    """Run each kernel once on a tiny panel."""
    values = 10 + np.sin(np.arange(120.0)) + np.arange(120) / 100
    panel = Panel.from_arrays({"a": values}, "2024-01-01", "1h")
    chain = Chain([Log(), PeriodMeans(period=24), SeasonalDifference(period=24)])
    plan = WindowPlan(lags=[1, 2, 5], rolling=[Rolling("mean", 4), Rolling("std", 4)])
    chain.fit(panel, 100).undo(chain.fit(panel, 100).apply(panel))
    plan.write(plan.rows_at(panel, np.array([10, 20]), np.array([0, 0])))
    plan.cut(panel)
    extremes(values, 0, len(values), 10)
    for name in ("seasonal_last_value", "ridge"):
        forecaster(name).fit(panel, 100, horizon=2).forecast(2)
    network = forecaster("dense_network", lags=[1, 2], hidden=[4], epochs=1)
    network.fit(panel, 100, horizon=2).forecast(2)
