"""Compile, or load from the cache, every kernel a first request would otherwise wait for."""

import os
import threading
from pathlib import Path
from typing import Any

import numpy as np

from proteron.api.lines import extremes
from proteron.core.flatten import STAGES, Chain, LinearTrend, LoessSeasons, Log, PeriodMeans, SeasonalDifference
from proteron.core.forecasters import FORECASTERS, forecaster
from proteron.core.panel import Panel
from proteron.core.profile import periodogram, series_features
from proteron.core.windows import Rolling, WindowPlan

_LATER = 3.0
_QUICK: dict[str, dict[str, Any]] = {"arima": {"order": (1, 0, 1)}}


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


def warm_rooms() -> None:
    """Run the kernels of Profile and Flatten once: every stage, the tests, the features."""
    values = 10 + np.sin(np.arange(240.0)) + np.arange(240) / 100
    values[70] = np.nan
    panel = Panel.from_arrays({"a": values}, "2024-01-01", "1h")
    for stage in STAGES:
        fitted = Chain([stage()]).fit(panel, 200)
        lanes = fitted.lanes(panel, 0)
        fitted.undo(fitted.apply(panel))
        fitted.undo_ahead("a", np.zeros((1, 1, 3)), np.array([200]), 0, lanes)
    Chain([LinearTrend(method="tukey"), LoessSeasons(season_window=5)]).fit(panel, 200)
    series_features(panel, 0)
    periodogram(values)
    positive = Panel.from_arrays({"a": values}, "2014-01-01", "1 month")
    gappy = Panel.from_arrays({"a": np.where(np.arange(240) % 50 == 7, np.nan, values)}, "2014-01-01", "1 month")
    for each in FORECASTERS:
        kind = each.model_fields["kind"].default
        if kind not in ("ridge", "dense_network"):
            for one in (positive, gappy):
                forecaster(kind, **_QUICK.get(kind, {})).fit(one, 100, horizon=2).forecast(2)


def warm_rooms_aside() -> None:
    """`warm_rooms` in a thread of its own, a little later, so that neither the start nor the first page waits."""
    later = threading.Timer(_LATER, warm_rooms)
    later.daemon = True
    later.start()


def compiled_before() -> bool:
    """Whether the kernels of the rooms are in the cache of compiled code; says so from now on."""
    folder = os.environ.get("NUMBA_CACHE_DIR")
    if not folder:
        return False
    mark = Path(folder) / "rooms-compiled"
    if mark.exists():
        return True
    warm_rooms()
    mark.parent.mkdir(parents=True, exist_ok=True)
    mark.touch()
    return False
