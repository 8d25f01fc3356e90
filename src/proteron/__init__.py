"""Proteron: honest forecasting of time series, as of any moment."""

from proteron.core import flatten, profile, windows
from proteron.core.anomalies import find_anomalies
from proteron.core.errors import InputError, LimitError, ProteronError, SettingsError, TooShortError, UnitsError
from proteron.core.experiment import Experiment, run_experiment
from proteron.core.flatten import Chain
from proteron.core.forecasters import Contender, forecaster, forecasters
from proteron.core.intake import read_panel, read_table
from proteron.core.judge import Folds, walk_forward
from proteron.core.leak_check import leak_check
from proteron.core.outlook import outlook
from proteron.core.panel import Panel
from proteron.core.windows import WindowPlan

__version__ = "0.1.0"
__all__ = [
    "Chain", "Contender", "Experiment", "Folds", "InputError", "LimitError", "Panel", "ProteronError",
    "SettingsError", "TooShortError", "UnitsError", "WindowPlan", "find_anomalies", "flatten", "forecaster",
    "forecasters", "leak_check", "outlook", "profile", "read_panel", "read_table", "run_experiment",
    "walk_forward", "windows",
]  # fmt: skip
