"""Compile, or load from the cache, every kernel a first request would otherwise wait for."""

import os
import signal
import subprocess
import sys
import tempfile
import threading
from collections.abc import Callable
from pathlib import Path

import numpy as np

from proteron.api.lines import extremes
from proteron.cli.cluster import die_with_parent
from proteron.core.flatten import STAGES, Chain, LinearTrend, LoessSeasons, Log, PeriodMeans, SeasonalDifference
from proteron.core.forecasters import FORECASTERS, forecaster
from proteron.core.forecasters.warm import fit_once
from proteron.core.panel import Panel
from proteron.core.profile import periodogram, series_features
from proteron.core.windows import Rolling, WindowPlan

_LATER = 3.0
_ROOMS, _FORECASTERS = "rooms-compiled", "forecasters-compiled"


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


def warm_forecasters() -> None:
    """Fit every forecaster once, without gaps and with them."""
    for each in FORECASTERS:
        fit_once(each)


def warm_aside(warm_reading: Callable[[], None]) -> None:
    """Load what only some rooms need in a thread of its own, a little later, so that no first page waits."""

    def load() -> None:
        warm_reading()
        warm_rooms()
        if _mark(_FORECASTERS).exists():
            warm_forecasters()

    later = threading.Timer(_LATER, load)
    later.daemon = True
    later.start()


def compile_first() -> None:
    """Where nothing was ever compiled: the rooms at once, the forecasters in a process beside, at low priority."""
    if not _mark(_ROOMS).exists():
        warm_rooms()
        _done(_ROOMS)
    if not _mark(_FORECASTERS).exists():
        command = [sys.executable, "-m", "proteron.cli.main", "compile"]
        subprocess.Popen(command, stdin=subprocess.DEVNULL, preexec_fn=_behind)


def compile_forecasters() -> None:
    """Compile the forecasters into the cache; from then on processes load them when they start."""
    warm_forecasters()
    _done(_FORECASTERS)


def _behind() -> None:
    os.nice(10)
    die_with_parent(signal.SIGTERM)


def _mark(name: str) -> Path:
    """A file in the folder of compiled code that says what is there."""
    return Path(os.environ.get("NUMBA_CACHE_DIR", tempfile.gettempdir())) / name


def _done(name: str) -> None:
    mark = _mark(name)
    mark.parent.mkdir(parents=True, exist_ok=True)
    mark.touch()
