"""Proteron: honest forecasting of time series, as of any moment."""

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from proteron.core import flatten, models, profile, windows
    from proteron.core.anomalies import Anomalies, Drill, Flag, Watching, drill, find_anomalies, load_watching, watch
    from proteron.core.brought import read_forecasts
    from proteron.core.errors import (
        InputError,
        LimitError,
        ProteronError,
        SettingsError,
        TooShortError,
        UnitsError,
        UnsettledWarning,
    )  # fmt: skip
    from proteron.core.experiment import Experiment, Judging, run_experiment
    from proteron.core.flatten import Chain, FittedChain
    from proteron.core.forecasters import Contender, FittedContender, Forecast, blend, forecaster, forecasters
    from proteron.core.forecasters.exporting import export_onnx
    from proteron.core.forecasters.saving import load_fitted, save_fitted
    from proteron.core.intake import Finding, Recipe, TableReading, read_panel, read_table, write_panel
    from proteron.core.judge import (
        METRICS,
        Board,
        BoardRow,
        Breakdown,
        Fold,
        Folds,
        Losses,
        Report,
        read_folds,
        vary,
        walk_forward,
    )
    from proteron.core.leak_check import LeakCheck, leak_check
    from proteron.core.outlook import Learned, Outlook, load_learned, outlook, save_learned, with_future
    from proteron.core.panel import Panel
    from proteron.core.search import SearchReport, search
    from proteron.core.windows import Table, WindowPlan

__version__ = "0.1.0"
__all__ = [
    "METRICS", "Anomalies", "Board", "BoardRow", "Breakdown", "Chain", "Contender", "DeclinedWarning", "Drill",
    "Experiment", "Finding", "FittedChain", "FittedContender", "Flag", "Fold", "Folds", "Forecast", "InputError",
    "Judging", "LeakCheck", "Learned", "LimitError", "Losses", "Outlook", "Panel", "ProteronError", "Recent", "Recipe",
    "Report", "Scenario", "SearchReport", "SettingsError", "Table", "TableReading", "TooShortError", "UnitsError",
    "UnsettledWarning", "Watching", "WindowPlan", "blend", "drill", "export_onnx", "find_anomalies", "flatten",
    "forecaster", "forecasters", "leak_check", "load_fitted", "load_learned", "load_watching", "models", "outlook",
    "profile", "read_folds", "read_forecasts", "read_panel", "read_table", "run_experiment", "save_fitted",
    "save_learned", "search", "vary", "walk_forward", "watch", "windows", "with_future", "write_panel",
]  # fmt: skip

# Where each name lives; loaded at first use, so that light commands start without the compiled core.
_HOMES = {
    "anomalies": ("Anomalies", "Drill", "Flag", "Watching", "drill", "find_anomalies", "load_watching", "watch"),
    "brought": ("read_forecasts",),
    "errors": (
        "DeclinedWarning",
        "InputError",
        "LimitError",
        "ProteronError",
        "SettingsError",
        "TooShortError",
        "UnitsError",
        "UnsettledWarning",
    ),
    "experiment": ("Experiment", "Judging", "run_experiment"),
    "flatten": ("Chain", "FittedChain"),
    "forecasters": ("Contender", "FittedContender", "Forecast", "blend", "forecaster", "forecasters"),
    "forecasters.exporting": ("export_onnx",),
    "forecasters.saving": ("load_fitted", "save_fitted"),
    "intake": ("Finding", "Recipe", "TableReading", "read_panel", "read_table", "write_panel"),
    "judge": (
        "METRICS",
        "Board",
        "BoardRow",
        "Breakdown",
        "Fold",
        "Folds",
        "Losses",
        "Report",
        "read_folds",
        "vary",
        "walk_forward",
    ),
    "leak_check": ("LeakCheck", "leak_check"),
    "outlook": ("Learned", "Outlook", "Recent", "Scenario", "load_learned", "outlook", "save_learned", "with_future"),
    "panel": ("Panel",),
    "search": ("SearchReport", "search"),
    "windows": ("Table", "WindowPlan"),
}
_HOME_OF = {name: home for home, names in _HOMES.items() for name in names}
_MODULES = ("flatten", "models", "profile", "windows")


def __getattr__(name: str) -> Any:
    if name in _MODULES:
        return import_module(f"proteron.core.{name}")
    if name in _HOME_OF:
        return getattr(import_module(f"proteron.core.{_HOME_OF[name]}"), name)
    raise AttributeError(f"module proteron has no attribute {name}")


def __dir__() -> list[str]:
    return sorted(__all__)
