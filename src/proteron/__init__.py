"""Proteron: honest forecasting of time series, as of any moment."""

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from proteron.core import flatten, profile, windows
    from proteron.core.anomalies import find_anomalies
    from proteron.core.errors import InputError, LimitError, ProteronError, SettingsError, TooShortError, UnitsError
    from proteron.core.experiment import Experiment, run_experiment
    from proteron.core.flatten import Chain
    from proteron.core.forecasters import Contender, forecaster, forecasters
    from proteron.core.intake import Recipe, read_panel, read_table, write_panel
    from proteron.core.judge import Folds, walk_forward
    from proteron.core.leak_check import leak_check
    from proteron.core.outlook import outlook
    from proteron.core.panel import Panel
    from proteron.core.windows import WindowPlan

__version__ = "0.1.0"
__all__ = [
    "Chain", "Contender", "Experiment", "Folds", "InputError", "LimitError", "Panel", "ProteronError",
    "Recipe", "SettingsError", "TooShortError", "UnitsError", "WindowPlan", "find_anomalies", "flatten", "forecaster",
    "forecasters", "leak_check", "outlook", "profile", "read_panel", "read_table", "run_experiment",
    "walk_forward", "windows", "write_panel",
]  # fmt: skip

# Where each name lives; loaded at first use, so that light commands start without the compiled core.
_HOMES = {
    "anomalies": ("find_anomalies",),
    "errors": ("InputError", "LimitError", "ProteronError", "SettingsError", "TooShortError", "UnitsError"),
    "experiment": ("Experiment", "run_experiment"),
    "flatten": ("Chain",),
    "forecasters": ("Contender", "forecaster", "forecasters"),
    "intake": ("Recipe", "read_panel", "read_table", "write_panel"),
    "judge": ("Folds", "walk_forward"),
    "leak_check": ("leak_check",),
    "outlook": ("outlook",),
    "panel": ("Panel",),
    "windows": ("WindowPlan",),
}
_HOME_OF = {name: home for home, names in _HOMES.items() for name in names}


def __getattr__(name: str) -> Any:
    if name in ("flatten", "profile", "windows"):
        return import_module(f"proteron.core.{name}")
    if name in _HOME_OF:
        return getattr(import_module(f"proteron.core.{_HOME_OF[name]}"), name)
    raise AttributeError(f"module proteron has no attribute {name}")


def __dir__() -> list[str]:
    return sorted(__all__)
